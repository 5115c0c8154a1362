"""The elevation service to practise with: asked by general libraries (urllib3, rasterio, rio-cogeo), with and without
its faults.

STAC 1.0.0 and multihash digests: from memory; ranges and Retry-After: RFC 9110.
"""

from __future__ import annotations

import hashlib
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urljoin

import numpy as np
import pytest
import rasterio
import urllib3
from rio_cogeo.cogeo import cog_validate

from moss_step.demo import DATA
from moss_step.demo.surroundings import COLLECTION, Tiles
from moss_step.practice.elevation import KINDS, WRONGS, Faults, Server


@contextmanager
def serving(folder: Path, **faults: float) -> Iterator[Server]:
    with Server(Tiles(folder), Faults(**faults)) as server:
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        yield server
        server.shutdown()


@pytest.fixture
def pool() -> urllib3.PoolManager:
    return urllib3.PoolManager(retries=False, timeout=60)


def read(pool: urllib3.PoolManager, url: str) -> dict:
    answer = pool.request("GET", url)
    assert answer.status == 200 and answer.headers["Content-Type"] == "application/json"
    return json.loads(answer.data)


def linked(document: dict, base: str, relation: str) -> list[str]:
    return [urljoin(base, link["href"]) for link in document["links"] if link["rel"] == relation]


def test_the_catalogue_leads_to_tiles_that_are_what_it_says(
    tmp_path: Path, pool: urllib3.PoolManager
) -> None:
    with serving(tmp_path) as server:
        catalog = read(pool, server.address)
        assert catalog["type"] == "Catalog" and catalog["stac_version"] == "1.0.0"
        (child,) = linked(catalog, server.address, "child")
        collection = read(pool, child)
        items = linked(collection, child, "item")
        assert collection["id"] == COLLECTION and len(items) == 9
        whole = collection["extent"]["spatial"]["bbox"][0]
        for url in (items[4], items[1]):
            item = read(pool, url)
            assert item["type"] == "Feature" and item["collection"] == COLLECTION
            assert linked(item, url, "collection") == [child] and linked(item, url, "root") == [
                server.address
            ]
            west, south, east, north = item["bbox"]
            assert whole[0] <= west < east <= whole[2] and whole[1] <= south < north <= whole[3]
            asset = item["assets"]["elevation"]
            body = pool.request("GET", urljoin(url, asset["href"])).data
            assert len(body) == asset["file:size"]
            assert asset["file:checksum"] == "1220" + hashlib.sha256(body).hexdigest()
            (tmp_path / "got.tif").write_bytes(body)
            assert cog_validate(tmp_path / "got.tif", quiet=True)[0]
            with rasterio.open(tmp_path / "got.tif") as file:
                assert list(file.bounds) == pytest.approx(item["properties"]["proj:bbox"])
                assert [file.height, file.width] == item["properties"][
                    "proj:shape"
                ] and file.crs.to_epsg() == 32628


def test_the_middle_is_the_estate_and_the_surroundings_join_it(tmp_path: Path) -> None:
    tiles = Tiles(tmp_path)
    with rasterio.open(DATA / "harrow_ground.tif") as file:
        ground, bounds = file.read(1), file.bounds
    middle, north, east = (tiles.tile(n) for n in ("r1c1", "r0c1", "r1c2"))
    assert np.array_equal(middle.values, ground) and middle.frame.box == pytest.approx(tuple(bounds))
    assert north.frame.box[1] == pytest.approx(middle.frame.box[3]) and east.frame.box[0] == pytest.approx(middle.frame.box[2])  # fmt: skip
    assert np.array_equal(north.values[-1], middle.values[0]) and np.array_equal(
        east.values[:, 0], middle.values[:, -1]
    )
    assert len(tiles.names) == len({tiles.tile(n).frame.box for n in tiles.names}) == 9


