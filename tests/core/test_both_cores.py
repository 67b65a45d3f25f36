"""Two threads that share work: nothing is done twice or left out, order stays, and what goes wrong is heard."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest

from drover.core.both_cores import at_once, each_of, in_bands, in_halves, in_halves_from, in_shares


def test_the_helper_may_ask_for_two_at_once_itself():
    assert at_once(lambda: 1, lambda: at_once(lambda: 2, lambda: 3)) == (1, (2, 3))


def test_what_each_gives_comes_in_order_whoever_is_free_first():
    who, most = {}, threading.Event()

    def one(k):
        if k == 0:
            assert most.wait(30.0)  # the first keeps one of them busy
        who.setdefault(threading.get_ident(), []).append(k)
        if sum(map(len, who.values())) >= 5:
            most.set()
        return k * k

    assert each_of(*(lambda k=k: one(k) for k in range(9))) == [k * k for k in range(9)]
    assert sorted(k for ones in who.values() for k in ones) == list(range(9))
    assert each_of() == []
    busy = next(ones for ones in who.values() if 0 in ones)
    assert len(who) == 2 and len(busy) < 5  # the other did most of the rest


@pytest.mark.parametrize("count", [0, 1, 5, 6, 100])
def test_shares_and_halves_cover_all_once(count):
    spans = [(first, past) for first, past in in_shares(lambda first, past: (first, past), count)]
    assert [k for first, past in spans for k in range(first, past)] == list(range(count))
    halves = in_halves(lambda word, first, past: (word, first, past), count, "x")
    assert [k for _, first, past in halves for k in range(first, past)] == list(range(count))
    assert in_halves(lambda first, past: (first, past), count, cut=count) == ((0, count), (count, count))


def test_little_is_done_in_one_go_and_much_in_two():
    def span(first, past):
        return first, past

    assert in_halves_from(10, span, 9) == [(0, 9)]
    assert in_halves_from(10, span, 10) == [(0, 5), (5, 10)]


def test_every_row_lies_in_one_band():
    rows = np.zeros(97, np.int64)

    def kernel(out, first, past):
        out[first:past] += 1

    in_bands(kernel, 97, rows)
    assert (rows == 1).all()


@pytest.mark.parametrize("bad", [0, 1, 7])
def test_what_goes_wrong_in_either_thread_is_raised_and_the_helper_goes_on(bad):
    def one(k):
        time.sleep(0.002)
        if k == bad:
            raise ValueError(f"no {k}")
        return k

    with pytest.raises(ValueError, match=f"no {bad}"):
        each_of(*(lambda k=k: one(k) for k in range(8)))
    assert at_once(lambda: 1, lambda: 2) == (1, 2)
