"""Ricerca: exact recordings of programs, read as sentences, compared round by round."""

__version__ = "0.1.0"
