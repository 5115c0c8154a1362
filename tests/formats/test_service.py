"""An elevation service as the Gather bench asks it: listed, fetched in parts, kept, and held to its limits.

The service is the one to practise with, with and without its faults; what it must not do is done by small servers
of the tests' own.
"""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import numpy as np
import pytest
import rasterio
import rasterio.shutil
import rasterio.windows

from moss_step.demo.surroundings import Tiles
from moss_step.formats import asking, service, service_kept
from moss_step.formats.asking import Connection, check_address
from moss_step.formats.cog import Copies, read_copy
from moss_step.formats.service import ServiceTile
from moss_step.formats.service_kept import Kept
from moss_step.formats.service_view import view
from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.progress import Progress, silent
from moss_step.practice.elevation import Faults, Server


@pytest.fixture(scope="module")
def tiles(tmp_path_factory: pytest.TempPathFactory) -> Tiles:
    made = Tiles(tmp_path_factory.mktemp("tiles"))
    for name in made.names:
        made.file(name)
    return made


@contextmanager
def serving(tiles: Tiles, port: int = 0, **faults: float) -> Iterator[Server]:
    with Server(tiles, Faults(**faults), port) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server
        server.shutdown()


def test_what_is_in_view_comes_at_the_cells_that_show(tiles: Tiles, tmp_path: Path) -> None:
    with serving(tiles) as server:
        kept = Kept(tmp_path / "kept")
        listing = kept.listing(server.address)
        assert {t.name for t in listing.tiles} == set(tiles.names)
        assert (listing.old, listing.title) == ("", "Elevation to practise with")
        middle = tiles.tile("r1c1")
        coarse = view(kept, listing.tiles, middle.frame.box, 8.0, silent())
        held = sum(f.stat().st_blocks * 512 for f in kept.folder.glob("*.tif"))
        assert coarse.frame.dx == 8.0
        assert held < 0.3 * tiles.file("r1c1").stat().st_size  # the finest cells stayed where they were
        with rasterio.open(tiles.file("r1c1"), OVERVIEW_LEVEL=1) as file:
            np.testing.assert_array_equal(coarse.values, file.read(1, masked=True).filled(np.nan))
        fine = view(kept, listing.tiles, middle.frame.box, 2.0, silent())
        np.testing.assert_array_equal(fine.values, middle.values)
        assert fine.frame.box == middle.frame.box
        west, south, *_ = middle.frame.box
        across = view(kept, listing.tiles, (west - 300, south - 100, west + 500, south + 700), 2.0, silent())
        assert across.frame.shape == (400, 400)
        assert across.valid_count == 160_000
        np.testing.assert_array_equal(across.values[:350, 150:], middle.values[-350:, :250])
        np.testing.assert_array_equal(across.values[:350, :150], tiles.tile("r1c0").values[-350:, -150:])
        with pytest.raises(MossError, match="no ground here"):
            view(kept, listing.tiles, (0.0, 0.0, 100.0, 100.0), 2.0, silent())


