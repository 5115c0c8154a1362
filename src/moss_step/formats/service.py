"""What an elevation service holds: its catalogue (STAC 1.0.0), whose items are tiles (Cloud Optimized
GeoTIFF).
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from moss_step.formats.asking import Connection
from moss_step.formats.whole import printable
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box, reference_system
from moss_step.model.progress import Progress

MOST_ITEMS = 2_000
"""Pages of a catalogue at the most."""


@dataclass(frozen=True)
class ServiceTile:
    """A tile of a service: its name, where it is fetched from, its box on the earth and in its own system,
    that system as an EPSG code, its cell, when it was made, and its digest where that is stated.
    """

    name: str
    address: str
    degrees: Box
    box: Box
    epsg: int
    cell: float
    made: str
    digest: str = ""


@dataclass(frozen=True)
class Listing:
    """What a service holds, and when it was asked; ``old`` says why it could not be asked now."""

    address: str
    title: str
    tiles: tuple[ServiceTile, ...]
    asked: str
    old: str = ""


def listed(address: str, progress: Progress) -> Listing:
    """Ask a service what it holds: all items that its catalogue leads to.

    Raises MossError when it does not answer, or is no catalogue.
    """
    connection = Connection(address)
    waiting, seen, tiles, title = [connection.address], set[str](), list[ServiceTile](), ""
    while waiting:
        at = waiting.pop(0)
        if at in seen:
            continue
        seen.add(at)
        if len(seen) > MOST_ITEMS:
            raise MossError(f"The catalogue has more than {MOST_ITEMS:,} pages.", "Give a part of it.")
        page = connection.document(at, progress)
        title = title or str(page.get("title", ""))[:120]
        if page.get("type") == "Feature":
            tiles.append(_tile(connection, at, page))
            progress.at(min(len(tiles) / (len(tiles) + len(waiting) + 1), 1.0), "Listing what it holds")
        links = page.get("links")
        for link in links if isinstance(links, list) else []:
            if isinstance(link, dict) and link.get("rel") in ("child", "item", "next"):
                waiting.append(connection.resolved(at, str(link.get("href", ""))))
    return Listing(connection.address, title, tuple(tiles), datetime.now(UTC).isoformat(timespec="seconds"))


def _tile(connection: Connection, at: str, page: Mapping[str, Any]) -> ServiceTile:
    try:
        about, assets = page["properties"], page["assets"]
        asset = next(a for a in assets.values() if str(a.get("type", "")).startswith("image/tiff"))
        cell, epsg = abs(float(about["proj:transform"][0])), _epsg(about)
        if not 0.0 < cell < math.inf:
            raise ValueError("no size of a cell")
        return ServiceTile(
            name=str(page["id"])[:80],
            address=connection.resolved(at, str(asset["href"])),
            degrees=box_of(page["bbox"]),
            box=box_of(about["proj:bbox"]),
            epsg=epsg,
            cell=cell,
            made=str(about.get("updated") or about.get("datetime") or "")[:40],
            digest=str(asset.get("file:checksum", ""))[:200],
        )
    except (
        KeyError,
        TypeError,
        ValueError,
        StopIteration,
        AttributeError,
        IndexError,
        AskedWronglyError,
    ) as error:
        raise MossError(
            f"{printable(at[:80])} does not say where its tile lies.", "It cannot be used here."
        ) from error


def _epsg(about: Mapping[str, Any]) -> int:
    """The code of a system, as ``proj:epsg`` or ``proj:code`` give it.

    Raises AskedWronglyError for one that there is not.
    """
    code = str(about.get("proj:code") or f"EPSG:{int(about['proj:epsg'])}")
    found = reference_system(code).to_epsg() if code.startswith("EPSG:") else None
    if found is None:
        raise ValueError("no code of a reference system")
    return int(found)


def box_of(values: Any) -> Box:
    """A box of four numbers.

    Raises ValueError for one without ground.
    """
    xmin, ymin, xmax, ymax = (float(v) for v in values)
    if not (-math.inf < xmin < xmax < math.inf and -math.inf < ymin < ymax < math.inf):
        raise ValueError("a box without ground")
    return xmin, ymin, xmax, ymax
