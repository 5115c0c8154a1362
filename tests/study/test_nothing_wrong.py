"""Studies from outside, keys of results, copies and marks: what may not be let in, lost or wrong."""

import json
import os
import threading
import time
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.vector import write_shapes
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.study.autosave import MOST_OLD, Autosave, process_started
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study, file_name
from moss_step.study.held import Held
from moss_step.study.record import lineage
from moss_step.study.saving import load_study, save_study
from tests.conftest import write_tif


def text_of(**changes: object) -> str:
    step = {"id": "g", "kind": "open_grid", "settings": {"source": "a.tif"}, **changes}
    return json.dumps({"moss_step_study": 1, "name": "A", "steps": [step]})


@pytest.mark.parametrize("step_id", ["../../x", "/x", "a/b", "a.b", "", "..", "a\nb", "x y", "é"])
def test_an_id_is_letters_digits_and_dashes(step_id, tmp_path):
    (tmp_path / "a.moss").write_text(text_of(id=step_id))
    with pytest.raises(MossError):
        load_study(tmp_path / "a.moss")


@pytest.mark.parametrize(
    "name", ["../../x", "/" * 300, "ä/ö\\", "x" * 5000, "\u202e", "", ".", "..", "CON\0", "a\nb"]
)
def test_names_of_files_are_safe_and_short(name):
    made = file_name(name)
    assert made and len(made.encode()) <= 120 and not set(made) & set("/\\\0\n") and made.strip(".") == made


def test_a_chain_of_differences_keeps_short_names(tmp_path):
    steps = [Step(id="g", kind="open_grid", settings={"source": "a.tif"})]
    for k in range(12):
        steps.append(
            Step(id=f"d{k}", kind="difference", inputs={"first": steps[-1].id, "second": steps[-1].id})
        )
    study = Study(name="Long", steps=tuple(steps))
    assert all(len(study.name_of(s.id)) <= 120 for s in study.steps)


@pytest.mark.parametrize(
    "text",
    [
        "", "null", "[]", "{", "[" * 100_000, '{"moss_step_study": true}', '{"moss_step_study": ' + "9" * 6000 + "}", text_of(settings={"source": "a\0b"})[:-3],
        text_of(kind="no_such"), text_of(inputs={"dem": "g"}), text_of(inputs={"wrong": "g"}), text_of(settings=[]), text_of(id=None),
    ],
)  # fmt: skip
def test_what_is_no_study_is_said_in_words(text, tmp_path):
    (tmp_path / "a.moss").write_text(text)
    with pytest.raises(MossError):
        load_study(tmp_path / "a.moss")


def test_a_chain_of_a_thousand_steps_and_a_ladder_of_diamonds_have_keys_at_once(hills_tif, tmp_path):
    """A ladder of diamonds has 2**n ways through it."""
    steps = [Step(id="g", kind="open_grid", settings={"source": str(hills_tif)})]
    for k in range(1000):
        steps.append(
            Step(id=f"d{k}", kind="difference", inputs={"first": steps[-1].id, "second": steps[-1].id})
        )
    study = Study(name="Ladder", steps=tuple(steps))
    save_study(study, tmp_path / "ladder.moss")
    loaded, engine = load_study(tmp_path / "ladder.moss"), Engine()
    engine.look(loaded, ["d999"])
    began = time.process_time()
    keys = {engine.key(loaded, s.id) for s in loaded.steps}
    assert len(keys) == 1001 and None not in keys
    assert time.process_time() - began < 5.0, "2**1000 ways would never end"


def test_the_order_of_inputs_is_part_of_the_key(tmp_path):
    """Of grids to merge the first one counts where they overlap."""
    for name, value in (("one", 1.0), ("two", 2.0)):
        write_tif(tmp_path / f"{name}.tif", np.full((4, 4), value, np.float32))
    steps = tuple(
        Step(id=n, kind="open_grid", settings={"source": str(tmp_path / f"{n}.tif")}) for n in ("one", "two")
    )
    engine = Engine()

    def first_cell(inputs: dict[str, str]) -> float:
        study = Study(steps=(*steps, Step(id="m", kind="merge", inputs=inputs)))
        return float(engine.run_or_raise(study, "m").value.values[0, 0])

    assert first_cell({"a": "one", "b": "two"}) == 1.0
    assert first_cell({"a": "two", "b": "one"}) == 2.0
    assert first_cell(dict(reversed({"a": "one", "b": "two"}.items()))) == 2.0


def shapefile(folder):
    import pyogrio

    path = folder / "places.shp"
    pyogrio.raw.write(
        path,
        shapely.to_wkb(np.array([shapely.Point(1, 1)], object)),
        [np.array([1.0])],
        ["v"],
        driver="ESRI Shapefile",
        geometry_type="Point",
        crs="EPSG:32628",
    )
    return path


def touched(path, content: bytes) -> None:
    path.write_bytes(content)
    os.utime(path, ns=(time.time_ns() + 10**9, time.time_ns() + 10**9))


