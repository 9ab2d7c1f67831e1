"""The column of rounds, the sheet that makes the next one, and what runs in turn."""
