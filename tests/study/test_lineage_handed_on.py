"""A study as a script that runs and gives the same, and lineage as W3C PROV.

PROV: read back by the prov library (PROV-DM), and walked: every figure is reachable from the sources.
"""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
from pathlib import Path

import pytest
from prov.model import ProvDerivation, ProvDocument, ProvEntity

from moss_step.cli import main
from moss_step.demo import DATA
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.prov import as_prov
from moss_step.study.saving import load_study, save_study
from moss_step.study.script import as_python, as_shell, script_of
from tests.scene.test_sheet import rules, study_of


@pytest.fixture
def study(hills_tif: Path) -> Study:
    """Surfaces, classes, shapes, a chart, a result beside another, drawn areas, and a formula over two surfaces."""
    corners = [[412_020, 5_871_990], [412_120, 5_871_990], [412_120, 5_871_900], [412_020, 5_871_900]]
    more = (
        Step(id="basins", kind="basins", inputs={"dem": "ground"}, settings={"min_area": 400.0}),
        Step(id="a-field", kind="draw", settings={"kind": "areas", "shapes": [{"name": "It's: \"Low\" $HOME", "vertices": corners}]}),
        Step(id="zones", kind="zone_statistics", inputs={"zones": "a-field", "surface": "slope"}, settings={"statistics": ["mean", "max"]}),
        Step(id="line", kind="profile", inputs={"surface": "ground"}, settings={"line": [412_010, 5_871_900, 412_220.5, 5_871_850]}),
        Step(id="filled", kind="fill_depressions", inputs={"dem": "ground"}),
        Step(id="deep", kind="classify", inputs={"surface": "filled.change"}, settings={"rules": rules(0.5)}),
    )  # fmt: skip
    study = study_of(hills_tif)
    for step in more:
        study = study.adding(step)
    return study


def figures(study: Study) -> dict[tuple[str, str, str], float]:
    engine = Engine()
    result = {}
    for ref in study.refs(asked=False):
        for f in engine.run_or_raise(study, ref).findings:
            result[(ref, f.name, f.of)] = f.value
    return result


def told(lines: str, refs: list[str] | None = None) -> dict[tuple[str, str, str], float]:
    result = {}
    rows = [json.loads(line) for line in lines.splitlines() if line.startswith("{")]
    for k, row in enumerate(rows):
        for f in row["findings"]:
            ref = row.get("step") or (f"{refs[k]}.{f['result']}" if "result" in f else refs[k])
            result[(ref, f["name"], f.get("class", ""))] = f["value"]
    return result


def environment(folder: Path) -> dict[str, str]:
    """A path on which the program is found by its name."""
    program = folder / "bin" / "moss-step"
    program.parent.mkdir(exist_ok=True)
    program.write_text(f'#!/bin/sh\nexec "{sys.executable}" -m moss_step "$@"\n')
    program.chmod(program.stat().st_mode | stat.S_IXUSR)
    return {**os.environ, "PATH": f"{program.parent}:{os.environ['PATH']}"}


def test_the_script_of_python_runs_and_gives_the_same(study: Study, tmp_path: Path) -> None:
    script = tmp_path / "scripts" / "study.py"
    script.parent.mkdir()
    script.write_text(as_python(study, script), encoding="utf-8")
    done = subprocess.run([sys.executable, str(script), str(tmp_path / "out")], check=False, capture_output=True, text=True, cwd=tmp_path.parent, timeout=300)  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert told(done.stdout) == figures(study)
    written = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert any(n.startswith("basins_") and n.endswith(".gpkg") for n in written)
    assert str(tmp_path) not in script.read_text() and "../hills.tif" in script.read_text()


def test_the_script_of_shell_runs_and_gives_the_same(study: Study, tmp_path: Path) -> None:
    script = tmp_path / "scripts" / "study.sh"
    script.parent.mkdir()
    script.write_text(as_shell(study, script), encoding="utf-8")
    done = subprocess.run(["/bin/sh", str(script), str(tmp_path / "out")], check=False, capture_output=True, text=True, env=environment(tmp_path), timeout=300)  # fmt: skip
    assert done.returncode == 0, done.stderr
    found = told(done.stdout, [s.id for s in study.in_order()])
    expected = figures(study)
    main = {k for k in expected if "." not in k[0]}
    assert main <= found.keys() and ("filled.change", "highest", "") in found
    for key in expected.keys() & found.keys():
        assert found[key] == pytest.approx(expected[key], rel=1e-6), key


