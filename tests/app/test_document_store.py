"""The document of a window: one kind of step, undone and done again; the newest result belongs to no step."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from drover.app.document_store import DocumentStore
from drover.core.count.audit import Audit, Missed, with_added
from drover.core.document import Document, KeptRun
from drover.core.footage_types import ClipInfo
from drover.core.recipe import Recipe, parse_recipe, with_value

CLIP = ClipInfo("a.mp4", 200, 100, 25.0, np.arange(9) / 25, "abc")


@pytest.fixture
def store(qapp) -> DocumentStore:
    made = DocumentStore()
    made.open(Document(CLIP, recipe_text="# mine\n[track.match]\ngate = 7.0\n"))
    return made


def gate(document: Document, value: float) -> Document:
    return document.with_recipe(with_value(document.recipe, "track.match.gate", value))


def run_of(key: str, short_run) -> KeptRun:
    return KeptRun(Recipe(), key, "t", "c", short_run.detect, short_run.tracks, short_run.crossings)


def test_every_kind_of_change_is_undone_and_done_again(store):
    told = []
    store.replaced.connect(lambda before, after: told.append((before, after)))
    steps = [
        lambda d: gate(d, 3.0),
        lambda d: replace(d, audit=with_added(Audit(), Missed("Gap", 1, 2.0, 50))),
        lambda d: replace(d, span=(2, 5)),
    ]
    states = [store.document]
    for number, step in enumerate(steps):
        store.change(step(store.document), f"step {number}")
        states.append(store.document)
    assert store.undo.count() == 3 and store.undo.undoText() == "step 2"
    for state in states[-2::-1]:
        store.undo.undo()
        for name in ("recipe", "audit", "span"):
            assert getattr(store.document, name) is getattr(state, name)
    for state in states[1:]:
        store.undo.redo()
        assert store.document.span == state.span and store.document.recipe == state.recipe
    assert all(after is not before for before, after in told)


def test_a_finished_result_is_no_step_and_survives_undoing(store, short_run):
    store.change(gate(store.document, 3.0), "gate")
    run = run_of("first", short_run)
    store.keep_latest(run)
    assert store.undo.count() == 1
    store.undo.undo()
    assert store.document.latest is run
    store.keep_latest(replace(run))
    assert store.document.latest is run, "the same result again is not another"
    store.keep_latest(run_of("second", short_run))
    assert store.document.latest.detect_key == "second"


def test_edits_are_noted_once_and_given_back_when_they_could_not_be_written(store):
    store.change(gate(store.document, 3.0), "set gate")
    store.change(gate(store.document, 4.0), "set gate")
    edits = store.take_edits()
    assert [what for what, _, _ in edits] == ["set gate", "set gate"]
    assert [after.recipe.track.match.gate for _, _, after in edits] == [3.0, 4.0]
    assert store.take_edits() == []
    store.give_back(edits)
    assert store.take_edits() == edits


def test_comments_of_the_recipe_outlive_edits_and_the_text_is_that_of_the_recipe(store):
    document = gate(gate(store.document, 3.0), 2.5)
    assert document.text.startswith("# mine\n")
    assert parse_recipe(document.text) == document.recipe


def test_opening_another_document_leaves_nothing_to_undo(store):
    store.change(gate(store.document, 3.0), "gate")
    store.open(Document(CLIP))
    assert not store.undo.canUndo() and store.take_edits() == []
    assert store.document.recipe == Recipe()


def test_runs_are_named_apart_and_what_is_held_goes_with_its_run(store, short_run):
    run = replace(run_of("k", short_run), name="held")
    two = store.document.with_run(run, held=True).with_run(run, held=True)
    assert [kept.name for kept in two.runs] == ["held", "held 2"] and two.held_run is two.runs[1]
    assert two.without_run("held 2").held_run is None
    assert two.without_run("held").held_run is two.runs[1]
