"""When the causeway to Marrowick island can be crossed."""

DRY_BELOW_METRES = 2.35
SAFETY_HOURS = 0.5
LEAST_HOURS = 1.0


class Crossing:
    """A stretch of time in which the causeway is dry."""

    def __init__(self, start, end):
        self.start = start
        self.end = end

    def hours(self):
        """How long it lasts."""
        return self.end - self.start

    def usable(self):
        """Whether it is long enough to cross and come back safely."""
        return self.hours() >= LEAST_HOURS


def dry_stretches(readings, heights):
    """Stretches in which the predicted water stays below the causeway."""
    stretches = []
    start = None
    for reading, height in zip(readings, heights):
        if height < DRY_BELOW_METRES:
            if start is None:
                start = reading.hours
        elif start is not None:
            stretches.append((start, reading.hours))
            start = None
    return stretches


def crossings(readings, heights):
    """Crossings with the safety margin taken off at both ends."""
    found = []
    for start, end in dry_stretches(readings, heights):
        crossing = Crossing(start + SAFETY_HOURS, end - SAFETY_HOURS)
        if crossing.usable():
            found.append(crossing)
    return found


def longest(found):
    """The longest crossing of the year."""
    return max(found, key=Crossing.hours)
