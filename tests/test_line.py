"""The command line as scripts use it: help, many inputs, where results go, what is kept from being replaced."""

import configparser
import json
import os
import pty
import shlex
import shutil
import subprocess
import sys
import time
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
import rasterio

from moss_step.cli import main
from moss_step.kinds.registry import kind_named
from moss_step.line import stored
from moss_step.line.outs import is_own
from moss_step.steps.catalogue import catalogue, describe
from tests.conftest import write_tif

COMMAND = Path(sys.executable).with_name("moss-step")


def said(capsys, *words):
    code = main([str(w) for w in words])
    out, err = capsys.readouterr()
    return code, out, err


# --- the stored catalogue


def test_the_stored_catalogue_is_that_of_the_declarations():
    now = json.loads(json.dumps({k: describe(s) for k, s in catalogue().items()}))
    for kind, step in stored.steps().items():
        own = {n: v for n, v in step.items() if n not in ("findings", "endings", "nouns", "streamed")}
        assert own == now[kind], f"{kind}: run tools/from_catalogue.py"
        results = catalogue()[kind].results
        assert step["nouns"] == {n: kind_named(r.gives).noun for n, r in results.items()}
        assert step["streamed"] == {n: kind_named(r.gives).streamed for n, r in results.items()}
        assert step["endings"] == {n: list(kind_named(r.gives).written_as) for n, r in results.items()}
    assert list(stored.steps()) == list(now)


@pytest.mark.parametrize(
    "words", [["--version"], ["do", "slope", "--help"], ["steps"], ["do", "slop", "-o", "x.tif"]]
)
def test_help_and_refusals_need_none_of_the_large_libraries(words):
    code = (
        "import sys; from moss_step.cli import main\n"
        "try: main(sys.argv[1:])\n"
        "except SystemExit: pass\n"
        "print(sorted({'numba', 'rasterio', 'scipy', 'pydantic', 'PySide6', 'shapely'} & set(sys.modules)), file=sys.stderr)"
    )
    ran = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True, check=True)
    assert ran.stderr.splitlines()[-1] == "[]"


@pytest.mark.parametrize("kind", sorted(catalogue()))
def test_the_help_of_a_step_names_all_that_it_takes_and_gives(capsys, kind):
    step = catalogue()[kind]
    code, text, _ = said(capsys, "do", kind, "--help")
    assert code == 0 and step.question in text and f"moss-step do {kind}" in text
    names = [*(i.name for i in step.inputs), *step.settings.listed(), *(f"-o {r}" for r in step.results if r)]
    assert [n for n in names if f"{n}=" not in text] == []
    assert said(capsys, "steps", kind)[1] == text
    assert all(len(line) <= 110 for line in text.splitlines()[:-1])


def test_steps_are_found_by_words_and_bench(capsys):
    _, text, _ = said(capsys, "steps", "steepness")
    assert "slope " in text and "contours" not in text
    _, text, _ = said(capsys, "steps", "--bench", "water")
    assert text.startswith("water:") and "basins" in text and "viewshed" not in text
    assert "dem=PATH" in text and "[min_depth=" in text


# --- pairs and results


def test_pairs_and_options_stand_in_any_place(capsys, tmp_path, hills_tif):
    orders = [
        ["do", "-o", tmp_path / "a.tif", "slope", "unit=percent", f"dem={hills_tif}"],
        ["do", f"dem={hills_tif}", "slope", "--quiet", "-o", tmp_path / "b.tif", "unit=percent"],
    ]
    for words in orders:
        assert said(capsys, *words)[0] == 0
    a, b = (rasterio.open(tmp_path / n).read(1) for n in ("a.tif", "b.tif"))
    assert np.array_equal(a, b) and a.max() > 1


def test_many_inputs_are_many_runs(capsys, tmp_path, hills):
    for k, name in enumerate(("east", "west")):
        write_tif(tmp_path / f"{name}.tif", hills + 10 * k, unit="metre")
    out = tmp_path / "made" / "{name}_slope.tif"
    code, text, _ = said(capsys, "do", "slope", f"dem={tmp_path}/*st.tif", "-o", out, "--json")
    report = json.loads(text)
    assert code == 0 and [Path(r["outputs"][0]).name for r in report["runs"]] == [
        "east_slope.tif",
        "west_slope.tif",
    ]
    assert sorted(p.name for p in (tmp_path / "made").iterdir()) == ["east_slope.tif", "west_slope.tif"]


def test_of_many_runs_the_one_that_fails_is_named_with_what_was_written(capsys, tmp_path, hills):
    write_tif(tmp_path / "a_good.tif", hills, unit="metre")
    (tmp_path / "b_bad.tif").write_text("no raster")
    code, _, err = said(capsys, "do", "slope", f"dem={tmp_path}/*.tif", "-o", tmp_path / "{dem}_s.tif")
    assert code == 1 and "b_bad.tif" in err and "Written before:" in err and "a_good_s.tif" in err


