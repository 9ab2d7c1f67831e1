"""The heart: from contexts to rankings, neighbours, lines, trees and comparisons.

Pure functions over arrays. No files, no clock, no interface.
"""
