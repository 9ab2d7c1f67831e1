"""Tidal constituents: their speeds, fitting them to readings, and the water they predict."""

import math

# Speeds of the heavens, in degrees an hour
MOTIONS = {
    "moon_day": 14.49205212,
    "moon": 0.54901653,
    "sun": 0.04106864,
    "perigee": 0.00464183,
    "node": 0.00220641,
}

# How often each motion goes into a constituent
CONSTITUENTS = {
    "M2": {"moon_day": 2},
    "S2": {"moon_day": 2, "moon": 2, "sun": -2},
    "N2": {"moon_day": 2, "moon": -1, "perigee": 1},
    "K2": {"moon_day": 2, "moon": 2},
    "K1": {"moon_day": 1, "moon": 1},
    "O1": {"moon_day": 1, "moon": -1},
    "M4": {"moon_day": 4},
    "MS4": {"moon_day": 4, "moon": 2, "sun": -2},
}


def speed_of(name):
    """Speed of a constituent in degrees an hour."""
    return sum(times * MOTIONS[motion] for motion, times in CONSTITUENTS[name].items())


def angle_at(name, hours):
    """Angle of a constituent in radians."""
    return math.radians(speed_of(name) * hours % 360.0)


def basis_row(hours):
    """The values that the unknowns are multiplied with at one hour: level, then cosine and sine of each."""
    row = [1.0]
    for name in CONSTITUENTS:
        angle = angle_at(name, hours)
        row.append(math.cos(angle))
        row.append(math.sin(angle))
    return row


def add_to_normal(matrix, right, row, metres):
    """Add one reading to the normal equations."""
    for i, value in enumerate(row):
        right[i] += value * metres
        line = matrix[i]
        for j in range(i, len(row)):
            line[j] += value * row[j]


def mirror(matrix):
    """Fill the lower half of a symmetric matrix from its upper half."""
    for i in range(len(matrix)):
        for j in range(i):
            matrix[i][j] = matrix[j][i]


def largest_row(matrix, column):
    """The row at or below the diagonal with the largest entry in a column."""
    return max(range(column, len(matrix)), key=lambda i: abs(matrix[i][column]))


def solve(matrix, right):
    """Solve linear equations by elimination with row exchange."""
    size = len(matrix)
    rows = [line[:] + [right[i]] for i, line in enumerate(matrix)]
    for column in range(size):
        pivot = largest_row(rows, column)
        rows[column], rows[pivot] = rows[pivot], rows[column]
        for i in range(column + 1, size):
            factor = rows[i][column] / rows[column][column]
            for j in range(column, size + 1):
                rows[i][j] -= factor * rows[column][j]
    found = [0.0] * size
    for i in reversed(range(size)):
        rest = sum(rows[i][j] * found[j] for j in range(i + 1, size))
        found[i] = (rows[i][size] - rest) / rows[i][i]
    return found


class Fit:
    """Fitted mean level, and the size and phase of each constituent."""

    def __init__(self, level, waves):
        self.level = level
        self.waves = waves

    def height_at(self, hours):
        """Predicted height in metres."""
        height = self.level
        for name, (size, phase) in self.waves.items():
            height += size * math.cos(angle_at(name, hours) - phase)
        return height

    def report(self):
        """One line a constituent, the largest first."""
        ordered = sorted(self.waves.items(), key=lambda item: -item[1][0])
        return [
            f"  {name:<4} {speed_of(name):9.4f} deg/h  {size:6.3f} m  {math.degrees(phase) % 360:6.1f} deg"
            for name, (size, phase) in ordered
        ]


def fit_station(readings, every=4):
    """Least squares over every fourth reading, which is one an hour."""
    size = 1 + 2 * len(CONSTITUENTS)
    matrix = [[0.0] * size for _ in range(size)]
    right = [0.0] * size
    for reading in readings[::every]:
        add_to_normal(matrix, right, basis_row(reading.hours), reading.metres)
    mirror(matrix)
    found = solve(matrix, right)
    waves = {}
    for number, name in enumerate(CONSTITUENTS):
        a, b = found[1 + 2 * number], found[2 + 2 * number]
        waves[name] = (math.hypot(a, b), math.atan2(b, a))
    return Fit(found[0], waves)
