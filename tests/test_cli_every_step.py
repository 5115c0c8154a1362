"""Every step from the command line, from files to a file: what is said, what is written, and what a wrong word does.

Inputs and settings come from the declarations; what a step needs beside them is what its test on plain ground needs.
"""

import json
from pathlib import Path

import numpy as np
import pytest

from moss_step.cli import main
from moss_step.formats.las import read_cloud
from moss_step.formats.las_write import write_cloud
from moss_step.formats.point_model import read_model, write_model
from moss_step.formats.raster import read_class_map, read_surface
from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.formats.tin import read_tin, write_tin
from moss_step.formats.vector import layers, read_shapes, write_shapes
from moss_step.kinds.registry import kind_named
from moss_step.model.class_map import ClassMap
from moss_step.model.cloud import Cloud
from moss_step.model.point_model import PointModel
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.tin import Tin
from tests.conftest import surface
from tests.steps.test_any_ground import KINDS, parts_of, settings_for, value_for

GROUND = surface(
    (np.random.default_rng(2).normal(size=(40, 50)).cumsum(0).cumsum(1) * 0.5).astype(np.float32)
)
RESULTS = [f"{n}.{r.name}" for n, k in KINDS.items() for r in k.beside]
RUN = sorted(
    n
    for n, k in KINDS.items()
    if not any(
        i.quantity not in ("", "elevation") or i.accepts == "table" for i in k.inputs if not i.optional
    )
)
"""Files do not say of a surface what it measures beyond its unit, so that steps on special ones are left to their own tests."""


def write(value: object, path: Path) -> Path:
    if isinstance(value, Surface):
        write_surface(path, value, "Ground")
    elif isinstance(value, ClassMap):
        write_class_map(path, value, "Classes")
    elif isinstance(value, Cloud):
        write_cloud(path, value)
    elif isinstance(value, Tin):
        write_tin(path, value)
    elif isinstance(value, PointModel):
        write_model(path, value)
    else:
        assert isinstance(value, Shapes)
        write_shapes(path, value)
    return path


def text(value: object) -> str:
    """A setting as it is typed."""
    if isinstance(value, list):  # drawn shapes
        return " | ".join(";".join(f"{x:.2f},{y:.2f}" for x, y in shape["vertices"]) for shape in value)
    if isinstance(value, tuple):
        return ";".join(",".join(f"{v:g}" if abs(v) < 1e6 else f"{v:.2f}" for v in pair) for pair in value) if isinstance(value[0], tuple) else \
            ",".join(f"{v:.2f}" for v in value)  # fmt: skip
    return str(value)


def words_for(kind: str, folder: Path) -> list[str]:
    step = KINDS[kind]
    words = []
    for spec in step.inputs:
        if not spec.optional:
            value = value_for(spec, GROUND)
            words.append(
                f"{spec.name}={write(value, folder / f'{spec.name}{kind_named(spec.accepts).endings[0]}')}"
            )
    if kind == "train_class":
        words.append(f"samples={write(parts_of(GROUND), folder / 'samples.gpkg')}")
    if step.further is not None:
        for name in ("a", "b"):
            words.append(
                f"{name}={write(value_for(step.further, GROUND), folder / f'{name}{kind_named(step.further.accepts).endings[0]}')}"
            )
    words += [
        f"{name}={text(value)}" for name, value in settings_for(step, GROUND).items() if value is not None
    ]
    return words


def run(capsys, *words: object) -> tuple[int, str, str]:
    code = main([str(w) for w in words])
    out, err = capsys.readouterr()
    return code, out, err


def read_back(path: Path, gives: str) -> Surface | ClassMap | Shapes | PointModel | str:
    if gives == "surface":
        return read_surface(path)[0]
    if gives == "classes":
        return read_class_map(path)
    if gives == "shapes":
        return read_shapes(path, layers(path)[0])
    if gives == "cloud":
        return read_cloud(path)[0]
    if gives == "point_model":
        return read_model(path)
    return read_tin(path) if gives == "tin" else path.read_text()


