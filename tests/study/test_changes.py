"""A study changed at random: nothing dangles, nothing is lost, and each state comes back by undo, by saving and by loading."""

import json
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from moss_step.model.errors import MossError
from moss_step.study.autosave import MOST_OLD, Autosave
from moss_step.study.graph import KeyRow, Step, Study
from moss_step.study.history import History
from moss_step.study.saving import from_data, load_study, save_study

ON_GROUND = {
    "slope": "dem",
    "aspect": "dem",
    "hillshade": "dem",
    "curvature": "dem",
    "viewshed": "dem",
    "flow_accumulation": "dem",
}


class Changing(RuleBasedStateMachine):
    """What a person does to the trail, with all that was kept beside it to compare with."""

    def __init__(self) -> None:
        super().__init__()
        self.history = History(Study(name="Changing"))
        self.past, self.at = [self.history.study], 0
        self.folder = Path(tempfile.mkdtemp())

    @property
    def study(self) -> Study:
        return self.history.study

    def do(self, study: Study, what: str) -> None:
        if study != self.study:
            del self.past[self.at + 1 :]
            self.past.append(study)
            self.at += 1
        self.history.do(study, what)

    @rule()
    def open_a_ground(self) -> None:
        step = Step(
            id=self.study.fresh_id("open_grid"),
            kind="open_grid",
            settings={"source": str(self.folder / "ground.tif")},
        )
        self.do(self.study.adding(step), "open")

    @precondition(lambda self: self.study.steps)
    @rule(kind=st.sampled_from(sorted(ON_GROUND)), data=st.data())
    def derive(self, kind: str, data: st.DataObject) -> None:
        source = data.draw(st.sampled_from([s.id for s in self.study.steps]))
        self.do(
            self.study.adding(
                Step(id=self.study.fresh_id(kind), kind=kind, inputs={ON_GROUND[kind]: source})
            ),
            "derive",
        )

    @precondition(lambda self: self.study.steps)
    @rule(data=st.data(), name=st.text(max_size=20))
    def rename(self, data: st.DataObject, name: str) -> None:
        step = data.draw(st.sampled_from([s.id for s in self.study.steps]))
        self.do(self.study.changing(step, lambda s: s.model_copy(update={"name": name})), "rename")

    @precondition(lambda self: self.study.steps)
    @rule(data=st.data())
    def remove(self, data: st.DataObject) -> None:
        step = data.draw(st.sampled_from([s.id for s in self.study.steps]))
        gone = {step, *self.study.followers(step)}
        left = self.study.removing(step)
        assert {s.id for s in self.study.steps} - {s.id for s in left.steps} == gone
        self.do(left, "remove")

    @precondition(lambda self: self.study.steps)
    @rule(data=st.data())
    def duplicate(self, data: st.DataObject) -> None:
        step = data.draw(st.sampled_from([s.id for s in self.study.steps]))
        made, fresh = self.study.duplicating(step)
        assert made.step(fresh).inputs == self.study.step(step).inputs and not self.study.has(fresh)
        self.do(made, "duplicate")

    @precondition(lambda self: self.study.steps)
    @rule(data=st.data(), opacity=st.floats(0, 1))
    def show(self, data: st.DataObject, opacity: float) -> None:
        step = data.draw(st.sampled_from([s.id for s in self.study.steps]))
        self.do(self.study.with_key_row(KeyRow(step=step, opacity=opacity)), "show")

    @rule()
    def undo(self) -> None:
        self.at = max(self.at - 1, 0)
        self.history.undo()
        assert self.study == self.past[self.at]

    @rule()
    def redo(self) -> None:
        self.at = min(self.at + 1, len(self.past) - 1)
        self.history.redo()
        assert self.study == self.past[self.at]

    @rule()
    def save_and_load(self) -> None:
        path = self.folder / "changing.moss"
        save_study(self.study, path)
        assert load_study(path) == self.study
        sources = [
            s["settings"]["source"]
            for s in json.loads(path.read_text()).get("steps", [])
            if s["kind"] == "open_grid"
        ]
        assert set(sources) <= {"ground.tif"}, "paths are kept relative to the study"

    @rule()
    def autosave(self) -> None:
        keeper = Autosave(self.folder)
        keeper.write(self.study, None)
        file = next((self.folder / "autosave").glob("*.json"))
        assert from_data(json.loads(file.read_text())["study"], file) == self.study
        assert not keeper.left_behind(), "this program still runs"
        data = json.loads(file.read_text()) | {"started": "0"}  # as one that ended left it
        file.write_text(json.dumps(data))
        assert [r.study for r in keeper.left_behind()] == [self.study]
        keeper.clear()
        assert not list((self.folder / "autosave").glob("*.json"))
        copies = list((self.folder / "autosave" / "old").iterdir())
        assert 1 <= len(copies) <= MOST_OLD, "old copies are kept, and not without end"

    @invariant()
    def nothing_dangles(self) -> None:
        ids = [s.id for s in self.study.steps]
        assert len(ids) == len(set(ids))
        assert all(self.study.has(i) for s in self.study.steps for i in s.inputs.values())
        assert all(self.study.has(row.step) for row in self.study.key)

    @invariant()
    def steps_come_after_what_feeds_them(self) -> None:
        seen: set[str] = set()
        for step in self.study.in_order():
            assert set(step.inputs.values()) <= seen
            seen.add(step.id)
        assert seen == {s.id for s in self.study.steps}

    @invariant()
    def followers_are_those_that_need_a_step(self) -> None:
        for step in self.study.steps:
            following = set(self.study.followers(step.id))
            assert following == {
                s.id
                for s in self.study.steps
                if s.id != step.id and step.id in {n.id for n in self.study.needs([s.id])}
            }


