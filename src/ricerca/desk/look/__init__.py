"""Colours, bars, hints and layouts that every part of the window shares."""