def test_tables_and_shapes_go_to_standard_output(tmp_path, hills_tif):
    for words, first in (
        (["hypsometry", f"dem={hills_tif}"], "height"),
        (["contours", f"dem={hills_tif}", "interval=50"], "{"),
    ):
        ran = subprocess.run([COMMAND, "do", *words, "-o", "-"], capture_output=True, text=True, check=True)
        assert (
            ran.stdout.lstrip().startswith(first)
            and "->" not in ran.stdout
            and "-> standard output" in ran.stderr
        )
    collection = json.loads(ran.stdout)
    assert collection["type"] == "FeatureCollection" and len(collection["features"]) > 3


def test_only_what_this_program_wrote_is_replaced(capsys, tmp_path, hills_tif):
    out = tmp_path / "s.tif"
    words = ["do", "slope", f"dem={hills_tif}", "-o", out]
    assert said(capsys, *words)[0] == 0 and is_own(out)
    assert said(capsys, *words, "unit=percent")[0] == 0, "its own earlier result is"
    time.sleep(0.02)
    with rasterio.open(out, "r+", IGNORE_COG_LAYOUT_BREAK="YES") as file:
        file.update_tags(NOTE="corrected by hand")
    before = out.read_bytes()
    code, _, err = said(capsys, *words)
    assert code == 2 and "--overwrite" in err and out.read_bytes() == before
    assert said(capsys, *words, "--overwrite")[0] == 0 and out.read_bytes() != before


def test_a_run_that_failed_does_not_make_the_file_of_another_its_own(capsys, tmp_path, hills_tif):
    out, damaged = tmp_path / "s.tif", tmp_path / "bad.tif"
    out.write_text("of another program")
    damaged.write_text("no raster")
    assert said(capsys, "do", "slope", f"dem={damaged}", "-o", out, "--overwrite")[0] == 1
    code, _, err = said(capsys, "do", "slope", f"dem={hills_tif}", "-o", out)
    assert code == 2 and "--overwrite" in err and out.read_text() == "of another program"


def test_where_results_go_is_checked_before_the_work(capsys, tmp_path, hills_tif):
    """The ground is damaged, too, and would be found so only when it is read."""
    (tmp_path / "ground.tif").write_text("no raster")
    shut = tmp_path / "shut"
    shut.mkdir()
    (tmp_path / "a.tif").write_text("of another program")
    code, _, err = said(capsys, "do", "slope", f"dem={tmp_path / 'ground.tif'}", "-o", tmp_path / "a.tif")
    assert code == 2 and "is there already" in err
    code, _, err = said(capsys, "do", "slope", f"dem={hills_tif}", "-o", shut)
    assert code == 2 and ("cannot be written as" in err or "is a folder" in err)


def test_lineage_beside_a_result_says_what_was_read_set_and_found(capsys, tmp_path, hills_tif):
    code, _, _ = said(
        capsys, "do", "slope", f"dem={hills_tif}", "unit=percent", "-o", tmp_path / "s.tif", "--lineage"
    )
    text = (tmp_path / "s.txt").read_text()
    assert code == 0 and "- unit: percent" in text and "BLAKE3" in text and "- Highest" in text


def test_a_dry_run_says_sizes_and_writes_nothing(capsys, tmp_path, hills_tif):
    before = sorted(tmp_path.iterdir())
    code, text, _ = said(capsys, "do", "slope", f"dem={hills_tif}", "-o", tmp_path / "s.tif", "--dry-run")
    assert (
        code == 0
        and "90 x 120 cells" in text
        and "memory: up to" in text
        and f"-> {tmp_path / 's.tif'}" in text
    )
    assert sorted(tmp_path.iterdir()) == before


def test_quiet_prints_nothing_and_verbose_all(capsys, tmp_path, hills_tif):
    words = ["do", "slope", f"dem={hills_tif}", "-o", tmp_path / "s.tif"]
    assert said(capsys, *words, "--quiet")[1:] == ("", "")
    _, text, _ = said(capsys, *words, "--verbose")
    assert f"dem = {hills_tif}" in text and "  Highest = " in text


def test_a_bar_on_a_terminal_says_what_and_how_far(tmp_path, hills_tif):
    """On a terminal of its own; standard output goes elsewhere."""
    ours, theirs = pty.openpty()
    ran = subprocess.Popen(
        [COMMAND, "do", "position", f"dem={hills_tif}", "radius=60", "-o", tmp_path / "p.tif"],
        stdout=subprocess.DEVNULL, stderr=theirs,
    )  # fmt: skip
    os.close(theirs)
    seen = b""
    while True:
        try:
            piece = os.read(ours, 4096)
        except OSError:
            break
        if not piece:
            break
        seen += piece
    assert ran.wait(60) == 0
    assert b" %, " in seen and b" left" in seen


# --- a study


