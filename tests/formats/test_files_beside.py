"""Files that speak of another one: they are replaced with it, or go before it, whenever the writing ends."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pyogrio
import pytest
import shapely

from moss_step.formats import mesh
from moss_step.formats.picture import write_tiff
from moss_step.formats.shapefile import write_shapefile
from moss_step.formats.whole import half_folder, whole_file
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from tests.grounds import GROUNDS


def points(count: int) -> Shapes:
    places = np.array([shapely.Point(412_000 + k, 5_871_000) for k in range(count)], object)
    return Shapes(places, {"number": np.arange(count)}, "EPSG:32633")


def read(path: Path) -> tuple[int, list[int]]:
    _, _, geometry, (numbers,) = pyogrio.raw.read(path)
    return len(geometry), numbers.tolist()


@pytest.mark.parametrize("name", ["a.shp", "A.SHP", "north.moor.shp"])
def test_a_shapefile_is_replaced_with_all_that_speaks_of_it(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    write_shapefile(path, points(9))
    beside = [path.with_suffix(e) for e in (".qix", ".sbn", ".SBX", ".idm")] + [tmp_path / f"{name}.aux.xml"]
    for file in beside:
        file.write_text("of the nine")
    (tmp_path / "other.qix").write_text("of another")
    write_shapefile(path, points(2))
    assert read(path) == (2, [0, 1])
    assert not any(f.exists() for f in beside) and (tmp_path / "other.qix").exists()


@pytest.mark.parametrize("at", range(5))
def test_a_shapefile_that_cannot_be_put_in_place_leaves_the_old_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, at: int
) -> None:
    path = tmp_path / "a.shp"
    write_shapefile(path, points(9))
    before = {f.name: f.read_bytes() for f in tmp_path.iterdir()}
    move, left = Path.replace, iter(range(len(before) + at))

    def fails(self: Path, target: Path) -> Path:
        if next(left, None) is None and self.parent.name == "new":
            raise PermissionError(13, "Permission denied")
        return move(self, target)

    monkeypatch.setattr(Path, "replace", fails)
    with pytest.raises(MossError, match="no permission"):
        write_shapefile(path, points(2))
    assert {f.name: f.read_bytes() for f in tmp_path.iterdir()} == before


def test_what_a_killed_program_left_half_unpacked_is_swept(tmp_path: Path) -> None:
    ended = next(n for n in range(4_000_000, 1, -1) if not Path(f"/proc/{n}").exists())
    left, kept = tmp_path / f".moss-{ended}-x", tmp_path / ".moss-mine"
    elsewhere = tmp_path / "elsewhere"
    for folder in (left, kept, elsewhere):
        folder.mkdir()
        (folder / "file").write_text("x")
    (tmp_path / f".moss-{ended}-link").symlink_to(elsewhere)
    with half_folder(tmp_path / "made") as part:
        assert part.is_dir() and part.parent == tmp_path
        (part / "file").write_text("x")
        with whole_file(tmp_path / "beside.txt") as file:
            file.write_text("whole")
        assert part.is_dir()
    assert sorted(f.name for f in tmp_path.iterdir()) == [".moss-mine", "beside.txt", "elsewhere"]
    assert (elsewhere / "file").exists()


@pytest.fixture
def ends_early(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """The program ends after a file is in its place, and before those beside it are."""

    def fails(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(mesh, "write_text", fails)
    yield


@pytest.mark.parametrize("ending", mesh.ENDINGS)
def test_a_mesh_never_stands_beside_the_place_of_another(
    tmp_path: Path, ending: str, request: pytest.FixtureRequest
) -> None:
    path = tmp_path / f"g{ending}"
    mesh.write_mesh(path, GROUNDS["square cells"], "first")
    assert "first" in (tmp_path / f"g{ending}.place.txt").read_text()
    old = path.read_bytes()
    request.getfixturevalue("ends_early")
    with pytest.raises(KeyboardInterrupt):
        mesh.write_mesh(path, GROUNDS["cells four times as wide as high"], "second")
    assert path.read_bytes() != old and [f.name for f in tmp_path.iterdir()] == [path.name]


def test_a_picture_never_stands_beside_the_place_of_another(tmp_path: Path) -> None:
    path, pixels = tmp_path / "p.tif", np.zeros((4, 6, 3), np.uint8)
    for name in ("p.tfw", "p.tif.aux.xml"):
        (tmp_path / name).write_text("of an older one")
    write_tiff(path, pixels, 300)
    assert [f.name for f in tmp_path.iterdir()] == ["p.tif"]