def test_the_script_of_the_demo_runs(tmp_path: Path) -> None:
    demo = load_study(next(DATA.glob("*.moss")))
    script = tmp_path / "demo.py"
    script.write_text(script_of(demo, script), encoding="utf-8")
    done = subprocess.run(
        [sys.executable, str(script)], check=False, capture_output=True, text=True, timeout=300
    )
    assert done.returncode == 0, done.stderr
    assert told(done.stdout) == figures(demo)


def test_hostile_names_stay_names(hills_tif: Path, tmp_path: Path) -> None:
    whole = study_of(hills_tif)
    few = tuple(s for s in whole.steps if s.id in ("ground", "slope"))
    evil = (
        whole.model_copy(update={"steps": few, "key": ()})
        .renaming("slope", 'x"""\nimport os; os.system("touch hit")\n"""')
        .model_copy(update={"name": "$(touch hit)\n`touch hit`"})
    )
    for ending in (".py", ".sh"):
        script = tmp_path / f"evil{ending}"
        script.write_text(script_of(evil, script), encoding="utf-8")
        runner = [sys.executable] if ending == ".py" else ["/bin/sh"]
        subprocess.run([*runner, str(script), str(tmp_path / "o")], check=False, capture_output=True, env=environment(tmp_path), cwd=tmp_path, timeout=300)  # fmt: skip
        assert not (tmp_path / "hit").exists()


def test_every_figure_is_reached_from_its_sources(study: Study) -> None:
    engine = Engine()
    refs = study.refs(asked=False)
    engine.run(study, refs)
    text = as_prov(study, refs, engine)
    assert text == as_prov(study, refs, engine)
    document = ProvDocument.deserialize(content=text, format="json")
    entities = {str(r.identifier): r for r in document.get_records(ProvEntity)}
    came: dict[str, set[str]] = {}
    for record in document.get_records(ProvDerivation):
        ends = dict(record.formal_attributes)
        names = {str(k).split(":")[-1]: str(v) for k, v in ends.items()}
        came.setdefault(names["generatedEntity"], set()).add(names["usedEntity"])
    sources = {n for n in entities if n.startswith("ms:source-")}
    assert len(sources) == 1
    mark = next(iter(entities[next(iter(sources))].get_attribute("ms:blake3")))
    assert mark == engine.file_hash(study.step("ground").settings["source"])

    def origins(name: str) -> set[str]:
        before = came.get(name, set())
        return {name} if not before else set().union(*(origins(b) for b in before))

    shown = [n for n in entities if n.startswith("ms:figure-")]
    assert len(shown) == len(figures(study))
    for name in shown:
        assert origins(name) <= sources | {"ms:result-a-field", "ms:result-a-field.vertices"}, name
    values = {float(next(iter(entities[n].get_attribute("prov:value")))) for n in shown}
    assert values == set(figures(study).values())


def test_the_command_line_hands_lineage_on(
    study: Study, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    save_study(study, tmp_path / "s.moss")
    monkeypatch.chdir(tmp_path)

    def call(*words: str) -> int:
        return main(list(words))

    for ending in (".txt", ".json"):
        assert call("lineage", "s.moss", "-o", f"all{ending}", "-q") == 0
    for ending in (".svg", ".pdf"):  # which begin a window's library of their own
        words = [sys.executable, "-m", "moss_step", "lineage", "s.moss", "-o", f"all{ending}", "-q"]
        done = subprocess.run(words, check=False, capture_output=True, text=True, timeout=300)
        assert done.returncode == 0, done.stderr
    assert "Classes of Slope" in (tmp_path / "all.txt").read_text()
    picture = (tmp_path / "all.svg").read_text()
    assert picture.count("<path") > 5 and "Basins" in picture and "Steep" not in picture
    assert call("lineage", "s.moss", "--of", "slope", "-o", "one.json", "-q") == 0
    held = json.loads((tmp_path / "one.json").read_text())
    assert set(held["activity"]) == {"ms:step-ground", "ms:step-slope"}
    assert call("lineage", "s.moss", "--of", "nothing", "-o", "x.json") == 2
    assert call("lineage", "s.moss", "-o", "x.doc") == 2
    assert call("script", "s.moss", "-o", "s.py") == 0 and call("script", "s.moss", "-o", "s.bat") == 2
    source = Path(study.source_files[0])
    before = source.read_bytes()
    capsys.readouterr()
    assert call("lineage", "s.moss", "-o", str(source), "--overwrite") == 2
    assert "is read for this" in capsys.readouterr().err and source.read_bytes() == before