TestChanging = Changing.TestCase
TestChanging.settings = settings(max_examples=40, stateful_step_count=25, deadline=None)


def saved(folder: Path) -> str:
    study = Study(
        name="Damaged",
        steps=(
            Step(id="g", kind="open_grid", settings={"source": "g.tif"}),
            Step(id="s", kind="slope", inputs={"dem": "g"}),
        ),
    )
    save_study(study, folder / "whole.moss")
    return (folder / "whole.moss").read_text()


def load_text(folder: Path, text: str | bytes) -> Study | None:
    """Load what may be damaged: a study, or None after a plain message; the file stays as it was."""
    path = folder / "damaged.moss"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    before = path.read_bytes()
    try:
        return load_study(path)
    except MossError as error:
        assert "damaged.moss" in str(error) or "study" in str(error).lower()
        assert error.do, "it says what to do"
        return None
    finally:
        assert path.read_bytes() == before, "a file that cannot be read is left as it is"


@given(st.data())
@settings(max_examples=150, deadline=None)
def test_a_study_file_cut_or_scribbled_on_is_refused_or_still_a_study(data):
    with tempfile.TemporaryDirectory() as name:
        whole = saved(Path(name)).encode()
        start = data.draw(st.integers(0, len(whole)))
        end = data.draw(st.integers(start, len(whole)))
        load_text(Path(name), whole[:start] + data.draw(st.binary(max_size=12)) + whole[end:])


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda c: st.lists(c, max_size=3) | st.dictionaries(st.text(max_size=6), c, max_size=3),
    max_leaves=8,
)


@given(st.data(), JSON)
@settings(max_examples=150, deadline=None)
def test_a_study_file_with_any_value_in_any_place_is_refused_or_still_a_study(data, value):
    with tempfile.TemporaryDirectory() as name:
        content = json.loads(saved(Path(name)))
        holder, key = content, data.draw(st.sampled_from(sorted(content)))
        while isinstance(holder[key], dict | list) and holder[key] and data.draw(st.booleans()):
            holder = holder[key]
            key = data.draw(
                st.sampled_from(sorted(holder) if isinstance(holder, dict) else range(len(holder)))
            )
        holder[key] = value
        loaded = load_text(Path(name), json.dumps(content))
        if loaded is not None:
            assert all(loaded.has(i) for s in loaded.steps for i in s.inputs.values())


@pytest.mark.parametrize("deep", [2_000, 200_000])
def test_a_study_file_of_endless_brackets_is_refused(tmp_path, deep):
    assert load_text(tmp_path, "[" * deep) is None
    assert load_text(tmp_path, '{"a":' * deep + "1" + "}" * deep) is None


def test_a_circle_of_steps_is_refused(tmp_path):
    content = json.loads(saved(tmp_path))
    content["steps"][0] |= {"kind": "slope", "settings": {}, "inputs": {"dem": "s"}}
    assert load_text(tmp_path, json.dumps(content)) is None
