"""Results within a budget of memory, and on disk: what goes first, what comes back, and what is never run twice."""

import gc
import json
import threading
import weakref
from pathlib import Path

import numpy as np
import psutil
import pytest
import shapely

from moss_step.cli import main
from moss_step.model.chart import Chart
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.units import METRE, SQUARE_METRE
from moss_step.science.water.drainage import Drainage, prepare, prepared
from moss_step.study import engine as engines
from moss_step.study import shelf as shelves
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.shelf import Shelf
from moss_step.study.store import LEAST, SETTING, SHARE, Store, budget_from
from tests.conftest import write_tif
from tests.grounds import metric, relief

FRAME = Frame(30, 40, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628")


def outcome(cells: int = 250, kind: type = np.float32) -> Outcome:
    frame = Frame(1, cells, 0.0, 1.0, 1.0, 1.0, None)
    return Outcome(Surface(np.zeros((1, cells), kind), frame, METRE), "a figure")


@pytest.fixture
def study(hills_tif):
    return Study(
        steps=(
            Step(id="g", kind="open_grid", settings={"source": str(hills_tif)}),
            Step(id="s", kind="slope", inputs={"dem": "g"}),
            Step(id="a", kind="aspect", inputs={"dem": "g"}),
            Step(id="c", kind="classify", inputs={"surface": "s"}, settings={"rules": "equal_interval"}),
        )
    )


@pytest.fixture
def slow(monkeypatch):
    """As if every step were worth writing down."""
    monkeypatch.setattr(engines, "WORTH_SHELVING", -1.0)
    monkeypatch.setattr(engines, "SHELF_SPEED", 1e30)


def ran(engine: Engine, study: Study, targets="gsac", **more: object) -> list[str]:
    told: list[str] = []
    engine.run(study, list(targets), None, told.append, **more)
    return told


# --- in memory


def test_passing_results_go_first_then_what_is_worked_out_from_others_then_the_cheapest_a_byte():
    store = Store(most_bytes=10_000)
    store.put("dear", outcome(), 10.0)
    store.put("cheap", outcome(), 0.1)
    store.put("passing", outcome(), 100.0, passing=True)
    prepared_bytes = type("Made", (), {"nbytes": 8_000})
    store.get("dear").value.derived.make(prepared_bytes, prepared_bytes)
    assert store.nbytes == 11_000
    store.trim(set())
    assert "passing" not in store and "cheap" in store and store.get("dear").value.derived.nbytes == 8_000
    store.put("more", outcome(500), 1.0)
    store.trim(set())
    assert store.get("dear").value.derived.nbytes == 0 and {
        k for k in ("dear", "cheap", "more") if k in store
    } == {"dear", "cheap", "more"}
    store.put("much", outcome(2000), 1.0)
    store.trim({"more"})
    assert "cheap" not in store and "dear" in store and "more" in store
    assert store.said("cheap").figure == "a figure", "what it said is kept"


def test_results_not_used_for_long_go_in_the_end_however_dear_they_were():
    store = Store(most_bytes=3_000)
    store.put("dear", outcome(), 5.0)
    for k in range(40):
        store.put(f"n{k}", outcome(), 1.0)
        store.trim({f"n{k}"})
    assert "dear" not in store


def test_every_byte_is_counted():
    ground = metric(relief(3, 200, 180))
    store = Store()
    store.put("g", Outcome(ground, ""), 1.0)
    before = store.nbytes
    made = prepare(ground)
    assert store.nbytes - before == made.nbytes > 5 * ground.values.size
    double = Surface(ground.values.astype(np.float64) + 4000.0, ground.frame, METRE)
    store.put("d", Outcome(double, ""), 1.0)
    before = store.nbytes
    _ = double.levelled
    assert store.nbytes - before == ground.values.nbytes


def test_a_budget_is_a_share_of_what_is_free_or_what_is_asked_for(monkeypatch):
    free = psutil.virtual_memory().available
    assert budget_from("", 0) == pytest.approx(SHARE * free, rel=0.2)
    assert budget_from("", 2 * free) == pytest.approx(3 * SHARE * free, rel=0.2), (
        "what results hold already counts as free"
    )
    assert (
        budget_from("1.5", 0) == 1_500_000_000
        and budget_from("0.001", 0) == LEAST
        and budget_from("much", 0) > LEAST
    )
    monkeypatch.setenv(SETTING, "2")
    assert Store().budget == 2_000_000_000


def test_a_ground_is_prepared_once_for_two_that_ask_and_goes_with_the_ground():
    ground, found = metric(relief(3, 300, 280)), []
    askers = [threading.Thread(target=lambda: found.append(prepare(ground))) for _ in range(4)]
    for asker in askers:
        asker.start()
    for asker in askers:
        asker.join()
    assert len({id(f) for f in found}) == 1 and prepared(ground) is found[0]
    ground.derived.clear()
    assert prepared(ground) is None and isinstance(prepare(ground), Drainage)


def test_a_new_study_gives_the_memory_back(study):
    engine = Engine()
    ran(engine, study)
    prepare(engine.outcome(study, "g").value)
    left = weakref.ref(engine.outcome(study, "g").value)
    engine.keep_only(Study())
    gc.collect()
    assert engine.store.nbytes == 0 and left() is None


def test_a_run_over_the_budget_holds_what_it_needs_and_a_second_one_runs_nothing(study, hills):
    engine = Engine(most_bytes=int(hills.nbytes * 1.2))
    assert ran(engine, study) == ["g", "s", "a", "c"]
    assert all(engine.said(study, i) is not None and engine.state(study, i) == "done" for i in "gsac")
    assert ran(engine, study, wanted=[]) == [], "the same run twice must not thrash"
    assert engine.store.nbytes <= hills.nbytes * 1.2
    assert any(engine.away(study, i) for i in "gsac")
    assert engine.run_or_raise(study, "a").value.values.shape == hills.shape


def test_what_was_let_go_is_worked_out_again_only_as_far_as_it_is_wanted(study):
    engine = Engine()
    ran(engine, study)
    for i in "sg":
        engine.store._let_go(engine.key(study, i))
    assert ran(engine, study, wanted=["s"]) == ["g", "s"]
    assert ran(engine, study, wanted=["c"]) == []


# --- on disk


def values() -> list[object]:
    rng = np.random.default_rng(0)
    codes = rng.integers(0, 3, FRAME.shape).astype(np.uint8)
    area = shapely.Polygon([(0, 0), (4, 0), (4, 4)], [[(2, 1), (3, 1), (3, 2)]])
    columns = {
        "name": np.array(["a", "ü", None], object),
        "height": np.array([1.0, np.nan, 3.0]),
        "n": np.arange(3),
        "u": np.array(["x", "yy", "z"]),
    }
    return [
        Surface(rng.random(FRAME.shape).astype(np.float32), FRAME, METRE, "slope"),
        Surface(rng.random(FRAME.shape), FRAME, METRE),
        ClassMap(codes, FRAME, (ClassEntry(0, "low", "#112233", "to 5"), ClassEntry(2, "<b>", "#000000"))),
        Shapes(
            np.array([area, shapely.Point(1, 2), shapely.from_wkt("LINESTRING Z (0 0 1, 1 1 2)")], object),
            columns,
            "EPSG:32628",
            {"height": "m"},
        ),
        Shapes(np.empty(0, object), {}, None),
        Table({"stage": np.linspace(0, 1, 5), "name": np.array(list("abcde"), object)}, {"stage": METRE}),
        Chart(
            {"stage": np.linspace(0, 1, 5), "area": np.arange(5.0), "name": np.array(list("abcde"), object)},
            {"stage": METRE},
            "stage",
            ("area",),
        ),
    ]


@pytest.mark.parametrize("number", range(7))
def test_a_result_comes_back_from_disk_as_it_was(tmp_path, number):
    value, shelf = values()[number], Shelf(tmp_path / "shelf")
    given = Outcome(
        value,
        "a – b",
        (Finding("area_m2", np.float64(2.5), SQUARE_METRE, "low"), Finding("cells", 3)),
        ("note",),
    )
    assert shelf.write("k", given)
    back = Shelf(tmp_path / "shelf").read("k")
    assert (back.figure, back.findings, back.warnings) == (given.figure, given.findings, given.warnings)
    for name in ("frame", "quantity", "classes", "crs", "symbols", "units", "x", "y"):
        assert getattr(back.value, name, None) == getattr(value, name, None)
    for name in ("values", "codes"):
        if hasattr(value, name) and isinstance(getattr(value, name), np.ndarray):
            assert np.array_equal(getattr(back.value, name), getattr(value, name), equal_nan=True)
            assert getattr(back.value, name).dtype == getattr(value, name).dtype
    if isinstance(value, Shapes):
        assert shapely.equals_identical(back.value.geometry, value.geometry).all()
    for name, column in getattr(value, "columns", {}).items():
        assert back.value.columns[name].tolist() == column.tolist() or np.array_equal(
            back.value.columns[name], column, equal_nan=True
        )


def test_a_damaged_result_is_worked_out_again_and_never_believed(tmp_path):
    shelf = Shelf(tmp_path)
    shelf.write("k", outcome())
    (file,) = tmp_path.iterdir()
    whole = file.read_bytes()
    rng = np.random.default_rng(1)
    for k in range(200):
        damaged = bytearray(whole)
        if k % 3 == 0:
            damaged = damaged[: rng.integers(len(whole))]
        else:
            at = rng.integers(len(whole))
            damaged[at] ^= 1 << rng.integers(8)
        file.write_bytes(damaged)
        assert shelf.read("k") is None and not file.exists()
    file.write_bytes(whole)
    assert shelf.read("k") is not None


def test_nothing_in_a_file_on_the_shelf_is_ever_run(tmp_path):
    header = {
        "kind": "table",
        "about": {},
        "figure": "",
        "warnings": [],
        "findings": [],
        "listed": [{"dtype": "|O", "shape": [1], "crc": 0}],
    }
    text = json.dumps(header).encode()
    import struct
    import zlib

    (tmp_path / "k.result").write_bytes(
        b"Moss Step result 1\n" + struct.pack("<QI", len(text), zlib.crc32(text)) + text + b"cposix\nsystem\n"
    )
    assert Shelf(tmp_path).read("k") is None


def test_a_shelf_is_bounded_and_lets_the_oldest_go(tmp_path):
    import os

    shelf = Shelf(tmp_path, most_bytes=5_000)
    for k in range(8):
        shelf.write(f"k{k}", outcome())
        os.utime(tmp_path / f"k{k}.result", (k, k)) if (tmp_path / f"k{k}.result").exists() else None
    assert shelf.measured()[1] <= 5_000 and shelf.read("k7") is not None and shelf.read("k0") is None
    assert not shelf.write("large", outcome(5000)) or shelf.size_of("large") is None


def test_a_shelf_that_cannot_be_written_stops_nothing(study, slow):
    engine = Engine(shelf=Shelf(Path("/proc/nowhere/results")))
    assert ran(engine, study) == ["g", "s", "a", "c"]
    engine.close()


def test_a_study_opened_again_finds_its_results_and_runs_nothing(study, slow, tmp_path):
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    assert ran(engine, study) == ["g", "s", "a", "c"]
    engine._shelving.shutdown(wait=True)
    again = Engine(shelf=Shelf(tmp_path / "shelf"))
    assert ran(again, study) == []
    assert all(again.outcome(study, i) is not None for i in "gsac")
    assert np.array_equal(again.outcome(study, "s").value.values, engine.outcome(study, "s").value.values)


def test_a_damaged_result_on_the_shelf_is_run_with_what_it_needs(study, slow, tmp_path):
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    ran(engine, study)
    engine._shelving.shutdown(wait=True)
    for name in ("g", "s"):
        file = tmp_path / "shelf" / f"{engine.key(study, name)}.result"
        file.write_bytes(file.read_bytes()[:-1])
    again = Engine(shelf=Shelf(tmp_path / "shelf"))
    assert ran(again, study) == ["g", "s"]


def test_another_setting_or_file_is_another_result(study, slow, tmp_path):
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    ran(engine, study)
    engine._shelving.shutdown(wait=True)
    again = Engine(shelf=Shelf(tmp_path / "shelf"))
    other = study.changing("s", lambda s: s.model_copy(update={"settings": {"unit": "percent"}}))
    assert ran(again, other) == ["s", "c"]


def test_what_a_step_being_made_gives_is_not_written_down(study, slow, tmp_path):
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    ran(engine, study, passing=["c"])
    engine._shelving.shutdown(wait=True)
    names = {f.stem for f in (tmp_path / "shelf").iterdir()}
    assert names == {engine.key(study, i) for i in "gsa"}


def test_the_command_tells_what_results_take_and_removes_them(capsys):
    Shelf().write("k", outcome())
    assert main(["cache"]) == 0 and "1 result," in capsys.readouterr().out
    assert main(["cache", "--clear"]) == 0 and "removed" in capsys.readouterr().out
    assert main(["cache"]) == 0 and "0 results, 0.0 MB" in capsys.readouterr().out


def test_a_damaged_result_that_cannot_be_removed_is_worked_out_and_never_tried_again(
    study, slow, tmp_path, monkeypatch
):
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    ran(engine, study)
    engine._shelving.shutdown(wait=True)
    for file in (tmp_path / "shelf").iterdir():
        file.write_bytes(b"another kind of file")
    monkeypatch.setattr(Path, "unlink", lambda *_a, **_k: (_ for _ in ()).throw(PermissionError()))
    shelf, read = Shelf(tmp_path / "shelf"), []
    usual = shelf.read
    monkeypatch.setattr(
        shelf,
        "read",
        lambda key: (
            (read.append(key), usual(key))[1] if len(read) < 20 else pytest.fail("it goes on for ever")
        ),
    )
    assert ran(Engine(shelf=shelf), study) == ["g", "s", "a", "c"] and len(read) == len(set(read))


def test_results_of_another_program_are_not_taken(study, slow, tmp_path, monkeypatch):
    """A method may have changed since: the sources of the program are part of what a result is kept under."""
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    ran(engine, study)
    engine._shelving.shutdown(wait=True)
    monkeypatch.setattr(shelves, "program_digest", lambda: "another")
    assert ran(Engine(shelf=Shelf(tmp_path / "shelf")), study) == ["g", "s", "a", "c"]


def test_a_source_that_changes_while_it_is_read_is_not_kept_under_what_it_was(
    study, slow, tmp_path, hills_tif, hills, monkeypatch
):
    engine = Engine(shelf=Shelf(tmp_path / "shelf"))
    engine.look(study, ["g"])
    before, usual = engine.key(study, "g"), engines.run_declared

    def changed_meanwhile(step, *more):
        if step.kind == "open_grid":
            write_tif(hills_tif, hills + 50.0, unit="metre")
        return usual(step, *more)

    monkeypatch.setattr(engines, "run_declared", changed_meanwhile)
    monkeypatch.setattr(engine, "look", lambda *_a, **_k: False)
    ran(engine, study, ["g"])
    engine._shelving.shutdown(wait=True)
    assert engine.store.said(before) is None and not (tmp_path / "shelf" / f"{before}.result").exists()
