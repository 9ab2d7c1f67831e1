"""What the person wants of a recording that is under way (see docs/formats.md)."""

CONTROL_GO, CONTROL_PAUSE, CONTROL_FINISH = 0, 1, 2
