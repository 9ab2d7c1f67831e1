"""The first reading of a run: charged to one's own code where that tells something, else where the time is spent."""

from __future__ import annotations

import pytest

from ricerca.engine.first_look import CHARGED, MANY_FUNCTIONS, own_code_tells, where_spent
from ricerca.engine.layers import with_package
from ricerca.engine.levels import FUNCTION, MODULE
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import read

from .trees import tables_of


def profile(self_ns, names, layers):
    """A run in which the root calls the first function and that one all others."""
    count = len(self_ns)
    parents = [-1, 0] + [1] * (count - 2)
    return build_profile(tables_of(parents, list(range(count)), self_ns, names=names), layers)


def tells(self_ns, names, layers):
    charged = read(profile(self_ns, names, layers), CHARGED)
    return own_code_tells(charged, function_figures(charged))


@pytest.mark.parametrize(
    ("self_ns", "names", "layers", "expected"),
    [
        ([0, 10, 500, 490], ["start", "<module>", "load", "fit"], ["mine"] * 4, True),
        ([0, 10, 980, 10], ["start", "<module>", "load", "fit"], ["mine"] * 4, True),
        ([0, 10, 990, 0], ["start", "<module>", "load", "fit"], ["mine"] * 4, False),
        ([0, 950, 25, 25], ["start", "<module>", "load", "fit"], ["mine"] * 4, False),
        ([0, 10, 900, 90], ["start", "<module>", "parse", "render"], ["mine", "mine", "packages", "packages"], False),
        ([0, 0, 0], ["start", "a", "b"], ["mine"] * 3, False),
    ],
    ids=["two functions", "one of two holds nearly all", "one function", "a notebook-like body", "a script over a library", "nothing ran"],
)
def test_own_code_tells_where_several_functions_of_it_hold_time(self_ns, names, layers, expected):
    assert tells(self_ns, names, layers) is expected


def test_modules_are_read_first_where_the_time_is_spread_over_hundreds_of_functions():
    many = MANY_FUNCTIONS * 2
    spread = profile([0, 1] + [100] * many, ["start", *(f"f{n}" for n in range(many + 1))], ["mine"] * (many + 2))
    assert where_spent(function_figures(spread)).level == MODULE
    few_hold_it = profile([0, 10**9] + [1] * many, ["start", *(f"f{n}" for n in range(many + 1))], ["mine"] * (many + 2))
    assert where_spent(function_figures(few_hold_it)).level == FUNCTION


def test_a_package_that_is_run_by_its_name_is_mine_only_where_nothing_else_is():
    modules, kinds = ["tool", "tool.core", "toolbox", "tool"], [1, 1, 1, 2]
    assert with_package(["packages", "packages", "packages", "builtins"], modules, kinds, "tool") == (
        "mine",
        "mine",
        "packages",
        "builtins",
    )
    own = ("mine", "packages", "packages", "builtins")
    assert with_package(own, modules, kinds, "tool") == own
