import csv
import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
import rasterio

from moss_step import cli
from moss_step.cli import main
from moss_step.demo import DATA
from moss_step.formats.rules_csv import write_rules
from moss_step.model.rules import Rule, RuleSet
from moss_step.study.graph import Step, Study
from moss_step.study.saving import save_study
from tests.conftest import write_tif


def run(capsys, *arguments: object) -> tuple[int, str, str]:
    code = main([str(a) for a in arguments])
    out, err = capsys.readouterr()
    return code, out, err


def test_the_thread_from_grid_to_class_areas(capsys, tmp_path, hills_tif, hills):
    slope, classes = tmp_path / "slope.tif", tmp_path / "classes.tif"
    code, out, err = run(
        capsys,
        "do",
        "slope",
        f"dem={hills_tif}",
        "unit=percent",
        "method=horn",
        "z_factor=1",
        "-o",
        slope,
        "--json",
    )
    assert (code, err) == (0, "")
    report = json.loads(out)
    assert report["kind"] == "slope" and report["outputs"] == [str(slope)]
    rules = tmp_path / "rules.csv"
    write_rules(rules, RuleSet((Rule(0, 10, 1, "Gentle", "#CAD39B"), Rule(10, None, 2, "Steep", "#CF7340"))))
    code, out, _ = run(
        capsys,
        "do",
        "classify",
        f"surface={slope}",
        f"rules={rules}",
        "closed=upper",
        "-o",
        classes,
        "--json",
    )
    assert code == 0
    found = {(f["class"], f["name"]): f for f in json.loads(out)["findings"] if "class" in f}
    with rasterio.open(slope) as file:
        percent = file.read(1)
        assert file.units == ("percent",)
    gentle = int((percent <= 10).sum())
    assert found["Gentle", "count"] == {
        "name": "count",
        "title": "Cells",
        "value": gentle,
        "unit": "cells",
        "class": "Gentle",
    }
    assert found["Gentle", "area_m2"]["value"] == gentle * 4 and found["Gentle", "area_m2"]["unit"] == "m2"
    assert found["Gentle", "share"]["value"] + found["Steep", "share"]["value"] == pytest.approx(1)
    with rasterio.open(classes) as file:
        assert np.array_equal(file.read(1) == 1, percent <= 10)
    table = tmp_path / "table.csv"
    assert run(capsys, "do", "classify", f"surface={slope}", f"rules={rules}", "-o", table)[0] == 0
    rows = list(csv.DictReader(table.open()))
    assert rows[0]["name"] == "Gentle" and int(rows[0]["count"]) == gentle


def test_every_step_runs_from_the_command_line(capsys, tmp_path, hills_tif):
    bogs = DATA / "harrow_bogs.gpkg"
    calls = {
        "open_grid": [f"source={hills_tif}", "unit=foot"],
        "crop": [f"surface={hills_tif}", "box=412010,5871900,412100,5871980"],
        "reproject": [f"surface={hills_tif}", "crs=EPSG:4326", "resampling=nearest"],
        "slope": [f"dem={hills_tif}", "method=quadratic"],
        "aspect": [f"dem={hills_tif}"],
        "hillshade": [f"dem={hills_tif}", "azimuth=200", "altitude=30", "z_factor=2"],
        "classify": [f"surface={hills_tif}", "rules=natural", "count=4"],
        "open_shapes": [f"source={bogs}"],
    }
    from moss_step.steps.catalogue import catalogue

    assert set(calls) <= set(catalogue())
    for kind, given in calls.items():
        out = tmp_path / (f"{kind}.gpkg" if kind == "open_shapes" else f"{kind}.tif")
        code, said, err = run(capsys, "do", kind, *given, "-o", out)
        assert (code, err) == (0, ""), kind
        assert out.exists() and str(out) in said


def test_crop_by_areas_from_a_file(capsys, tmp_path):
    out = tmp_path / "bogs.tif"
    ground, bogs = DATA / "harrow_ground.tif", DATA / "harrow_bogs.gpkg"
    assert run(capsys, "do", "crop", f"surface={ground}", f"area={bogs}", "-o", out)[0] == 0
    truth = json.loads((DATA / "harrow_truth.json").read_text())
    with rasterio.open(out) as file:
        inside = (~(file.read(1) == file.nodata)).sum() * 4.0
    assert inside == pytest.approx(sum(truth["bogs"].values()), rel=0.01)