def test_a_service_that_fails_gives_the_same_in_the_end(
    tiles: Tiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("moss_step.practice.elevation.WAIT", 0)
    monkeypatch.setattr(asking, "FIRST_WAIT", 0.01)
    monkeypatch.setattr(asking, "MOST_TRIES", 12)
    box = tiles.tile("r1c1").frame.box
    with serving(tiles, failures=0.3, wrong=0.3, seed=5) as server:
        kept, said = Kept(tmp_path), list[str]()
        listing = kept.listing(server.address, Progress(lambda _, doing: said.append(doing)))
        ground = view(kept, listing.tiles, box, 2.0, silent())
        np.testing.assert_array_equal(ground.values, tiles.tile("r1c1").values)
        assert any("Asking again" in s for s in said)


def test_work_goes_on_without_the_service_and_what_is_old_is_said(
    tiles: Tiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(asking, "FIRST_WAIT", 0.01)
    box = tiles.tile("r1c1").frame.box
    kept = Kept(tmp_path)
    with serving(tiles) as server:
        address, port = server.address, server.server_address[1]
        listing = kept.listing(address)
        view(kept, listing.tiles, box, 8.0, silent())
    offline = kept.listing(address)
    assert "does not answer" in offline.old
    assert offline.tiles == listing.tiles
    assert kept.known() == [address]
    same = view(kept, offline.tiles, box, 8.0, silent())
    assert same.valid_count > 0
    middle = next(t for t in offline.tiles if t.name == "r1c1")
    assert kept.fetched(middle).startswith("20")
    assert not kept.outdated(middle)
    with pytest.raises(MossError, match="does not answer"):
        view(kept, offline.tiles, box, 2.0, silent())  # finer than what is at hand
    with serving(tiles, port) as again:
        document = again.tiles.document
        changed: Callable[[str], dict | None] = lambda path: _newer(document(path))  # noqa: E731 - one line is enough
        monkeypatch.setattr(again.tiles, "document", changed)
        listing = kept.listing(address)
        middle = next(t for t in listing.tiles if t.name == "r1c1")
        assert kept.outdated(middle)
        view(kept, listing.tiles, box, 8.0, silent())
        assert not kept.outdated(middle)
    with pytest.raises(MossError, match="does not answer"):
        Kept(tmp_path / "other").listing(address)


def _newer(page: dict | None) -> dict | None:
    if page is not None and page["type"] == "Feature":
        page = {**page, "properties": {**page["properties"], "updated": "2026-10-01T00:00:00Z"}}
    return page


@pytest.mark.parametrize(
    "address",
    ["", "http://example.org/c.json", "file:///etc/passwd", "ftp://127.0.0.1/x", "https://", "https://a:b@host/x",
     "http://127.0.0.1.example.org/c", "//127.0.0.1/c", "http://[::1", "https://a\nb/", "/vsicurl/https://x"],
)  # fmt: skip
def test_only_https_and_this_machine_are_asked(address: str, tmp_path: Path) -> None:
    with pytest.raises(AskedWronglyError):
        check_address(address)
    with pytest.raises(AskedWronglyError):
        Kept(tmp_path).listing(address)


class _Odd(BaseHTTPRequestHandler):
    """Answers as the server's ``answers`` say: status, headers and body by path."""

    def do_GET(self) -> None:
        status, headers, body = self.server.answers[self.path]  # type: ignore[attr-defined] # set by ``odd``
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing."""


@contextmanager
def odd(answers: dict[str, tuple[int, dict[str, str], bytes]]) -> Iterator[str]:
    with ThreadingHTTPServer(("127.0.0.1", 0), _Odd) as server:
        server.answers = answers  # type: ignore[attr-defined] # for its handler
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}"
        server.shutdown()


def _json(data: object) -> tuple[int, dict[str, str], bytes]:
    body = json.dumps(data).encode()
    return 200, {"Content-Length": str(len(body))}, body


def _item(**about: object) -> dict[str, object]:
    """A tile of a catalogue, in which something is amiss."""
    plain = {"proj:epsg": 32628, "proj:bbox": [0, 0, 10, 10], "proj:transform": [1, 0, 0, 0, -1, 10]}
    asset = {"href": "x.tif", "type": "image/tiff; application=geotiff"}
    return {
        "type": "Feature",
        "id": "x",
        "bbox": [0, 0, 1, 1],
        "properties": {**plain, **about},
        "assets": {"a": asset},
    }


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        ((302, {"Location": "file:///etc/passwd"}, b""), "elsewhere"),
        ((301, {"Location": "https://other.example/c.json"}, b""), "elsewhere"),
        ((404, {"Content-Length": "0"}, b""), "404"),
        ((200, {"Content-Length": "99999999999"}, b"{"), "more than is taken"),
        ((200, {}, b"{}"), "does not say how much"),
        (_json([1, 2]), "no page of a catalogue"),
        ((200, {"Content-Length": "4"}, b"\x00\xff{]"), "no page of a catalogue"),
        ((200, {"Content-Length": "200000"}, b"[" * 200_000), "no page of a catalogue"),
        (_json({"type": "Feature", "links": []}), "where its tile lies"),
        (_json(_item(**{"proj:epsg": 999_999})), "where its tile lies"),
        (_json(_item(**{"proj:epsg": None, "proj:code": "EPSG:none"})), "where its tile lies"),
        (_json(_item(**{"proj:bbox": [0, 0, 1e999, 1]})), "where its tile lies"),
        (_json(_item(**{"proj:transform": [0, 0, 0, 0, 0, 0]})), "where its tile lies"),
        (_json(_item(**{"proj:transform": []})), "where its tile lies"),
        (_json({"links": [{"rel": "child", "href": "https://other.example/x.json"}]}), "another service"),
        (_json({"links": [{"rel": "child", "href": "file:///etc/passwd"}]}), "another service"),
    ],
)
def test_answers_that_lead_astray_are_refused(
    answer: tuple[int, dict[str, str], bytes], said: str, tmp_path: Path
) -> None:
    with odd({"/c.json": answer}) as address, pytest.raises(MossError, match=said):
        Kept(tmp_path).listing(f"{address}/c.json")
    assert not list(tmp_path.iterdir())


def test_a_code_is_taken_in_either_form(tmp_path: Path) -> None:
    for about in ({}, {"proj:epsg": None, "proj:code": "EPSG:32628"}):
        with odd({"/c.json": _json(_item(**about))}) as address:
            (tile,) = Kept(tmp_path).listing(f"{address}/c.json").tiles
            assert (tile.epsg, tile.cell, tile.box) == (32628, 1.0, (0.0, 0.0, 10.0, 10.0))


def test_a_catalogue_that_goes_round_ends_and_one_without_end_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    around = _json(
        {
            "title": "Round",
            "links": [{"rel": "child", "href": "c.json"}, {"rel": "child", "href": "./c.json#x"}],
        }
    )
    with odd({"/c.json": around, "/c.json#x": around}) as address:
        assert Kept(tmp_path).listing(f"{address}/c.json").tiles == ()
    monkeypatch.setattr(service, "MOST_ITEMS", 5)
    endless = {f"/{k}": _json({"links": [{"rel": "next", "href": f"/{k + 1}"}]}) for k in range(10)}
    with odd(endless) as address, pytest.raises(MossError, match="more than 5 pages"):
        Kept(tmp_path).listing(f"{address}/0")


def test_a_tile_that_is_none_or_lies_elsewhere_is_not_used(
    tiles: Tiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with pytest.raises(MossError, match="bytes that it does not have"):
        Copies.of(tiles.file("r0c0").read_bytes()[:16_384], 100, "x")
    cut = tmp_path / "cut.tif"
    cut.write_bytes(tiles.file("r0c0").read_bytes()[:20_000])
    with pytest.raises(MossError):
        read_copy(cut, 0)
    with serving(tiles) as server:
        kept = Kept(tmp_path)
        listing = kept.listing(server.address)
        moved = [t.__class__(**{**t.__dict__, "box": tuple(v + 50.0 for v in t.box)}) for t in listing.tiles]
        with pytest.raises(MossError, match="from where its catalogue says"):
            view(kept, moved, moved[4].box, 8.0, silent())
        monkeypatch.setattr(server.tiles, "file", lambda _: Path(__file__))
        with pytest.raises(MossError, match="no GeoTIFF"):
            Kept(tmp_path / "b").fetch(listing.tiles[0], 8.0, silent())
        stopped = Progress()
        stopped.stop()
        with pytest.raises(StoppedError):
            Connection(server.address).document(server.address, stopped)


def _one_tile(folder: Path, tiles: Tiles, path: Path, **more: object) -> tuple[Kept, ServiceTile]:
    """A tile that is at hand, from a file of our own making."""
    frame = tiles.ground.frame
    kept = Kept(folder)
    folder.mkdir(exist_ok=True)
    tile = ServiceTile(
        "own", "https://own.example/own.tif", frame.box, frame.box, 32628, frame.dx, "2026", **more
    )  # type: ignore[arg-type] # as they come
    kept.keep(tile, path.read_bytes()[:16_384], path.stat().st_size, 0, path.read_bytes())
    return kept, tile


def _written(
    tiles: Tiles,
    path: Path,
    values: np.ndarray,
    crs: str = "EPSG:32628",
    unit: str = "metre",
    **profile: object,
) -> Path:
    frame = tiles.ground.frame
    place = rasterio.transform.from_origin(frame.x0, frame.y0, frame.dx, frame.dy)
    rows, cols = values.shape
    plain = path.with_suffix(".plain.tif")
    with rasterio.open(
        plain, "w", driver="GTiff", height=rows, width=cols, count=1, dtype=values.dtype, crs=crs, transform=place, **profile
    ) as file:  # fmt: skip
        file.write(values, 1)
        file.units = (unit,)
        if "scale" in str(path):
            file.scales, file.offsets = (0.1,), (100.0,)
    rasterio.shutil.copy(plain, path, driver="COG", overviews="NONE")
    return path


def test_a_tile_is_read_as_its_file_says(tiles: Tiles, tmp_path: Path) -> None:
    """Unit, scale and offset, no-data: as any other grid; what says nothing of its unit has none."""
    values = np.full((1000, 1000), 50, np.int16)
    values[0, 0] = -999
    box = tiles.ground.frame.box
    path = _written(tiles, tmp_path / "scale.tif", values, unit="ft", nodata=-999)
    kept, tile = _one_tile(tmp_path / "a", tiles, path)
    ground = view(kept, [tile], box, 2.0, silent())
    assert ground.unit.key == "foot"
    assert np.isnan(ground.values[0, 0])
    assert float(ground.values[1, 1]) == 105.0
    kept, tile = _one_tile(
        tmp_path / "b", tiles, _written(tiles, tmp_path / "plain.tif", values.astype(np.float32), unit="")
    )
    assert view(kept, [tile], box, 2.0, silent()).unit.key == "unknown"
    small = 4000.0 + np.arange(1_000_000).reshape(1000, 1000) * 1e-8
    kept, tile = _one_tile(tmp_path / "c", tiles, _written(tiles, tmp_path / "double.tif", small))
    np.testing.assert_array_equal(view(kept, [tile], box, 2.0, silent()).values, small)


def test_a_tile_in_another_system_than_it_is_listed_in_is_not_used(tiles: Tiles, tmp_path: Path) -> None:
    values = np.zeros((1000, 1000), np.float32)
    kept, tile = _one_tile(
        tmp_path / "a", tiles, _written(tiles, tmp_path / "other.tif", values, crs="EPSG:32629")
    )
    with pytest.raises(MossError, match="another reference system"):
        view(kept, [tile], tiles.ground.frame.box, 2.0, silent())


def test_tiles_of_several_units_do_not_go_together(tiles: Tiles, tmp_path: Path) -> None:
    values = np.zeros((1000, 1000), np.float32)
    kept, one = _one_tile(tmp_path / "a", tiles, _written(tiles, tmp_path / "m.tif", values))
    path = _written(tiles, tmp_path / "ft.tif", values, unit="ft")
    other = ServiceTile(**{**one.__dict__, "name": "feet", "address": "https://own.example/ft.tif"})
    kept.keep(other, path.read_bytes()[:16_384], path.stat().st_size, 0, path.read_bytes())
    with pytest.raises(MossError, match="measured in metre and in foot"):
        view(kept, [one, other], tiles.ground.frame.box, 2.0, silent())


def test_a_tile_that_would_not_fit_in_memory_is_refused_before_it_is_fetched(
    tiles: Tiles, tmp_path: Path
) -> None:
    """A file of a few bytes may say that it has a million rows and columns."""
    path = tmp_path / "wide.tif"
    with rasterio.open(path, "w", driver="GTiff", height=400_000, width=400_000, count=1, dtype="float32", tiled=True, SPARSE_OK=True,
                       blockxsize=16384, blockysize=16384, BIGTIFF="YES", compress="deflate") as file:  # fmt: skip
        file.write(np.ones((16, 16), np.float32), 1, window=rasterio.windows.Window(0, 0, 16, 16))
    with pytest.raises(MossError, match="more than is taken"):
        _one_tile(tmp_path / "a", tiles, path)


def test_a_kill_between_tile_and_note_leaves_nothing_that_is_taken_for_whole(
    tiles: Tiles, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    values = np.zeros((1000, 1000), np.float32)
    path = _written(tiles, tmp_path / "m.tif", values)
    kept, tile = _one_tile(tmp_path / "a", tiles, path)
    assert kept.fetched(tile)
    newer = ServiceTile(**{**tile.__dict__, "made": "2027"})

    def killed(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(service_kept, "write_text", killed)
    with pytest.raises(KeyboardInterrupt):
        kept.keep(newer, path.read_bytes()[:16_384], path.stat().st_size, 0, path.read_bytes())
    assert not kept.fetched(tile)
    assert not kept.fetched(newer)
