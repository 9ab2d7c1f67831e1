"""Columns share the width of a table: content first, the important ones always, laws on random wishes."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from ricerca.desk.pages.column_room import ALWAYS, Wish, share_out


@st.composite
def wishes(draw):
    count = draw(st.integers(1, 7))
    made = [Wish("what", draw(st.integers(150, 400)), least=150, elastic=True)]
    for number in range(count):
        wanted = draw(st.integers(30, 130))
        made.append(Wish(f"c{number}", wanted, draw(st.integers(0, 5)), least=draw(st.sampled_from([0, wanted // 2]))))
    return made


@given(wishes(), st.integers(100, 1500))
def test_the_width_is_used_and_not_passed_where_anything_can_give_way(made, room):
    widths = share_out(made, room)
    by_key = {wish.key: wish for wish in made}
    assert "what" in widths
    assert {wish.key for wish in made if wish.importance == ALWAYS} <= set(widths)
    least = sum(by_key[key].least or by_key[key].wanted for key in widths)
    assert sum(widths.values()) == max(room, least)
    for key, width in widths.items():
        assert width >= (by_key[key].least or by_key[key].wanted)
        assert key == "what" or width <= by_key[key].wanted


@given(wishes(), st.integers(100, 1500))
def test_the_least_important_go_first(made, room):
    widths = share_out(made, room)
    gone = [wish.importance for wish in made if wish.key not in widths]
    stayed = [wish.importance for wish in made if wish.key in widths and not wish.elastic]
    assert not gone or min(gone) >= max([importance for importance in stayed if importance != ALWAYS], default=0)


@given(wishes(), st.integers(100, 1500), st.data())
def test_what_a_person_chose_counts(made, room, data):
    others = [wish.key for wish in made if not wish.elastic]
    wanted = data.draw(st.lists(st.sampled_from(others), unique=True))
    unwanted = [key for key in others if key not in wanted]
    widths = share_out(made, room, wanted, unwanted)
    assert set(widths) == {"what", *wanted}