def test_the_catalogue_states_everything(capsys):
    code, out, _ = run(capsys, "steps", "--json")
    assert code == 0
    steps = {s["kind"]: s for s in json.loads(out)}
    slope = steps["slope"]
    assert slope["question"].endswith("?") and slope["inputs"][0]["name"] == "dem"
    settings = {s["name"]: s for s in slope["settings"]}
    assert settings["unit"]["range"] == ["degrees", "percent"] and settings["unit"]["default"] == "degrees"
    assert settings["z_factor"]["range"] == {"above": 0, "at_most": 1000}
    hillshade = {s["name"]: s for s in steps["hillshade"]["settings"]}
    assert hillshade["azimuth"]["unit"] == "°"
    for step in steps.values():
        assert all(s["help"] and s["title"] for s in step["settings"]), step["kind"]
    assert "How steep is the ground?" in run(capsys, "steps")[1]


def test_a_whole_study_reruns_without_a_screen(capsys, tmp_path):
    code, out, _ = run(capsys, "run", DATA / "harrow_moss.moss", "-o", tmp_path / "out", "--json")
    assert code == 0
    report = json.loads(out)
    assert {Path(p).name for p in report["outputs"]} >= {
        "slope_slope.tif",
        "classes_slope_classes.csv",
        "sectors_facing.txt",
    }
    areas = [f["value"] for f in report["findings"] if f["step"] == "classes" and f["name"] == "area_m2"]
    assert sum(areas) == 4_000_000.0


BAD = [
    (
        ["do", "slope", "dem={tif}", "unit=per", "-o", "{out}.tif"],
        2,
        "unit: 'per' is not possible. Did you mean percent? It should be degrees or percent",
    ),
    (["do", "slope", "dem={tif}", "steep=1", "-o", "{out}.tif"], 2, "slope has no setting 'steep'"),
    (
        ["do", "slope", "dem={tif}", "z_factor=0", "-o", "{out}.tif"],
        2,
        "z_factor: '0' is not possible. It should be greater than 0",
    ),
    (["do", "slope", "-o", "{out}.tif"], 2, "slope needs dem"),
    (["do", "slope", "dem={dir}/none.tif", "-o", "{out}.tif"], 1, "was not found"),
    (["do", "slope", "dem={dir}/text.tif", "-o", "{out}.tif"], 1, "could not be read as a raster"),
    (["do", "slope", "dem={dir}/empty.tif", "-o", "{out}.tif"], 1, "is empty (0 bytes)"),
    (["do", "slope", "dem={dir}/three.tif", "-o", "{out}.tif"], 1, "has 3 bands"),
    (["do", "slope", "dem={dir}/one.tif", "-o", "{out}.tif"], 1, "needs at least 2 x 2 cells"),
    (["do", "slope", "dem={tif}", "-o", "{out}.jpg"], 2, "A surface cannot be written as 'o.jpg'"),
    (["do", "slope", "dem={tif}", "-o", "{dir}/text.tif/o.tif"], 2, "is no folder"),
    (["do", "slope", "dem={tif}"], 2, "Where the result goes is not said. Add -o slope.tif"),
    (["do", "dem={tif}", "-o", "{out}.tif"], 2, "Which step is not said"),
    (["do", "slope", "dem={tif}", "dem={tif}", "-o", "{out}.tif"], 2, "dem is given twice"),
    (["do", "slope", "dem={tif}", "unti=percent", "-o", "{out}.tif"], 2, "Did you mean unit?"),
    (["do", "slop", "dem={tif}", "-o", "{out}.tif"], 2, "Did you mean slope?"),
    (["do", "slope", "dem={tif}", "-o", "-"], 2, "A surface cannot be written to standard output"),
    (
        ["do", "formula", "expression=a > 1", "a={tif}", "-o", "-"],
        2,
        "A class map cannot be written to standard",
    ),
    (["do", "slope", "dem={dir}/*.asc", "-o", "{{name}}.tif"], 1, "No file is found by"),
    (["do", "slope", "dem={dir}/t*.tif", "-o", "{out}.tif"], 2, "Put {{name}} in it"),
    (["do", "slope", "dem={tif}", "-o", "{dir}/text.tif"], 2, "Give --overwrite to replace it"),
    (["do", "slope", "dem={tif}", "--fast", "-o", "{out}.tif"], 2, "unrecognized arguments: --fast"),
    (["steps", "xyzzy"], 2, "No step is found by 'xyzzy'"),
    (["steps", "--bench", "kitchen"], 2, "There is no bench 'kitchen'"),
    (["do", "climb", "dem={tif}", "-o", "{out}.tif"], 2, "There is no step 'climb'"),
    (["do", "slope", "dem", "-o", "{out}.tif"], 2, "'dem' is not name=value"),
    (
        ["do", "classify", "surface={tif}", "rules=rainbow", "-o", "{out}.tif"],
        2,
        "a CSV file or one of fao_slope",
    ),
    (["do", "classify", "surface={dir}/void.tif", "-o", "{out}.tif"], 2, "no values to put in classes"),
    (["do", "crop", "surface={tif}", "-o", "{out}.tif"], 2, "either a box or an area"),
    (
        ["do", "crop", "surface={tif}", "box=1,2,3", "-o", "{out}.tif"],
        2,
        "box: '1,2,3' is not possible. It should be four numbers",
    ),
    (
        ["do", "reproject", "surface={dir}/nowhere.tif", "crs=EPSG:32628", "-o", "{out}.tif"],
        1,
        "has no reference system",
    ),
    (["run", "{dir}/bad.moss"], 1, "is damaged or no study"),
    (["run", "{dir}/none.moss"], 1, "was not found"),
    (["fly"], 2, "There is no command 'fly'. Commands: do, run,"),
    (["stpes"], 2, "Did you mean steps?"),
    (["open", "{dir}/none.tif"], 1, "was not found"),
]


