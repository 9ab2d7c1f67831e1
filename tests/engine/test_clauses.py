"""Clauses by typing: what is offered fits what is typed, can be read, and says its time."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ricerca.engine.clauses import CHARGED, CLOCK, INSIDE, LEVEL, THREAD, WITHOUT, names_of, offers
from ricerca.engine.profile import build_profile
from ricerca.engine.ranking import function_figures
from ricerca.engine.reading import EVERYTHING, Reading, named, parse, read, unknown_names

from .test_reading import profiles
from .trees import tables_of

law = settings(max_examples=80, deadline=None)


@pytest.fixture
def profile():
    tables = tables_of([-1, 0, 1, 1, 3], [0, 1, 2, 3, 4], [0, 10, 500, 40, 60], names=["start", "main", "fit", "save", "dumps"])
    tables = replace(tables, function_module=("", "app", "app.core", "app.core", "json"))
    return build_profile(tables, ("mine", "mine", "mine", "mine", "standard library"))


@pytest.fixture
def names(profile):
    return names_of(profile, function_figures(profile))


def kinds(found):
    return [(offer.kind, offer.name, offer.time_ns) for offer in found]


def test_a_function_is_offered_inside_without_and_charged_with_its_time(names):
    assert kinds(offers(names, EVERYTHING, "fi")) == [(INSIDE, "fit", 500), (WITHOUT, "fit", 500), (CHARGED, "fit", 500)]
    assert offers(names, EVERYTHING, "fi")[0].reading == parse("inside fit")


def test_a_word_before_the_name_chooses_the_kind(names):
    assert kinds(offers(names, EVERYTHING, "inside sa")) == [(INSIDE, "save", 100)]
    assert kinds(offers(names, EVERYTHING, "without sa")) == [(WITHOUT, "save", 100)]
    assert kinds(offers(names, EVERYTHING, "charge standard")) == [(CHARGED, "standard library", 60)]


def test_modules_and_packages_can_be_named(names, profile):
    found = offers(names, EVERYTHING, "inside app.core")
    assert kinds(found) == [(INSIDE, "app.core", 540)]
    assert read(profile, found[0].reading).total_ns == 600, "what functions of the module call is below them"
    assert named(profile, "app").tolist() == [False, True, True, True, False]
    assert unknown_names(profile, parse("inside json")) == ()


def test_regions_are_found_by_that_word(names):
    assert kinds(offers(names, EVERYTHING, "region")) == []
    with_region = replace(names, regions=frozenset({"fit"}))
    assert kinds(offers(with_region, EVERYTHING, "inside region")) == [(INSIDE, "fit", 500)]
    assert kinds(offers(with_region, EVERYTHING, "region sa")) == []


def test_clocks_levels_and_threads_are_offered(names):
    assert (CLOCK, "on-CPU time", -1) in kinds(offers(names, EVERYTHING, "cpu"))
    assert (LEVEL, "by module", -1) in kinds(offers(names, EVERYTHING, "modu"))
    assert any(offer.kind == THREAD for offer in offers(names, EVERYTHING, names.threads[0][0][:4].lower()))


def test_what_is_there_already_is_not_offered_again(names):
    reading = Reading(inside=("fit",))
    assert (INSIDE, "fit", 500) not in kinds(offers(names, reading, "fit"))
    assert kinds(offers(names, EVERYTHING, "")) == [] == kinds(offers(names, EVERYTHING, "inside"))


@law
@given(profiles(), st.text("abcfmnpsz. <>", min_size=1, max_size=6))
def test_every_offer_is_a_reading_of_names_that_the_run_has(profile, text):
    found = offers(names_of(profile, function_figures(profile)), EVERYTHING, text)
    assert len({offer.reading for offer in found}) == len(found)
    for offer in found:
        assert unknown_names(profile, offer.reading) == ()
        assert parse(offer.reading.text) == offer.reading
        assert 0 <= read(profile, offer.reading).total_ns <= np.abs(profile.total_ns)