@pytest.mark.parametrize("name", [*RUN, *RESULTS])
def test_a_step_writes_its_result_and_says_its_findings(name, capsys, tmp_path):
    kind, _, result = name.partition(".")
    gives = KINDS[kind].result(result).gives
    out = tmp_path / f"made{kind_named(gives).endings[0]}"
    code, said, err = run(
        capsys, "do", kind, *words_for(kind, tmp_path), "-o", f"{result}={out}" if result else out, "--json"
    )
    assert (code, err) == (0, ""), err
    report = json.loads(said)
    assert report["kind"] == kind and report["outputs"] == [str(out)]
    assert set(report) == {"kind", "outputs", "findings", "warnings"}
    for finding in report["findings"]:
        assert {"name", "value", "unit"} <= set(finding) and isinstance(finding["name"], str)
        assert not isinstance(finding["value"], float) or np.isfinite(finding["value"])
    made = read_back(out, gives)
    if isinstance(made, Surface):
        assert made.valid_count > 0 and not np.isinf(made.values).any()
        stated = {f["name"]: f["value"] for f in report["findings"]}
        if {"lowest", "highest"} <= set(stated) and made.range is not None:
            assert made.range == pytest.approx((stated["lowest"], stated["highest"]), rel=1e-4, abs=1e-4)
    elif isinstance(made, ClassMap):
        assert len(made.classes) > 0 and all(c.name for c in made.classes)
    elif isinstance(made, Cloud):
        assert len(made) > 0 and made.bounds is not None
    elif isinstance(made, PointModel):
        assert len(made.classes) == 2 and made.measures
    elif isinstance(made, (Tin, Shapes)):
        assert len(made) > 0 and made.crs == GROUND.frame.crs
    else:
        assert made.count("\n") > 1 and "," in made.splitlines()[0]


@pytest.mark.parametrize(
    "kind", [k for k in RUN if KINDS[k].further is None and not KINDS[k].inputs[0].optional][::6]
)
def test_a_wrong_word_is_named_and_nothing_is_written(kind, capsys, tmp_path):
    out = tmp_path / f"made{kind_named(KINDS[kind].gives).endings[0]}"
    words = words_for(kind, tmp_path)
    there = sorted(p.name for p in tmp_path.iterdir())
    for wrong, code in ((["nonsense=1"], 2), ([f"{words[0].split('=')[0]}={tmp_path / 'nowhere.tif'}"], 1)):
        given = words + wrong if wrong[0].startswith("nonsense") else wrong + words[1:]
        found, said, err = run(capsys, "do", kind, *given, "-o", out)
        assert found == code and said == ""
        assert err.startswith("moss-step: ") and err.count("\n") == 1
        assert ("nonsense" if code == 2 else "nowhere.tif") in err
        assert sorted(p.name for p in tmp_path.iterdir()) == there


@pytest.mark.parametrize("kind", [k for k in RUN if any(not i.optional for i in KINDS[k].inputs)][::4])
def test_a_missing_input_is_asked_for_by_name(kind, capsys, tmp_path):
    first = next(i.name for i in KINDS[kind].inputs if not i.optional)
    words = [w for w in words_for(kind, tmp_path) if not w.startswith(f"{first}=")]
    code, _, err = run(
        capsys, "do", kind, *words, "-o", tmp_path / f"made{kind_named(KINDS[kind].gives).endings[0]}"
    )
    assert code == 2 and first in err


@pytest.mark.parametrize("name", ["ground.tif", "link.tif", "hard.tif"])
def test_a_result_never_takes_the_place_of_its_input(capsys, tmp_path, name):
    """Nor under another name of the same file."""
    path = write(GROUND, tmp_path / "ground.tif")
    (tmp_path / "link.tif").symlink_to(path)
    (tmp_path / "hard.tif").hardlink_to(path)
    before = path.read_bytes()
    code, _, said = run(capsys, "do", "slope", f"dem={path}", "-o", tmp_path / name)
    assert code == 2 and name in said and "Traceback" not in said
    assert path.read_bytes() == before


def test_a_table_has_a_row_of_names_and_plain_numbers(capsys, tmp_path):
    path = write(GROUND, tmp_path / "ground.tif")
    assert run(capsys, "do", "hypsometry", f"dem={path}", "-o", tmp_path / "curve.csv")[0] == 0
    names, *rows = (tmp_path / "curve.csv").read_text().splitlines()
    assert all(n.isidentifier() for n in names.split(","))
    assert all(
        len(r.split(",")) == len(names.split(",")) and all(float(v) == float(v) for v in r.split(","))
        for r in rows
    )
    assert Table({n: np.zeros(1) for n in names.split(",")}).columns.keys() == set(names.split(","))
