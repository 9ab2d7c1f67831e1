"""Gauge readings: reading the file, taking out spikes, filling gaps."""

import csv

WINDOW = 121
SPIKE_METRES = 0.6


class Reading:
    """One reading of the gauge: hours since the start of the year, and metres."""

    def __init__(self, hours, metres):
        self.hours = hours
        self.metres = metres
        self.filled = False

    def __repr__(self):
        return f"Reading({self.hours}, {self.metres})"


class BadReadings(Exception):
    """The file holds something else than readings."""


def parse_row(row, number):
    """A reading from one row of the file; metres is None where the gauge gave nothing."""
    try:
        hours = float(row["hours"])
        text = row["metres"].strip()
        metres = float(text) if text else None
    except (KeyError, ValueError) as problem:
        raise BadReadings(f"row {number}: {problem}") from None
    return Reading(hours, metres)


def read_file(path):
    """All readings of a file, in order."""
    with open(path, newline="") as file:
        readings = [parse_row(row, number) for number, row in enumerate(csv.DictReader(file), 2)]
    if not readings:
        raise BadReadings(f"{path} is empty")
    return readings


def fill_gaps(readings):
    """Fill missing readings on a straight line between their neighbours. Returns how many."""
    count = 0
    last = None
    for number, reading in enumerate(readings):
        if reading.metres is not None:
            last = number
            continue
        after = next((n for n in range(number + 1, len(readings)) if readings[n].metres is not None), None)
        if last is None or after is None:
            neighbour = readings[after if last is None else last]
            reading.metres = neighbour.metres
        else:
            before, behind = readings[last], readings[after]
            share = (reading.hours - before.hours) / (behind.hours - before.hours)
            reading.metres = before.metres + share * (behind.metres - before.metres)
        reading.filled = True
        last = number
        count += 1
    return count


def metres_of(reading):
    """Sort key."""
    return reading.metres


def rolling_mid(readings, window=WINDOW):
    """Median of the readings around each reading."""
    half = window // 2
    mids = []
    for number in range(len(readings)):
        around = readings[max(0, number - half) : number + half + 1]
        around = sorted(around, key=metres_of)
        mids.append(around[len(around) // 2].metres)
    return mids


def neighbours_mean(readings, number):
    """Mean of the two readings beside one, for a first guess of what it should have been."""
    before = readings[max(0, number - 1)].metres
    behind = readings[min(len(readings) - 1, number + 1)].metres
    return (before + behind) / 2


def is_spike(readings, mids, number):
    """Whether a reading stands out from both its neighbours and the hours around it."""
    metres = readings[number].metres
    if abs(metres - neighbours_mean(readings, number)) < SPIKE_METRES:
        return False
    spread = abs(mids[number] - metres)
    return spread > SPIKE_METRES / 2


def remove_spikes(readings):
    """Replace spikes by the mean of their neighbours. Returns how many there were."""
    mids = rolling_mid(readings)
    spikes = [number for number in range(1, len(readings) - 1) if is_spike(readings, mids, number)]
    for number in spikes:
        readings[number].metres = neighbours_mean(readings, number)
        readings[number].filled = True
    return len(spikes)


def clean(readings):
    """Fill gaps, take out spikes. Returns the counts of both."""
    return fill_gaps(readings), remove_spikes(readings)


def mean_level(readings):
    """Mean of all readings in metres."""
    return sum(reading.metres for reading in readings) / len(readings)
