"""Reads recordings: tables as NumPy arrays over the mapped file, also while it is being written."""
