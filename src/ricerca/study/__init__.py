"""The study file: subjects, rounds, runs and sources in one SQLite file."""

from ricerca.model.rounds import Round, Run, Subject
from ricerca.study.store import Study

__all__ = ["Round", "Run", "Study", "Subject"]
