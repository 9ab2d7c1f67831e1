"""High waters: found in the prediction, held against the nearest reading."""

REFINE_STEPS = 6


class HighWater:
    """One high water as predicted, and the reading nearest to it."""

    def __init__(self, hours, metres, nearest):
        self.hours = hours
        self.metres = metres
        self.nearest = nearest

    def error(self):
        """Predicted minus read, in metres."""
        return self.metres - self.nearest.metres


def predict(fit, readings):
    """Predicted height at the time of each reading."""
    return [fit.height_at(reading.hours) for reading in readings]


def peaks(heights):
    """Places where the water stops rising."""
    found = []
    for number in range(1, len(heights) - 1):
        if heights[number - 1] < heights[number] >= heights[number + 1]:
            found.append(number)
    return found


def refine(fit, low, high):
    """Hour of the highest water between two hours, by thirds."""
    for _ in range(REFINE_STEPS):
        third = (high - low) / 3
        left, right = low + third, high - third
        if fit.height_at(left) < fit.height_at(right):
            low = left
        else:
            high = right
    return (low + high) / 2


def nearest_reading(readings, hours):
    """The reading taken nearest to an hour."""
    best = readings[0]
    distance = abs(best.hours - hours)
    for reading in readings:
        apart = abs(reading.hours - hours)
        if apart < distance:
            best = reading
            distance = apart
    return best


def high_waters(fit, readings, heights):
    """All high waters of the year."""
    found = []
    hourly = readings[::4]
    for number in peaks(heights):
        hours = refine(fit, readings[number - 1].hours, readings[number + 1].hours)
        found.append(HighWater(hours, fit.height_at(hours), nearest_reading(hourly, hours)))
    return found


def mean_error(waters):
    """Mean size of the error of all high waters in metres."""
    return sum(abs(water.error()) for water in waters) / len(waters)
