"""Steps that write down what their inputs are called: names and files reach them, and a new name is a new record."""

import json
import os
from pathlib import Path

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.origin import Given, Origin, origin_of
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.study import sources
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.sources import Sources


def study_of(tmp_path, name="Hill"):
    z = np.add.outer(np.arange(40.0), np.arange(40.0)).astype(np.float32)
    path = tmp_path / "hill.tif"
    if not path.exists():
        write_surface(path, Surface(z, Frame(40, 40, 0.0, 40.0, 1.0, 1.0, "EPSG:32628"), METRE), "hill")
    outline = ((10.0, 10.0), (20.0, 10.0), (20.0, 20.0), (10.0, 20.0))
    steps = (
        Step(id="hill", kind="open_grid", settings={"source": str(path)}, name=name),
        Step(id="pad", kind="pad", inputs={"surface": "hill"}, settings={"outline": outline}),
        Step(id="slope", kind="slope", inputs={"dem": "hill"}),
    )
    return Study(name="a", steps=steps)


def rows(engine, study):
    engine.run_or_raise(study, "pad.record")
    held = engine.outcome(study, "pad.record").value.columns
    return dict(zip(held["what"], held["value"], strict=True))


def test_a_record_names_the_input_and_the_digest_of_its_file(tmp_path):
    engine, study = Engine(), study_of(tmp_path)
    said = rows(engine, study)
    assert said["ground"] == "Hill"
    assert said["ground, content of hill.tif (BLAKE3)"] == engine.file_hash(str(tmp_path / "hill.tif"))


def test_a_new_name_is_a_new_record_and_leaves_other_steps_alone(tmp_path):
    engine = Engine()
    before, after = study_of(tmp_path), study_of(tmp_path, "Other hill")
    assert rows(engine, before)["ground"] == "Hill"
    engine.look(after, ["pad", "slope"])
    assert engine.key(before, "slope") == engine.key(after, "slope")
    assert engine.key(before, "pad") != engine.key(after, "pad")
    assert rows(engine, after)["ground"] == "Other hill"


def test_inputs_without_an_origin_have_none():
    assert origin_of({}, "surface") is None
    assert origin_of(Given({}, {"surface": Origin("a")}), "surface").name == "a"


def test_the_digest_of_a_large_file_is_kept_until_somebody_writes_into_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sources, "LARGE", 100)
    monkeypatch.setattr(sources, "digests_file", lambda: tmp_path / "cache" / "digests.json")
    file = tmp_path / "ground.txt"
    file.write_bytes(b"a" * 200)
    first = Sources().look(str(file))
    kept = json.loads((tmp_path / "cache" / "digests.json").read_text())
    assert first is not None and len(kept) == 1
    mark = next(iter(kept))
    (tmp_path / "cache" / "digests.json").write_text(json.dumps({mark: "f" * 64}))
    assert Sources().look(str(file)) != first  # what is kept is taken, and the file not read
    about = file.stat()
    file.write_bytes(b"b" * 200)
    os.utime(file, ns=(about.st_atime_ns, about.st_mtime_ns))  # as long and as old as before
    second = Sources().look(str(file))
    assert second not in (first, None)
    for damaged in ("[1, 2]", "{", json.dumps({mark: 3})):
        (tmp_path / "cache" / "digests.json").write_text(damaged)
        assert Sources().look(str(file)) == second
