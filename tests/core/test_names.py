"""Names as they are shown and sorted."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.names import MOST_NAME, natural_order, plain_name


def in_order(*names: str) -> bool:
    return sorted(set(names), key=natural_order) == list(names)


def test_names_sort_as_a_person_would_count_them():
    assert in_order("clip 2", "clip 10", "clip 100")
    assert in_order("a1b2", "a1b10", "a2b1", "a10b1")
    assert in_order("Shot1.png", "shot2.png", "SHOT10.png"), "however they are written"
    assert in_order("left", "left 1", "right")
    assert in_order("x7", "x" + "9" * 5000), "a number of any length"


@given(st.lists(st.text(max_size=12), max_size=6))
def test_any_names_have_one_order_and_it_does_not_depend_on_how_they_came(names):
    once = sorted(names, key=natural_order)
    keys = [natural_order(name) for name in once]
    assert keys == sorted(natural_order(name) for name in reversed(names))


@pytest.mark.parametrize(
    ("given_name", "shown"),
    [("Gap", "Gap"), ("  Gap\t", "Gap"), ("a\nb", "a b"), ("\x1b[31mred", "[31mred"), ("‮abc", "abc"),
     ("é ü 羊", "é ü 羊"), (7, "7"), (None, "None"), ("", "")],
)  # fmt: skip
def test_a_name_is_one_line_of_plain_text(given_name, shown):
    assert plain_name(given_name) == shown


@given(st.text(max_size=300))
def test_a_name_is_short_and_printable_and_shown_again_the_same(text):
    shown = plain_name(text)
    assert len(shown) <= MOST_NAME and all(c.isprintable() for c in shown)
    assert plain_name(shown) == shown
