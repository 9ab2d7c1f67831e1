"""How rounds are measured and judged: which functions to time, estimates with intervals, verdicts. Values and arrays only."""
