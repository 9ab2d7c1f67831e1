"""The study file: subjects, rounds, runs and sources in one SQLite file."""

from ricerca.study.store import Round, Run, Study, Subject

__all__ = ["Round", "Run", "Study", "Subject"]
