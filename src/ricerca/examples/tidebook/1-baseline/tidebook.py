"""Tidebook: a year of gauge readings in, the tide table and the crossings of the causeway out.

    python tidebook.py readings.csv [table.txt]
"""

import sys

import causeway
import harmonics
import readings as gauge
import tables
import waters


def summary(readings, counts, fit, high, crossings):
    """What is printed at the end."""
    gaps, spikes = counts
    best = causeway.longest(crossings)
    lines = [
        f"{len(readings)} readings, {gaps} gaps filled, {spikes} spikes taken out",
        f"mean level {gauge.mean_level(readings):.3f} m, fitted {fit.level:.3f} m",
        *fit.report(),
        f"{len(high)} high waters, mean error {waters.mean_error(high):.3f} m; the first three:",
        *("  " + row for row in tables.water_rows(high[:3])),
        f"{len(crossings)} crossings, the longest lasts {best.hours():.2f} h; the first three:",
        *("  " + row for row in tables.crossing_rows(crossings[:3])),
    ]
    return "\n".join(lines)


def run(path, table_path=None):
    """The whole job."""
    readings = gauge.read_file(path)
    counts = gauge.clean(readings)
    fit = harmonics.fit_station(readings)
    heights = waters.predict(fit, readings)
    high = waters.high_waters(fit, readings, heights)
    crossings = causeway.crossings(readings, heights)
    table = tables.tide_table(readings, heights)
    if table_path:
        with open(table_path, "w") as file:
            file.write(table)
    return summary(readings, counts, fit, high, crossings)


def main(arguments):
    """Entry point; gives the exit status."""
    if not 1 <= len(arguments) <= 2:
        print(__doc__.strip(), file=sys.stderr)
        return 2
    try:
        print(run(*arguments))
    except (OSError, gauge.BadReadings) as problem:
        print(f"tidebook: {problem}", file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