def test_every_file_of_a_source_is_part_of_the_key(tmp_path):
    """Of shapes the table and the system, of a grid what lies beside it, of a virtual grid its sources."""
    shp, grid = shapefile(tmp_path), write_tif(tmp_path / "ground.tif", np.ones((4, 4), np.float32))
    (tmp_path / "virtual.vrt").write_text(
        "<VRTDataset rasterXSize='4' rasterYSize='4'><VRTRasterBand dataType='Float32' band='1'><SimpleSource>"
        "<SourceFilename relativeToVRT='1'>ground.tif</SourceFilename><SourceBand>1</SourceBand></SimpleSource></VRTRasterBand></VRTDataset>"
    )
    study = Study(steps=(
        Step(id="s", kind="open_shapes", settings={"source": str(shp)}), Step(id="g", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
        Step(id="v", kind="open_grid", settings={"source": str(tmp_path / "virtual.vrt")}),
    ))  # fmt: skip
    engine = Engine()
    changes = {
        "s": [
            (shp.with_suffix(".dbf"), shp.with_suffix(".dbf").read_bytes() + b" "),
            (shp.with_suffix(".prj"), b"LOCAL_CS[]"),
        ],
        "g": [
            (tmp_path / "ground.tif.aux.xml", b"<PAMDataset/>"),
            (tmp_path / "ground.tfw", b"1\n0\n0\n-1\n0\n0\n"),
        ],
        "v": [(tmp_path / "ground.tif", (tmp_path / "ground.tif").read_bytes() + b" ")],
    }
    assert grid
    for step, files in changes.items():
        for file, content in files:
            engine.look(study, ["s", "g", "v"])
            before = engine.key(study, step)
            touched(file, content)
            assert engine.look(study, ["s", "g", "v"]), f"{file.name} is seen to be another"
            assert engine.key(study, step) not in (None, before), file.name


def test_no_key_touches_a_file(hills_tif, monkeypatch):
    """What the window paints asks for keys: a file on a slow disk may not hold it up."""
    study = Study(
        steps=(
            Step(id="g", kind="open_grid", settings={"source": str(hills_tif)}),
            Step(id="s", kind="slope", inputs={"dem": "g"}),
        )
    )
    engine = Engine()
    engine.run(study, ["s"])
    touched: list[str] = []
    for name in ("stat", "open", "is_file", "exists"):
        usual = getattr(Path, name)
        monkeypatch.setattr(
            Path,
            name,
            lambda path, *a, _n=name, _u=usual, **k: touched.append(f"{_n} {path}") or _u(path, *a, **k),
        )
    changed = study.changing("s", lambda s: s.model_copy(update={"settings": {"unit": "percent"}}))
    states = engine.state(study, "s"), engine.state(changed, "s")
    monkeypatch.undo()
    assert states == ("done", "waiting") and touched == []


def test_two_threads_that_want_one_result_wait_for_one_run(hills_tif):
    study = Study(
        steps=(
            Step(id="g", kind="open_grid", settings={"source": str(hills_tif)}),
            Step(id="s", kind="slope", inputs={"dem": "g"}),
        )
    )
    engine, told = Engine(), []

    def slow(step: str) -> None:
        told.append(step)
        time.sleep(0.2)

    threads = [threading.Thread(target=engine.run, args=(study, ["s"], Progress(), slow)) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert told == ["g", "s"] and engine.state(study, "s") == "done"


def test_old_copies_are_kept_and_not_without_end(tmp_path):
    for k in range(MOST_OLD + 5):
        saver = Autosave(tmp_path)
        saver.write(Study(name=f"Work {k}"), None)
        saver.clear()
        os.utime(
            next(p for p in saver.old.iterdir() if f"Work {k}" in p.read_text()),
            (time.time() + k - 100, time.time() + k - 100),
        )
    kept = [json.loads(p.read_text())["study"]["name"] for p in saver.old.iterdir()]
    assert len(kept) == MOST_OLD and f"Work {MOST_OLD + 4}" in kept and "Work 0" not in kept


def test_a_study_that_another_program_has_open_is_told(tmp_path):
    path = tmp_path / "a.moss"
    ours = Held(tmp_path)
    assert not ours.take(path)
    mark = next((tmp_path / "open").glob("*.json"))
    init = {"pid": 1, "started": process_started(1), "study": str(path)}
    assert not Held(tmp_path).take(path), "this program may open it again"
    mark.write_text(json.dumps(init))
    assert Held(tmp_path).take(path)
    mark.write_text(json.dumps({**init, "started": "0"}))
    assert not Held(tmp_path).take(path), "one that ended holds nothing"


def test_shapes_of_a_system_without_a_way_are_refused_in_words(tmp_path):
    from moss_step.formats.vector import in_system

    local = 'LOCAL_CS["site",LOCAL_DATUM["site",0],UNIT["metre",1],AXIS["x",EAST],AXIS["y",NORTH]]'
    with pytest.raises(MossError, match="no way"):
        in_system(Shapes(np.array([shapely.Point(1, 1)], object), {}, local), "EPSG:32628")
    with pytest.raises(MossError, match="does not reach"):
        in_system(Shapes(np.array([shapely.Point(1e12, 1)], object), {}, "EPSG:32628"), "EPSG:4326")
    write_shapes(tmp_path / "a.gpkg", Shapes(np.array([shapely.Point(1, 1)], object), {}, None))


def test_a_name_from_a_study_file_cannot_forge_a_line_of_its_lineage():
    steps = (
        Step(
            id="a",
            kind="open_grid",
            settings={"source": "a.tif"},
            name="Ground\n- volume = 99999 m³\u2028\x1b[2J",
        ),
    )
    text = lineage(Study(name="Hill\r## 9. Forged", steps=steps), "a", Engine())
    assert not any(line.startswith(("- volume", "## 9")) for line in text.splitlines()) and "\x1b" not in text
