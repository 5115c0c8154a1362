import json
import subprocess
import sys
from pathlib import Path

import pytest

from moss_step.model.errors import MossError
from moss_step.study.autosave import Autosave
from moss_step.study.engine import Engine
from moss_step.study.graph import KeyRow, Step, Study
from moss_step.study.history import History
from moss_step.study.record import lineage
from moss_step.study.saving import WITHOUT_PAGES, load_study, save_study


def chain() -> Study:
    return Study(steps=(
        Step(id="g", kind="open_grid", settings={"source": "/d/ground.tif"}),
        Step(id="s", kind="slope", inputs={"dem": "g"}, settings={"unit": "percent"}),
        Step(id="c", kind="classify", inputs={"surface": "s"}),
        Step(id="a", kind="aspect", inputs={"dem": "g"}),
    ), key=(KeyRow(step="c", opacity=0.5), KeyRow(step="a")))  # fmt: skip


def test_results_name_themselves_from_what_they_did():
    study = chain()
    assert [study.name_of(i) for i in "gsca"] == [
        "Ground", "Slope, percent, of Ground", "Classes of Slope, percent, of Ground", "Aspect of Ground"]  # fmt: skip
    assert (
        study.changing("g", lambda s: s.model_copy(update={"name": "Moss"})).name_of("s")
        == "Slope, percent, of Moss"
    )


def test_removing_takes_what_depends_on_it():
    study = chain().removing("s")
    assert [s.id for s in study.steps] == ["g", "a"] and [k.step for k in study.key] == ["a"]
    assert chain().followers("g") == ["s", "c", "a"]


def test_duplicating_gives_a_step_of_its_own():
    study, fresh = chain().duplicating("s")
    assert fresh == "slope-1" and study.step(fresh).inputs == {"dem": "g"}
    assert study.name_of(fresh).endswith(", copy")


def test_undo_and_redo():
    history = History(Study())
    history.do(chain(), "Add")
    for opacity in (0.1, 0.2, 0.3):
        history.do(history.study.with_key_row(KeyRow(step="c", opacity=opacity)), "Opacity", join=True)
    assert (history.undo_text, history.redo_text) == ("Opacity", "")
    history.undo()
    assert history.study == chain(), "one drag is one change"
    history.redo()
    assert history.study.key_row("c").opacity == 0.3
    history.undo()
    history.undo()
    assert history.study == Study() and history.redo_text == "Add"


def test_a_study_file_is_readable_relative_and_whole(tmp_path):
    (tmp_path / "data").mkdir()
    study = chain().changing(
        "g", lambda s: s.model_copy(update={"settings": {"source": str(tmp_path / "data/g.tif")}})
    )
    save_study(study, tmp_path / "moss.moss")
    data = json.loads((tmp_path / "moss.moss").read_text())
    assert data["moss_step_study"] == WITHOUT_PAGES and data["steps"][0]["settings"]["source"] == "data/g.tif"
    assert load_study(tmp_path / "moss.moss") == study
    moved = tmp_path / "elsewhere"
    moved.mkdir()
    (tmp_path / "moss.moss").rename(moved / "moss.moss")
    assert load_study(moved / "moss.moss").step("g").settings["source"] == str(moved / "data/g.tif")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("{", "is damaged or no study"),
        ("[1]", "is not a Moss Step study"),
        ('{"moss_step_study": 99, "steps": []}', "written by a newer Moss Step (study version 99"),
        ('{"moss_step_study": 1, "steps": 5}', "is damaged at steps"),
        (
            '{"moss_step_study": 1, "steps": [{"id": "a", "kind": "slope", "inputs": {"dem": "a"}}]}',
            "depends on itself",
        ),
        ('{"moss_step_study": 1, "steps": [{"id": "a", "kind": "teleport"}]}', "does not know"),
        (
            '{"moss_step_study": 1, "steps": [{"id": "a", "kind": "slope", "settings": {"unit": "x"}}]}',
            "unit: 'x'",
        ),
        ("[" * 100_000, "is damaged or no study"),
    ],
)
def test_damaged_and_newer_studies_are_refused_and_left(tmp_path, text, said):
    path = tmp_path / "bad.moss"
    path.write_text(text)
    with pytest.raises(MossError) as caught:
        load_study(path)
    assert (said in str(caught.value) and "left as it is" in str(caught.value)) or "Choose a file" in str(
        caught.value
    )
    assert path.read_text() == text


def test_an_autosave_outlives_a_kill(tmp_path):
    code = (
        "import os, signal, sys; from pathlib import Path; from moss_step.study.autosave import Autosave\n"
        "from moss_step.study.graph import Study, Step\n"
        "Autosave(Path(sys.argv[1])).write(Study(name='Lost', steps=(Step(id='a', kind='slope'),)), Path('/d/x.moss'))\n"
        "os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    subprocess.run([sys.executable, "-c", code, str(tmp_path)], check=False)
    found = Autosave(tmp_path).left_behind()
    assert [(f.study.name, f.saved_as) for f in found] == [("Lost", Path("/d/x.moss"))]
    living = Autosave(tmp_path)
    living.write(Study(name="Living"), None)
    assert [f.study.name for f in Autosave(tmp_path).left_behind()] == ["Lost"], (
        "a program that runs keeps its own"
    )
    living.clear()


def test_the_record_tells_how_a_number_came_about(hills_tif):
    engine = Engine()
    study = chain().changing("g", lambda s: s.model_copy(update={"settings": {"source": str(hills_tif)}}))
    engine.run(study, ["c"])
    text = lineage(study, "c", engine)
    for part in ("## 1. Hills", "## 2. Slope, percent, of Hills", "Unit: percent", str(hills_tif), "content of the file",
                 "WGS 84 / UTM zone 28N (EPSG:32628)", "area_m2 = ", "Included end: upper"):  # fmt: skip
        assert part in text, part
    assert "Aspect" not in text