def test_a_failed_step_of_a_study_is_named_and_older_files_are_told_of(capsys, tmp_path, hills_tif):
    study = {
        "moss_step_study": 2,
        "name": "Two",
        "steps": [
            {"id": "g", "kind": "open_grid", "settings": {"source": str(hills_tif)}},
            {"id": "s", "kind": "slope", "inputs": {"dem": "g"}},
            {"id": "a", "kind": "aspect", "inputs": {"dem": "g"}},
        ],
    }
    file, out = tmp_path / "two.moss", tmp_path / "out"
    file.write_text(json.dumps(study))
    assert said(capsys, "run", file, "-o", out)[0] == 0
    study["steps"][2] = {"id": "c", "kind": "threshold", "name": "No bound", "inputs": {"surface": "s"}}
    file.write_text(json.dumps(study))
    code, _, err = said(capsys, "run", file, "-o", out)
    assert code == 1 and "No bound: threshold needs a bound" in err and "Written before it" in err
    study["steps"].pop()
    file.write_text(json.dumps(study))
    code, text, _ = said(capsys, "run", file, "-o", out)
    assert code == 0 and "Left of an earlier run, and not written now: a_aspect" in text
    study["steps"][1]["name"] = "Steepness"
    file.write_text(json.dumps(study))
    code, text, _ = said(capsys, "run", file, "-o", out)
    assert code == 0 and "Left of an earlier run, and not written now: s_" in text
    code, text, _ = said(capsys, "run", file, "-o", out, "--dry-run")
    assert code == 0 and "(slope)" in text and "-> " in text


# --- completion and manual


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completions_are_scripts_that_their_shells_read(capsys, tmp_path, shell):
    code, text, _ = said(capsys, "completion", shell)
    assert code == 0 and "slope" in text and "unit=percent" in text
    if shutil.which(shell):
        script = tmp_path / "c"
        script.write_text(text)
        subprocess.run([shell, "-n", script], check=True)


@pytest.mark.skipif(not shutil.which("bash"), reason="needs bash")
@pytest.mark.parametrize(
    ("typed", "offered"),
    [
        ("moss-step st", "steps"),
        ("moss-step do slop", "slope"),
        ("moss-step do slope un", "unit=degrees"),
        ("moss-step do slope unit=p", "percent"),
    ],
)
def test_words_are_completed_in_bash(capsys, tmp_path, typed, offered):
    script = tmp_path / "c"
    script.write_text(said(capsys, "completion", "bash")[1])
    asked = f"source {script}; COMP_LINE='{typed}'; COMP_POINT={len(typed)}; _moss_step; printf '%s\\n' \"${{COMPREPLY[@]}}\""
    ran = subprocess.run(["bash", "-c", asked], capture_output=True, text=True, check=False)
    assert offered in ran.stdout.split(), ran.stdout + ran.stderr


def test_the_manual_has_every_step(capsys):
    code, text, _ = said(capsys, "manual")
    assert code == 0 and text.startswith(".TH MOSS-STEP 1")
    assert all(f".SS {kind}\n" in text for kind in catalogue())
    assert not [line for line in text.splitlines() if line.startswith("'")]


# --- the desktop


def test_the_desktop_finds_program_icon_and_type_of_studies(capsys, tmp_path, monkeypatch):
    """Read by the parsers of the standard library; the entry's program is there and takes files."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "da ta"))
    code, text, _ = said(capsys, "install-desktop")
    assert (
        code == 0 and all(Path(line).is_file() for line in text.splitlines()) and len(text.splitlines()) == 4
    )
    entry = configparser.ConfigParser(interpolation=None)
    entry.read(tmp_path / "da ta/applications/moss-step.desktop")
    program, files = shlex.split(entry["Desktop Entry"]["Exec"])
    assert Path(program).is_file() and files == "%F"
    types = ElementTree.fromstring((tmp_path / "da ta/mime/packages/moss-step-study.xml").read_text())  # noqa: S314
    assert types.find(".//{*}glob").get("pattern") == "*.moss"
    about = ElementTree.fromstring((tmp_path / "da ta/metainfo/moss-step.metainfo.xml").read_text())  # noqa: S314
    assert about.findtext("launchable") == "moss-step.desktop"
    assert said(capsys, "install-desktop")[1] == text, "again"


def test_without_the_window_library_one_line_says_so(tmp_path):
    code = (
        "import sys; sys.modules['PySide6'] = None\nfrom moss_step.cli import main; sys.exit(main(['demo']))"
    )
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert ran.returncode == 1 and ran.stderr.startswith("moss-step: The window is not installed")


def test_a_study_is_read_with_nothing_loaded_for_steps_that_it_has_not(tmp_path):
    (tmp_path / "a.moss").write_text(
        '{"moss_step_study": 2, "steps": [{"id": "ground", "kind": "open_grid", "settings": {"source": "a.tif"}}]}'
    )
    script = (
        "import sys; from pathlib import Path; from moss_step.study.saving import load_study\n"
        f"study = load_study(Path({str(tmp_path / 'a.moss')!r}))\n"
        "print(len(study.steps), sorted(n for n in sys.modules if n.startswith('moss_step.steps.')))"
    )
    ran = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert ran.stdout.startswith("1 ") and "steps.gather" in ran.stdout and "steps.sight" not in ran.stdout
