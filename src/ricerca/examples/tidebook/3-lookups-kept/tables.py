"""The printed tide table."""

MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]
MONTH_DAYS = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31]


def month_and_day(hours):
    """Month number and day of the month of an hour of the year."""
    day = int(hours // 24)
    for month, days in enumerate(MONTH_DAYS):
        if day < days:
            return month, day + 1
        day -= days
    return 11, 31


def clock(hours):
    """Time of day as text."""
    minutes = int(round((hours % 24) * 60))
    return f"{minutes // 60 % 24:02d}:{minutes % 60:02d}"


def date(hours):
    """Date as text."""
    month, day = month_and_day(hours)
    return f"{day:2d} {MONTHS[month]}"


def format_row(reading, height):
    """One row of the table."""
    mark = "*" if reading.filled else " "
    return f"{date(reading.hours)} {clock(reading.hours)} {height:6.2f} {reading.metres:6.2f}{mark}"


def tide_table(readings, heights):
    """The whole table as one text."""
    rows = []
    append, row = rows.append, format_row
    for reading, height in zip(readings, heights):
        append(row(reading, height))
    return "\n".join(rows) + "\n"


def water_rows(waters):
    """One line a high water."""
    return [f"{date(water.hours)} {clock(water.hours)} {water.metres:5.2f} m ({water.error():+.2f})" for water in waters]


def crossing_rows(crossings):
    """One line a crossing."""
    return [f"{date(one.start)} {clock(one.start)} to {clock(one.end)}" for one in crossings]