def test_ranges_are_those_of_the_standard(tmp_path: Path, pool: urllib3.PoolManager) -> None:
    with serving(tmp_path) as server:
        url = urljoin(server.address, "tiles/r1c1.tif")
        whole = pool.request("GET", url)
        size = len(whole.data)
        assert whole.headers["Accept-Ranges"] == "bytes"
        for asked, (first, last) in {"bytes=0-99": (0, 100), f"bytes={size - 10}-": (size - 10, size), "bytes=-7": (size - 7, size), f"bytes=5-{size * 2}": (5, size)}.items():  # fmt: skip
            part = pool.request("GET", url, headers={"Range": asked})
            assert part.status == 206 and part.data == whole.data[first:last]
            assert part.headers["Content-Range"] == f"bytes {first}-{last - 1}/{size}"
        beyond = pool.request("GET", url, headers={"Range": f"bytes={size}-"})
        assert beyond.status == 416 and beyond.headers["Content-Range"] == f"bytes */{size}"
        head = pool.request("HEAD", url)
        assert int(head.headers["Content-Length"]) == size and head.data == b""
        for path in (
            "tiles/r9c9.tif",
            "tiles/r1c1.tif.gz",
            "../../etc/passwd",
            "items/r1c1",
            "tiles/%2e%2e/x.tif",
        ):
            assert pool.request("GET", urljoin(server.address, "/") + path).status == 404
        with pytest.raises(OSError):
            Server(Tiles(tmp_path), Faults(), server.server_address[1])


def fared(pool: urllib3.PoolManager, url: str, times: int) -> Counter[str]:
    """How so many requests fared."""
    result: Counter[str] = Counter()
    for _ in range(times):
        try:
            answer = pool.request("GET", url)
            if answer.status in (429, 503):
                assert int(answer.headers["Retry-After"]) == 1
            result[str(answer.status)] += 1
        except urllib3.exceptions.HTTPError as error:
            result[type(error).__name__] += 1
    return result


def test_failures_are_as_often_as_asked_of_every_kind_and_the_same_from_a_seed(
    tmp_path: Path, pool: urllib3.PoolManager
) -> None:
    with serving(tmp_path, failures=0.4, seed=3) as server:
        first = fared(pool, server.address, 120)
    assert 0.3 < 1 - first["200"] / 120 < 0.5 and {"429", "503", "ProtocolError"} <= set(first)
    with serving(tmp_path, failures=0.4, seed=3) as server:
        assert fared(urllib3.PoolManager(retries=False), server.address, 120) == first
    with serving(tmp_path, failures=1.0) as server:
        assert "200" not in fared(pool, server.address, 30)
    dice = Faults(failures=1.0)
    assert {dice.failure() for _ in range(60)} == set(KINDS)


def test_wrong_bodies_are_seen_by_who_counts(tmp_path: Path) -> None:
    dice = Faults(wrong=1.0)
    assert {dice.wrongness() for _ in range(60)} == set(WRONGS)
    with serving(tmp_path, wrong=1.0, seed=2) as server:
        whole = server.tiles.file("r1c1").read_bytes()
        seen = set()
        for _ in range(16):
            alone = urllib3.PoolManager(retries=False, timeout=5)
            try:
                answer = alone.request("GET", urljoin(server.address, "tiles/r1c1.tif"))
                assert answer.data != whole and whole.startswith(answer.data)
                seen.add("short")
            except urllib3.exceptions.HTTPError:
                seen.add("cut or long")
        assert seen == {"short", "cut or long"}


def test_delays_and_slowness_are_felt(tmp_path: Path, pool: urllib3.PoolManager) -> None:
    with serving(tmp_path, delay=0.3) as server:
        began = time.monotonic()
        read(pool, server.address)
        assert time.monotonic() - began >= 0.3
    with serving(tmp_path, slow=200_000) as server:
        began = time.monotonic()
        body = pool.request(
            "GET", urljoin(server.address, "tiles/r1c1.tif"), headers={"Range": "bytes=0-99999"}
        ).data
        assert len(body) == 100_000 and time.monotonic() - began >= 0.45


def test_the_command_line_serves_until_it_is_ended(tmp_path: Path) -> None:
    program = [sys.executable, "-m", "moss_step", "practice", "elevation", "--seed", "4"]
    process = subprocess.Popen(program, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env={**os.environ, "TMPDIR": str(tmp_path)})  # fmt: skip
    said = process.stdout.readline()
    assert said.startswith("The elevation service is at http://127.0.0.1:") and said.strip().endswith(
        "Ctrl+C ends it."
    )
    address = said.split(" at ")[1].split(";")[0]
    assert urllib3.PoolManager().request("GET", address).status == 200
    process.send_signal(signal.SIGTERM)
    assert process.wait(20) in (143, -15)
    assert not list(tmp_path.glob("moss-elevation-*"))
    for words in (["--failures", "2"], ["--delay", "-1"], ["--port", "99999"]):
        bad = subprocess.run([*program, *words], check=False, capture_output=True, text=True, timeout=60)
        assert bad.returncode == 2 and bad.stderr.startswith("moss-step: --")
