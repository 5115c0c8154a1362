"""Studies run tile by tile from the command line: with workers, after a kill, on damaged files."""

import json
import os
import signal
import subprocess
import sys
import time
import warnings
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import dask
import numpy as np
import psutil
import pytest
import rasterio
import shapely
import tifffile
from distributed import CancelledError, LocalCluster, Scheduler, get_worker

from moss_step.cli import main
from moss_step.formats.raster_write import write_surface
from moss_step.formats.tiled import lay_out
from moss_step.formats.vector import write_shapes
from moss_step.large import crew, hands, jobs
from moss_step.large.chain import Done
from moss_step.large.crew import Cluster, Once, Work, workers_of
from moss_step.large.crew import check_workers as check
from moss_step.large.hand import NEEDED
from moss_step.large.hands import workers_here
from moss_step.large.journal import Journal
from moss_step.large.tiling import Tile, Tiling, bands
from moss_step.line.tiles import WORK
from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.summary import Summary
from moss_step.model.units import UNKNOWN
from moss_step.study.graph import Step, Study
from moss_step.study.saving import save_study
from moss_step.study.told import Said
from tests.grounds import holed, metric, relief

ROWS, COLS = 1100, 1300


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("runs")
    write_surface(made / "ground.tif", metric(holed(relief(5, ROWS, COLS))), "ground")
    write_shapes(made / "spots.gpkg", _spots(), "spots")
    save_study(_study(made / "ground.tif"), made / "study.json")
    return made


def _spots() -> Shapes:
    """Heights at places all over the ground."""
    dice, frame = np.random.default_rng(2), metric(relief(5, ROWS, COLS)).frame
    x0, y0, x1, y1 = frame.box
    places = np.asarray(shapely.points(dice.uniform(x0, x1, 90), dice.uniform(y0, y1, 90)))
    return Shapes(places, {"z": dice.uniform(200.0, 300.0, 90)}, frame.crs, {"z": "m"})


def _middle() -> tuple[float, float]:
    x0, y0, x1, y1 = metric(relief(5, ROWS, COLS)).frame.box
    return 0.5 * (x0 + x1), 0.5 * (y0 + y1)


def _study(source: Path) -> Study:
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(source)}),
            Step(id="slope", kind="slope", inputs={"dem": "ground"}),
            Step(id="steep", kind="classify", inputs={"surface": "slope"}, settings={"rules": "fao_slope"}),
            Step(id="flow", kind="flow_accumulation", inputs={"dem": "ground"}),
            Step(id="spots", kind="open_shapes", settings={"source": str(source.with_name("spots.gpkg"))}),
            Step(
                id="between",
                kind="interpolate",
                inputs={"points": "spots", "like": "ground"},
                settings={"column": "z", "method": "natural_neighbour"},
            ),
            Step(
                id="seen",
                kind="viewshed",
                inputs={"dem": "ground"},
                settings={"at": [_middle()], "observer_height": 20.0},
            ),
        )
    )


def words_for(study: Path, out: Path, *more: str) -> list[str]:
    """The words of a run."""
    return ["run", str(study), "-o", str(out), *more]


def _values(folder: Path) -> dict[str, np.ndarray]:
    result = {}
    for path in sorted(folder.glob("*.tif")):
        with rasterio.open(path) as file:
            result[path.name] = file.read(1, masked=True).filled(0)
    return result


@pytest.fixture(scope="module")
def expected(folder: Path) -> dict[str, np.ndarray]:
    assert main(words_for(folder / "study.json", folder / "whole", "-q")) == 0
    return _values(folder / "whole")


def _same(ours: dict[str, np.ndarray], theirs: dict[str, np.ndarray]) -> None:
    assert ours.keys() == theirs.keys()
    for name, values in theirs.items():
        np.testing.assert_array_equal(ours[name], values, name)