@pytest.mark.parametrize(("words", "exit_code", "said"), BAD, ids=[w[2][:60] for w in BAD])
def test_what_cannot_be_done_is_one_plain_line(capsys, tmp_path, hills_tif, words, exit_code, said):
    (tmp_path / "text.tif").write_text("no raster")
    (tmp_path / "empty.tif").touch()
    (tmp_path / "bad.moss").write_text("{")
    write_tif(tmp_path / "three.tif", np.zeros((3, 4, 4), np.float32))
    write_tif(tmp_path / "one.tif", np.zeros((1, 1), np.float32))
    write_tif(tmp_path / "void.tif", np.full((4, 4), np.nan, np.float32), nodata=np.nan)
    write_tif(tmp_path / "nowhere.tif", np.zeros((4, 4), np.float32), crs=None)
    before = sorted(tmp_path.rglob("*"))
    filled = [w.format(tif=hills_tif, dir=tmp_path, out=tmp_path / "o") for w in words]
    code, out, err = run(capsys, *filled)
    assert code == exit_code
    assert out == "" and err.startswith("moss-step: ") and err.count("\n") == 1
    assert said.format() in err and "Traceback" not in err
    assert sorted(tmp_path.rglob("*")) == before, "nothing half-written"


def test_the_installed_command_runs_in_a_pipe_without_a_bar(tmp_path, hills_tif):
    command = Path(sys.executable).with_name("moss-step")
    ran = subprocess.run(
        [command, "do", "aspect", f"dem={hills_tif}", "-o", tmp_path / "a.tif"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert ran.returncode == 0 and ran.stderr == "" and "Aspect of hills" in ran.stdout


def test_without_a_display_the_window_says_so(tmp_path):
    command = Path(sys.executable).with_name("moss-step")
    ran = subprocess.run(
        [command],
        capture_output=True,
        text=True,
        check=False,
        env={"PATH": "/usr/bin", "HOME": str(tmp_path)},
    )
    assert ran.returncode == 1 and ran.stderr.startswith("moss-step: There is no display")


def test_observers_from_a_table_have_the_heights_of_their_rows(capsys, tmp_path, hills_tif):
    """The same as two single views with their own heights, added up."""
    table = tmp_path / "masts.csv"
    table.write_text("name,x,y,height,reach\nNorth,412061,5871941,15,60\nSouth,412121,5871861,4,\n")
    both, single = tmp_path / "both.tif", [tmp_path / "north.tif", tmp_path / "south.tif"]
    assert run(capsys, "do", "viewshed", f"dem={hills_tif}", f"observers={table}", "-o", both)[0] == 0
    for out, words in zip(
        single,
        (
            ["observers=412061,5871941", "observer_height=15", "reach=60"],
            ["observers=412121,5871861", "observer_height=4"],
        ),
        strict=True,
    ):
        assert run(capsys, "do", "viewshed", f"dem={hills_tif}", *words, "-o", out)[0] == 0
    with rasterio.open(both) as a, rasterio.open(single[0]) as b, rasterio.open(single[1]) as c:
        assert np.array_equal(a.read(1), b.read(1) + c.read(1)) and a.read(1).max() >= 1
    code, out, _ = run(
        capsys,
        "do",
        "viewshed",
        f"dem={hills_tif}",
        f"observers={table}",
        "own=2: name=Low, height=1; 1: off",
        "-o",
        both,
        "--json",
    )
    assert code == 0 and {f.get("class") for f in json.loads(out)["findings"] if f["name"] == "share"} == {
        "Low"
    }


def started(folder, *words, **environment):
    """The installed command, with a home of its own."""
    command = Path(sys.executable).with_name("moss-step")
    mine = {
        **os.environ,
        "QT_QPA_PLATFORM": "offscreen",
        "XDG_STATE_HOME": str(folder),
        "XDG_CONFIG_HOME": str(folder),
        **environment,
    }
    return subprocess.Popen(
        [command, *map(str, words)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=mine
    )


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT])
def test_a_signal_ends_the_window_at_once(tmp_path, number):
    """It may come while an event is handled, through which no exception can pass."""
    process = started(tmp_path, "demo")
    deadline = time.monotonic() + 90
    while not any(tmp_path.rglob("moss-step.log")) and time.monotonic() < deadline:
        time.sleep(0.1)
    time.sleep(2.0)
    assert process.poll() is None, "the window is open"
    process.send_signal(number)
    _, said = process.communicate(timeout=60)
    assert process.returncode == -number and "Traceback" not in said


@pytest.mark.parametrize(("number", "code"), [(signal.SIGTERM, 143), (signal.SIGINT, 130)])
def test_a_signal_ends_a_step_with_one_line(tmp_path, number, code):
    grid = np.random.default_rng(1).normal(size=(1500, 1500)).cumsum(0).astype(np.float32)
    path = write_tif(tmp_path / "ground.tif", grid)
    process = started(
        tmp_path,
        "do",
        "position",
        f"dem={path}",
        "radius=500",
        "standardised=yes",
        "-o",
        tmp_path / "out.tif",
    )
    deadline = time.monotonic() + 90
    while process.poll() is None and time.monotonic() < deadline and not reads(process.pid, path):
        time.sleep(0.002)
    process.send_signal(number)
    _, said = process.communicate(timeout=60)
    assert process.returncode == code
    assert said.startswith("moss-step: ") and said.count("\n") == 1
    assert sorted(p.name for p in tmp_path.iterdir()) == ["ground.tif"]


def reads(pid: int, path: Path) -> bool:
    """Whether a process has a file open or has read it: its step has begun."""
    try:
        return str(path) in {str(f.readlink()) for f in Path(f"/proc/{pid}/fd").iterdir()}
    except OSError:
        return False


def test_a_full_standard_output_is_one_line(tmp_path, hills_tif):
    command = Path(sys.executable).with_name("moss-step")
    with Path("/dev/full").open("w") as full:
        ran = subprocess.run([command, "steps"], stdout=full, stderr=subprocess.PIPE, text=True, check=False)
    assert ran.returncode == 1 and ran.stderr.count("\n") == 1 and "No space left" in ran.stderr
    ran = subprocess.run(
        ["sh", "-c", f"{command} do slope dem={hills_tif} -o {tmp_path / 's.tif'} >&- 2>&-"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert ran.stderr == "" and (tmp_path / "s.tif").exists()


def test_a_study_runs_where_nothing_can_be_kept_of_it(tmp_path, hills_tif):
    """As on a server whose home is closed: whether a window has the study open is then not known."""
    study = tmp_path / "a.moss"
    save_study(
        Study(
            steps=(
                Step(id="g", kind="open_grid", settings={"source": str(hills_tif)}),
                Step(id="s", kind="slope", inputs={"dem": "g"}),
            )
        ),
        study,
    )
    process = started(Path("/proc/nowhere"), "run", study, "-o", tmp_path / "out", HOME="/proc/nowhere")
    out, said = process.communicate(timeout=60)
    assert (process.returncode, said) == (0, "") and "s_slope" in out
    assert json.loads((tmp_path / "out" / "results.json").read_text())["complete"] is True


def test_a_run_that_fails_leaves_its_folder_marked(tmp_path, hills_tif):
    study = tmp_path / "a.moss"
    steps = (
        Step(id="g", kind="open_grid", settings={"source": str(hills_tif)}),
        Step(id="s", kind="slope", inputs={"dem": "g"}),
        Step(id="c", kind="crop", inputs={"surface": "s"}, settings={"box": [0.0, 0.0, 1.0, 1.0]}),
    )
    save_study(Study(steps=steps), study)
    process = started(tmp_path / "home", "run", study, "-o", tmp_path / "out")
    _, said = process.communicate(timeout=60)
    assert process.returncode == 1 and said.count("\n") == 1
    assert json.loads((tmp_path / "out" / "results.json").read_text())["complete"] is False


@pytest.mark.parametrize(("words", "waits"), [([], False), (["--nothing-run"], True)])
def test_a_study_can_be_opened_with_nothing_run(tmp_path, monkeypatch, words, waits):
    from moss_step.desk import app

    study, opened = tmp_path / "a.moss", []
    save_study(Study(), study)
    monkeypatch.setattr(app, "run", lambda *a: opened.append(a) or 0)
    assert main(["open", str(study), *words]) == 0
    assert opened == [([study], False, waits)]


@pytest.mark.parametrize(
    ("display", "said"),
    [
        ("", "There is no display"),
        (":77", "cannot be reached"),
        ("nonsense", "cannot be reached"),
        ("127.0.0.1:9", "cannot be reached"),
    ],
)
def test_a_display_that_is_not_there_is_one_line(tmp_path, display, said):
    command = Path(sys.executable).with_name("moss-step")
    ran = subprocess.run(
        [command, "demo"], capture_output=True, text=True, check=False, timeout=60,
        env={"PATH": "/usr/bin", "HOME": str(tmp_path), "DISPLAY": display},
    )  # fmt: skip
    assert ran.returncode == 1 and said in ran.stderr and ran.stderr.count("\n") == 1


def test_a_name_that_is_no_text_is_one_line(tmp_path, hills_tif):
    odd = os.fsdecode(b"na\xff.tif")
    (tmp_path / odd).write_bytes(hills_tif.read_bytes())
    for words in (
        [f"dem={tmp_path / odd}", "-o", str(tmp_path / "s.tif")],
        [f"dem={hills_tif}", "-o", str(tmp_path / f"o{odd}")],
    ):
        ran = subprocess.run(
            [Path(sys.executable).with_name("moss-step"), "do", "slope", *words],
            capture_output=True,
            text=True,
            check=False,
        )
        assert ran.returncode == 2 and "is not UTF-8 text. Rename the file." in ran.stderr
        assert ran.stderr.count("\n") == 1


def test_it_runs_where_nothing_can_be_kept_and_on_a_terminal_of_another_encoding(tmp_path, hills_tif):
    nowhere = dict.fromkeys(("HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"), "/proc/none")
    for environment in ({}, nowhere, {"LC_ALL": "C", "PYTHONIOENCODING": "ascii"}):
        ran = subprocess.run(
            [Path(sys.executable).with_name("moss-step"), "do", "convert_units", f"surface={hills_tif}", "to=foot", "-o", tmp_path / "s.tif", "--overwrite"],
            capture_output=True, text=True, check=False, env={"PATH": "/usr/bin", **environment},
        )  # fmt: skip
        assert ran.returncode == 0, ran.stderr


def test_no_message_of_the_command_line_speaks_of_the_window():
    """What the window calls a bench, a card or a button is not what is typed."""
    package = Path(__file__).parent.parent / "src/moss_step"
    files = [
        p
        for part in ("science", "model", "steps", "formats", "study", "line")
        for p in (package / part).rglob("*.py")
    ]
    for file in files:
        for error in re.finditer(r"raise \w*Error\((.*?)\n        (?=\S|\n)", file.read_text(), re.DOTALL):
            if "in Gather" in error[1]:
                assert error[1].count('",') >= 3 or "typed=" in error[1], f"{file.name}: {error[1][:200]}"


@pytest.mark.parametrize(
    ("name", "silent_end"), [("-m", True), ("/usr/bin/moss-step", True), ("script.py", False)]
)
def test_a_signal_while_the_package_loads_ends_the_program_in_silence_and_no_other(
    name: str, silent_end: bool
) -> None:
    script = f"import sys; sys.argv = [{name!r}]; import moss_step, signal as s; print(s.getsignal(s.SIGINT) == s.SIG_DFL)"
    said = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert said.strip() == str(silent_end)


def test_a_time_out_of_a_library_is_not_taken_for_a_full_disk(monkeypatch, capsys):
    def late(*_: object) -> int:
        raise TimeoutError

    monkeypatch.setattr(cli, "_answer", late)
    assert main(["steps"]) == 1
    assert "TimeoutError" in capsys.readouterr().err
