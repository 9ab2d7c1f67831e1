"""Makes up a year of gauge readings for the harbour of Marrowick. The same seed gives the same year."""

import csv
import math
import random
import sys

START_HOUR = 0.0
STEP_HOURS = 0.25
DAYS = 365

# height in metres, speed in degrees an hour, phase in degrees
MADE_UP_TIDE = [
    (1.52, 28.9841, 112.0),
    (0.51, 30.0000, 154.0),
    (0.29, 28.4397, 95.0),
    (0.14, 30.0821, 151.0),
    (0.11, 15.0411, 201.0),
    (0.09, 13.9430, 187.0),
    (0.07, 57.9682, 33.0),
    (0.05, 58.9841, 71.0),
]
MEAN_LEVEL = 3.12


def height_at(hours):
    """Height of the made-up water in metres."""
    height = MEAN_LEVEL
    for size, speed, phase in MADE_UP_TIDE:
        height += size * math.cos(math.radians(speed * hours - phase))
    return height


def weather(rng, last):
    """A slow surge that wanders about zero."""
    return 0.995 * last + rng.gauss(0.0, 0.008)


def make(path, seed=1847):
    """Write the readings; some are spikes, some are missing."""
    rng = random.Random(seed)
    surge = 0.0
    with open(path, "w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["hours", "metres"])
        for number in range(int(DAYS * 24 / STEP_HOURS)):
            hours = START_HOUR + number * STEP_HOURS
            surge = weather(rng, surge)
            metres = height_at(hours) + surge + rng.gauss(0.0, 0.015)
            chance = rng.random()
            if chance < 0.004:
                metres += rng.choice([-1, 1]) * rng.uniform(1.5, 4.0)
            if chance > 0.998:
                writer.writerow([f"{hours:.2f}", ""])
            else:
                writer.writerow([f"{hours:.2f}", f"{metres:.3f}"])


if __name__ == "__main__":
    make(sys.argv[1] if len(sys.argv) > 1 else "readings.csv")