def test_workers_give_what_one_piece_gives(
    folder: Path, expected: dict[str, np.ndarray], capsys: pytest.CaptureFixture[str]
) -> None:
    out = folder / "workers"
    words = words_for(folder / "study.json", out, "--workers", "2", "--tile-cells", "300000", "--json")
    assert main([*words, "-q"]) == 0
    said = json.loads(capsys.readouterr().out)
    _same(_values(out), expected)
    assert not (out / WORK).exists()
    assert json.loads((out / "results.json").read_text())["complete"]
    refused = [w for w in said["warnings"] if "was not written. Only kriging has a variogram" in w]
    assert len(refused) == 1, "as in one piece, the rest is there all the same"
    assert {f["step"] for f in said["findings"]} == {
        "ground",
        "slope",
        "steep",
        "flow",
        "spots",
        "between",
        "seen",
    }
    assert "BLAKE3" in next(out.glob("slope*.txt")).read_text()
    assert next(out.glob("steep*.csv")).read_text().startswith("from,to,class")
    (table,), (alone,) = out.glob("steep*.aux.xml"), (folder / "whole").glob("steep*.aux.xml")
    assert table.read_text() == alone.read_text()


def test_water_on_a_ground_of_many_cells_goes_in_tiles_unasked(
    folder: Path, expected: dict[str, np.ndarray], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(jobs, "MANY", 100_000)
    out, dry = folder / "unasked", folder / "dry"
    assert main(words_for(folder / "study.json", out, "-q")) == 0
    _same(_values(out), expected)
    assert not (out / WORK).exists()
    assert main(words_for(folder / "study.json", dry, "-q", "--only", "steep")) == 0
    # What comes of tiles is not compressed.
    assert {_compressed(p) for p in out.glob("*.tif")} == {False}
    assert {_compressed(p) for p in dry.glob("*.tif")} == {True}


def _compressed(path: Path) -> bool:
    with rasterio.open(path) as file:
        return file.compression is not None


def test_only_what_is_asked_for_is_written(folder: Path) -> None:
    out = folder / "only"
    assert main(words_for(folder / "study.json", out, "-q", "--only", "steep", "--tile-cells", "300000")) == 0
    assert {p.name.split("_")[0] for p in out.iterdir()} == {"steep", "results.json"}
    assert main(words_for(folder / "study.json", out, "-q", "--only", "none")) == 2


def test_a_run_that_was_killed_goes_on_where_it_was(folder: Path, expected: dict[str, np.ndarray]) -> None:
    out = folder / "killed"
    command = [sys.executable, "-c", _SLOWLY, str(folder / "study.json"), str(out)]
    running = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    end = time.monotonic() + 60
    while time.monotonic() < end and not any(
        len(p.read_text().splitlines()) >= 2 for p in out.glob(f"{WORK}/*/*.done")
    ):
        time.sleep(0.01)
    running.kill()
    running.wait()
    journal = next(out.glob(f"{WORK}/*/*.done"))
    before = journal.read_text().splitlines()
    assert 2 <= len(before) < 9
    journal.write_text("\n".join(before) + '\n{"tile": "r0c')  # the line that was being written
    began = {p: p.stat().st_ino for p in out.glob(f"{WORK}/*/slope.tif")}
    assert len(began) == 1
    assert main(words_for(folder / "study.json", out, "-q", "--tile-cells", "300000")) == 0
    _same(_values(out), expected)
    assert (
        next(out.glob("slope*.tif")).stat().st_ino in began.values()
    )  # the file of the first run was filled


_SLOWLY = """
import sys, time
from moss_step.large import chain
finish = chain.ChainWork.finish
def slowly(*args):
    result = finish(*args)
    time.sleep(0.4)
    return result
chain.ChainWork.finish = slowly
from moss_step.cli import main
main(["run", sys.argv[1], "-o", sys.argv[2], "-q", "--tile-cells", "300000"])
"""


def test_a_run_that_was_killed_while_its_work_was_removed_can_be_run_again(
    folder: Path, expected: dict[str, np.ndarray], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    words = words_for(folder / "study.json", tmp_path / "out", "-q", "--tile-cells", "300000")

    def half(removed: Path, **_: object) -> None:
        for cells in sorted(removed.rglob("*.cells"))[::2]:
            cells.unlink()
        raise KeyboardInterrupt

    with monkeypatch.context() as patch:
        patch.setattr("moss_step.line.tiles.shutil.rmtree", half)
        assert main(words) == 130
    assert list((tmp_path / "out" / WORK).rglob("*.done"))
    assert main(words) == 0
    _same(_values(tmp_path / "out"), expected)
    assert not (tmp_path / "out" / WORK).exists()


def test_tiles_whose_file_was_changed_are_done_again(tmp_path: Path) -> None:
    tiling = Tiling((1024, 512), 512, 512)
    target = lay_out(
        tmp_path / "t.tif", Frame(1024, 512, 0, 0, 1, 1), np.dtype(np.float32), -9999.0, lambda _: None
    )
    journal = Journal(tmp_path / "t.done")
    for tile in tiling:
        digest = target.write(tile.rows, tile.cols, np.full((512, 512), 3.0, np.float32))
        journal.add(tile, Done({"t": Said((), (), 1, Summary(1, 3.0, 3.0, 3.0))}, {"t": digest}))
    tiles = {t.name: t for t in tiling}
    assert journal.done({"t": target}, tiles).keys() == {"r0c0", "r1c0"}
    target.write(slice(512, 1024), slice(0, 512), np.full((512, 512), 4.0, np.float32))
    assert journal.done({"t": target}, tiles).keys() == {"r0c0"}


class DiesOnce(Work):
    """Work on tiles whose process is killed at one of them, the first time."""

    def __init__(self, mark: Path) -> None:
        self.mark = mark

    def read(self, tile: Tile) -> int:
        if tile.row == 2 and not self.mark.exists():
            self.mark.touch()
            os.kill(os.getpid(), signal.SIGKILL)
        return tile.row

    def work_out(self, _: Tile, row: int) -> int:
        return row * row

    def finish(self, tile: Tile, row: int, square: int) -> tuple[int, int]:
        if row == 99:
            raise MossError("This tile cannot be done.", "Leave it out.")
        return row, square


def test_a_worker_that_dies_changes_nothing_and_what_cannot_be_done_is_said(tmp_path: Path) -> None:
    tiles = list(Tiling((8, 1), 1, 1))
    with workers_here(2) as crew:
        assert crew.hands == 2
        assert dask.config.get("scheduler", None) is None  # what else this process does goes on as before
        assert crew.address.startswith("tls://127.0.0.1:")  # who has no key is not heard
        with pytest.raises(MossError, match="No scheduler answers"), workers_of(crew.address, []):
            pass
        done = dict(crew.each(DiesOnce(tmp_path / "died"), tiles, silent(), "Trying"))
        assert (tmp_path / "died").exists()
        assert {t.row: v for t, v in done.items()} == {k: (k, k * k) for k in range(8)}
        with pytest.raises(MossError, match="cannot be done"):
            list(crew.each(DiesOnce(tmp_path), [Tile(99, 0, 0, 1, 0, 1)], silent(), ""))
        stopped = Progress()
        stopped.stop()
        with pytest.raises(StoppedError):
            list(crew.each(DiesOnce(tmp_path), tiles, stopped, ""))


def _check_that_small_tiles_go_some_at_a_time(
    crew: Cluster, mark: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    client, sent = crew._client, list[int]()
    submit = client.submit

    def counted(work: Callable[..., object], some: list[object], name: str, **how: object) -> object:
        sent.append(len(some))
        return submit(work, some, name, **how)

    monkeypatch.setattr(client, "submit", counted)
    tiles = list(Tiling((97, 1), 1, 1))
    done = [(t.row, v) for t, v in crew.each(DiesOnce(mark), tiles, silent(), "Trying")]
    assert sorted(done) == [(k, (k, k * k)) for k in range(97)]
    assert sum(sent) == 97 and len(sent) < 30
    assert sent[0] == 8 and sent[-1] == 1 and sent == sorted(sent, reverse=True)
    with pytest.raises(MossError, match="cannot be done"):
        list(crew.each(DiesOnce(mark), list(Tiling((120, 1), 1, 1)), silent(), "Trying"))


def test_a_cluster_that_is_there_already_works_on_tiles(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tiles, mark = list(Tiling((8, 1), 1, 1)), tmp_path / "died"
    mark.touch()
    here = {"processes": False, "protocol": "tcp://", "host": "127.0.0.1", "dashboard_address": None}
    with LocalCluster(n_workers=2, threads_per_worker=1, **here) as cluster:
        with workers_of(cluster.scheduler_address, [tmp_path]) as crew:
            done = dict(crew.each(DiesOnce(mark), tiles, silent(), "Trying"))
            assert {t.row: v for t, v in done.items()} == {k: (k, k * k) for k in range(8)}
            _check_that_small_tiles_go_some_at_a_time(crew, mark, monkeypatch)
        with (
            pytest.raises(MossError, match="does not see"),
            workers_of(cluster.scheduler_address, [tmp_path / "gone"]),
        ):
            pass


class _Client:
    """Answers for workers."""

    def __init__(self, answers: dict[str, object]) -> None:
        self.answers = answers

    def run(self, work: Callable[..., object], files: list[str], on_error: str) -> dict[str, object]:
        return self.answers


@pytest.mark.parametrize(
    ("answers", "said"),
    [
        ({}, "has no workers"),
        ({"tcp://a:1": ("0.0.1", [])}, r"version 0\.0\.1, and this is"),
        ({"tcp://a:1": ImportError("No module named 'moss_step'")}, "cannot run this program"),
        ({"tcp://a:1": (None, ["/shared/g.tif"])}, "does not see /shared/g.tif"),
    ],
)
def test_workers_that_will_not_do_are_refused(answers: dict[str, object], said: str) -> None:
    from moss_step import __version__

    filled = {
        k: (__version__, v[1]) if isinstance(v, tuple) and v[0] is None else v for k, v in answers.items()
    }
    with pytest.raises(MossError, match=said):
        check(_Client(filled), "tcp://a:2", [Path("/shared/g.tif")])


def test_a_scheduler_that_is_not_there_is_said(
    folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr("moss_step.large.crew.WAIT", 1.0)
    words = words_for(folder / "study.json", folder / "none", "-q", "--scheduler")
    assert main([*words, "tcp://127.0.0.1:9"]) == 1
    assert "No scheduler answers at tcp://127.0.0.1:9" in capsys.readouterr().err
    assert main([*words, "http://127.0.0.1:9"]) == 2
    with pytest.raises(AskedWronglyError), workers_here(0):
        pass
    with pytest.raises(AskedWronglyError), workers_of("file:///x", []):
        pass


def test_a_worker_that_takes_long_to_end_hides_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    """Its library waits for some seconds, and then raises what is an error of the system to others."""
    close = LocalCluster.__exit__

    def late(cluster: LocalCluster, *how: object) -> None:
        close(cluster, *how)
        raise TimeoutError

    monkeypatch.setattr(LocalCluster, "__exit__", late)
    with pytest.raises(StoppedError), workers_here(1):
        raise StoppedError
    with warnings.catch_warnings(record=True) as said:
        warnings.simplefilter("always")
        with workers_here(1) as crew, workers_here(1):
            found = [n for _, n in crew.each(Patient(), [Tile(0, 0, 0, 1, 0, 1)], silent(), "Waiting")]
    assert found == [0]
    assert not [w for w in said if "already in use" in str(w.message)], (
        "a second run asks for no port of the first"
    )


class Ready(Work):
    """Makes ready once, which takes long with others; says so in a file."""

    def __init__(self, note: Path) -> None:
        self.note, self._made = note, Once(self.make)

    def make(self) -> int:
        with self.note.open("a") as file:
            file.write("made\n")
        return 7

    def read(self, tile: Tile) -> int:
        """What was made."""
        return int(self._made.get())

    def work_out(self, tile: Tile, read: int) -> int:
        """As many times as the tile says."""
        return read * tile.row


def test_a_worker_makes_ready_once_for_all_tiles_of_a_work(tmp_path: Path) -> None:
    tiles = [Tile(k, 0, 0, 4000, 0, 4000) for k in range(9)]
    with workers_here(2) as crew:
        for turn in (1, 2):
            found = crew.each(Ready(tmp_path / f"note {turn}"), tiles, silent(), "Working")
            assert sorted(n for _, n in found) == [7 * k for k in range(9)]
            assert len((tmp_path / f"note {turn}").read_text().splitlines()) <= 2


def test_workers_that_cannot_be_begun_are_told(monkeypatch: pytest.MonkeyPatch) -> None:
    def nowhere(*_: object, **__: object) -> None:
        raise OSError("no port is free")

    monkeypatch.setattr(Scheduler, "start_http_server", nowhere)
    with (
        pytest.raises(MossError, match="Workers could not be begun here: .*no port is free"),
        workers_here(1),
    ):
        pass


def test_workers_that_end_before_they_have_joined_are_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(hands.sys, "executable", str(tmp_path / "python"))
    with pytest.raises(MossError, match="Workers could not be begun here: .*python"), workers_here(1):
        pass
    (tmp_path / "python").symlink_to("/bin/false")
    with (
        pytest.raises(MossError, match="Workers could not be begun here: they end before they have joined"),
        workers_here(2),
    ):
        pass
    assert capfd.readouterr() == ("", "")


def test_workers_end_with_the_process_that_began_them(tmp_path: Path) -> None:
    """Whatever ended it, and they say nothing of it."""
    script = (
        "import os, signal, sys\n"
        "from moss_step.large.hands import workers_here\n"
        "with workers_here(2) as crew:\n"
        "    print(*crew._client.run(os.getpid).values(), flush=True)\n"
        "    if sys.argv[1] == 'killed': os.kill(os.getpid(), signal.SIGKILL)\n"
    )
    for how, code in (("killed", -signal.SIGKILL), ("ended", 0)):
        words = [sys.executable, "-c", script, how]
        ran = subprocess.run(words, capture_output=True, text=True, check=False, timeout=300)
        pids = [int(pid) for pid in ran.stdout.split()]
        assert (ran.returncode, len(pids), ran.stderr) == (code, 2, "")
        until = time.monotonic() + 60
        while any(psutil.pid_exists(pid) for pid in pids):
            assert time.monotonic() < until
            time.sleep(0.05)


@pytest.mark.parametrize("whom", ["a worker", "who keeps them"])
def test_workers_that_are_killed_are_begun_anew(whom: str, tmp_path: Path) -> None:
    """Each is a copy of a process that has one thread, or it could be a copy of half of what threads do."""
    (mark := tmp_path / "died").touch()
    with workers_here(2) as two:
        client = two._client
        before = set(client.run(os.getpid).values())
        (keeper,) = set(client.run(os.getppid).values())
        assert len(before) == 2 and psutil.Process(keeper).num_threads() == 1
        os.kill(min(before) if whom == "a worker" else keeper, signal.SIGKILL)
        until = time.monotonic() + 120
        while len(now := set(client.run(os.getpid, on_error="ignore").values())) < 2 or now == before:
            assert time.monotonic() < until
            time.sleep(0.1)
        assert len(now - before) == (1 if whom == "a worker" else 2)
        done = dict(two.each(DiesOnce(mark), list(Tiling((8, 1), 1, 1)), silent(), "Trying"))
        assert {t.row: v for t, v in done.items()} == {k: (k, k * k) for k in range(8)}


def _loaded() -> list[str]:
    return [name for name in NEEDED if name in sys.modules]


def test_a_worker_has_loaded_what_it_needs_before_it_is_sent_a_tile() -> None:
    """It reads what it is sent in another thread than it works in: two that load the same may meet half of it."""
    with workers_here(1) as one:
        assert list(one._client.run(_loaded).values()) == [list(NEEDED)]


def test_what_is_being_loaded_in_one_thread_is_found_by_another_without_the_steps() -> None:
    """A name of the package that another thread has begun to load, and not yet put there, is no step."""
    script = (
        "import sys, moss_step, moss_step.steps; del moss_step.steps\n"
        "from moss_step import steps\n"
        "print(steps.__name__, 'moss_step.door' in sys.modules)"
    )
    ran = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert ran.stdout.split() == ["moss_step.steps", "False"]


class Patient(Work):
    """Works for a moment."""

    def read(self, tile: Tile) -> int:
        """Nothing to speak of."""
        return tile.row

    def work_out(self, tile: Tile, read: int) -> int:
        """The same."""
        return read


class Leaves(Patient):
    """Has its worker end for good."""

    def read(self, tile: Tile) -> int:
        """Nobody begins it anew: it says that it was asked to go."""
        worker = get_worker()
        worker.loop.add_callback(worker.close_gracefully, restart=False)
        time.sleep(60)
        return tile.row


def test_a_run_whose_workers_are_all_gone_ends_and_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(crew, "_LOOK", 0.2)
    monkeypatch.setattr(crew, "_PATIENCE", 2.0)
    with workers_here(1) as one, pytest.raises(MossError, match=r"No worker is left\. Run it again"):
        list(one.each(Leaves(), [Tile(0, 0, 0, 1, 0, 1)], silent(), "Waiting"))


class _Lost:
    """A client, and what it was promised, whose scheduler has gone."""

    key = "whole_work-1"

    def nthreads(self) -> dict[str, int]:
        """It had a worker."""
        return {"tcp://127.0.0.1:9": 1}

    def submit(self, *_: object, **__: object) -> "_Lost":
        """What was promised."""
        return self

    def add_done_callback(self, tell: Callable[["_Lost"], None]) -> None:
        """It is told at once."""
        tell(self)

    def result(self) -> None:
        """As the library says it."""
        raise CancelledError("whole_work-1 cancelled for reason: scheduler-connection-lost.")

    def cancel(self, _: object) -> None:
        """Nobody hears it."""


def test_a_run_whose_scheduler_goes_ends_and_says_so() -> None:
    done = Cluster(_Lost()).each(Patient(), [Tile(0, 0, 0, 1, 0, 1)], silent(), "Waiting")
    with pytest.raises(MossError, match=r"The scheduler is gone\. Start it, and run this again"):
        list(done)


def test_a_part_that_is_damaged_is_named_and_the_rest_is_done(
    folder: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    source = tmp_path / "ground.tif"
    write_surface(source, metric(relief(5, ROWS, COLS)), "ground")
    with rasterio.open(source) as file:
        at = int(file.get_tag_item("BLOCK_OFFSET_3_3", "TIFF", bidx=1))
    data = bytearray(source.read_bytes())
    data[at : at + 400] = os.urandom(400)
    source.write_bytes(bytes(data))
    save_study(_study(source), tmp_path / "study.json")
    out = tmp_path / "out"
    words = words_for(tmp_path / "study.json", out, "-q", "--only", "slope", "--tile-cells", "300000")
    assert main(words) == 1
    said = capsys.readouterr().err
    assert "cannot be read in rows" in said
    assert "Nothing stands there" in said
    with rasterio.open(next(out.glob("slope*.tif"))) as file:
        values = file.read(1, masked=True)
    assert values[:400].count() == 400 * COLS
    assert values.mask.any()
    assert not json.loads((out / "results.json").read_text())["complete"]


def test_a_folder_that_cannot_be_written_and_tiles_that_are_impossible_are_said(
    folder: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    words = ["run", str(folder / "study.json"), "-q", "--tile-cells", "300000", "-o"]
    assert main([*words, "/proc/none"]) == 1
    assert main(["run", str(folder / "study.json"), "-q", "--tile-cells", "3", "-o", str(folder / "x")]) == 2
    assert "--tile-cells 3 is not possible" in capsys.readouterr().err
    assert len(bands((30_000, 30_000))) == 59


def test_without_the_library_workers_say_what_to_install(
    folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr("moss_step.large.crew.find_spec", lambda _: None)
    words = words_for(folder / "study.json", folder / "lacking", "-q", "--workers", "2")
    assert main(words) == 1
    assert "pip install 'moss-step[workers]'" in capsys.readouterr().err


def test_a_source_whose_name_is_none_is_said_in_a_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for name in ("a\0b.tif", "none.tif"):
        study = {"steps": [{"id": "ground", "kind": "open_grid", "settings": {"source": name}}]}
        (tmp_path / "s.moss").write_text(json.dumps(study))
        for more in ((), ("--tile-cells", "300000")):
            assert main(words_for(tmp_path / "s.moss", tmp_path / "o", "-q", *more)) in (1, 2)
            assert "went wrong inside" not in capsys.readouterr().err


def test_a_disk_that_fills_up_is_said_and_the_run_goes_on_when_there_is_room(
    folder: Path,
    expected: dict[str, np.ndarray],
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    out, write, written = folder / "full", os.pwrite, list[int]()

    def full(file: int, data: bytes, offset: int) -> int:
        written.append(offset)
        return write(file, data, offset) if len(written) < 9 else len(data) // 2

    words = words_for(folder / "study.json", out, "-q", "--tile-cells", "300000")
    with monkeypatch.context() as patched:
        patched.setattr("moss_step.formats.tiled.os.pwrite", full)
        assert main(words) == 1
    assert "the disk is full" in capsys.readouterr().err
    assert not list(out.glob("*.tif"))
    assert not json.loads((out / "results.json").read_text())["complete"]
    assert main(words) == 0
    _same(_values(out), expected)


def test_memory_is_kept_in_a_process_of_its_own_alone(
    folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    kept = list[bool]()
    monkeypatch.setattr("moss_step.line.tiles.keep_freed", lambda: kept.append(True))
    words = words_for(folder / "study.json", tmp_path / "out", "--tile-cells", str(512 * 512), "-q")
    assert main([*words, "--only", "slope"]) == 0 and not kept
    assert main([*words, "--only", "slope"], own=True) == 0 and kept == [True]


def test_a_run_in_tiles_says_in_the_end_what_one_in_one_piece_says(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Of results that fit in memory, too: here that no unit of the heights is stated."""
    write_surface(tmp_path / "ground.tif", replace(metric(relief(5, 520, 600)), unit=UNKNOWN), "ground")
    steps = [Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")})]
    for kind, settings in (
        ("slope", {}),
        ("streams", {"min_area": 4e4}),
        ("basins", {}),
        ("contours", {"interval": 9.0}),
    ):
        steps.append(Step(id=kind, kind=kind, inputs={"dem": "ground"}, settings=settings))
    save_study(Study(steps=tuple(steps)), tmp_path / "study.json")
    said = list[list[str]]()
    for more in ((), ("--tile-cells", str(512 * 512))):
        assert main(words_for(tmp_path / "study.json", tmp_path / "out", "-q", "--json", *more)) == 0
        said.append(sorted(json.loads(capsys.readouterr().out)["warnings"]))
    assert said[0] == said[1] and sum("not stated" in line for line in said[0]) == 5


def test_what_ends_a_run_is_said_with_the_step_and_with_what_was_written(
    folder: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    steps = (
        Step(id="ground", kind="open_grid", settings={"source": str(folder / "ground.tif")}),
        Step(id="slope", kind="slope", inputs={"dem": "ground"}),
        Step(id="brooks", kind="streams", inputs={"dem": "ground"}, settings={"min_area": 1e12}),
    )
    save_study(Study(steps=steps), tmp_path / "study.json")
    said = list[str]()
    for name, more in (("a", ()), ("b", ("--tile-cells", "300000"))):
        assert main(words_for(tmp_path / "study.json", tmp_path / name, "-q", *more)) == 1
        said.append(capsys.readouterr().err.replace(str(tmp_path / name), "OUT"))
    assert said[0] == said[1]
    assert said[0].startswith("moss-step: Streams of Ground: ")
    assert said[0].count("Streams of") == 1 and said[0].endswith("Written before it: 2 files in OUT.\n")


def test_a_ground_none_of_which_can_be_read_is_told_in_a_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "ground.tif"
    write_surface(path, metric(relief(5, 520, 600)), "ground")
    with tifffile.TiffFile(path) as file:
        places = [*zip(file.pages[0].dataoffsets, file.pages[0].databytecounts, strict=True)]
    with path.open("r+b") as raw:
        for offset, size in places:
            raw.seek(offset)
            raw.write(b"\xff" * size)
    steps = (
        Step(id="ground", kind="open_grid", settings={"source": str(path)}),
        Step(id="slope", kind="slope", inputs={"dem": "ground"}),
        Step(id="steep", kind="classify", inputs={"surface": "slope"}, settings={"rules": "fao_slope"}),
    )
    save_study(Study(steps=steps), tmp_path / "study.json")
    assert (
        main(words_for(tmp_path / "study.json", tmp_path / "out", "-q", "--tile-cells", str(512 * 512))) == 1
    )
    said = capsys.readouterr().err
    assert said.count("\n") == 1 and "Nothing stands there" in said and "went wrong inside" not in said
