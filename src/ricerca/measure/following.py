"""Which functions' lines are followed by themselves: the slowest of the person's own code."""

from __future__ import annotations

import numpy as np

from ricerca.engine.agreement import plain_name
from ricerca.engine.first_look import CHARGED
from ricerca.engine.layers import MINE, layers_of
from ricerca.engine.own_layers import OwnLayer, with_own_layers
from ricerca.engine.profile import KIND_PYTHON, Profile, build_profile
from ricerca.engine.ranking import FunctionFigures, function_figures
from ricerca.engine.reading import read
from ricerca.model.rounds import Subject
from ricerca.model.run_tables import RunTables

MOST_FUNCTIONS, LEAST_SHARE = 12, 0.01
"""How many functions are followed at most, and the share of the run that one must take itself, with the library code it calls."""
QUALIFIED_SINCE = (3, 11)
"""Since this version the interpreter knows the qualified name of a function while it runs."""


def lines_to_follow(tables: RunTables, subject: Subject, own: tuple[OwnLayer, ...] = ()) -> tuple[str, ...]:
    """The names of the functions whose lines are worth following, from a recorded run; empty where there are none.

    Parameters
    ----------
    own : tuple of OwnLayer
        The layers that the person made.
    """
    tree = tables.function, tables.parent
    found = layers_of(tables.function_file, tables.function_module, tables.function_kind.tolist(), subject.roots, tree)
    layers = with_own_layers(found, own, tables.function_module, tables.function_name, tables.function_file)
    charged = read(build_profile(tables, layers), CHARGED)
    return patterns(charged, functions_to_follow(charged, function_figures(charged)), tables.facts.python)


def functions_to_follow(charged: Profile, figures: FunctionFigures) -> np.ndarray:
    """Numbers of the Python functions of one's own code that take most, the slowest first.

    Parameters
    ----------
    charged : Profile
        The run with other people's time charged to one's own code.
    figures : FunctionFigures
        Of that profile.
    """
    table = charged.functions
    own = (np.asarray(table.layer) == MINE) & (np.asarray(table.kind) == KIND_PYTHON)
    worth = own & (figures.self_ns >= LEAST_SHARE * max(charged.total_ns, 1))
    chosen = np.flatnonzero(worth)
    return chosen[np.argsort(-figures.self_ns[chosen], kind="stable")][:MOST_FUNCTIONS]


def patterns(charged: Profile, chosen: np.ndarray, python: str) -> tuple[str, ...]:
    """By what names the recorder of an interpreter of this version knows them."""
    qualified = tuple(int(part) for part in python.split(".")[:2]) >= QUALIFIED_SINCE
    names = [charged.functions.name[number] for number in chosen.tolist()]
    return tuple(dict.fromkeys(name if qualified else plain_name(name) for name in names))
