"""Starts programs: plain, recorded and line runs, with progress and an early end."""
