"""The estate's ground and its surroundings in tiles, as a service holds them: Cloud Optimized GeoTIFF files
and a STAC catalogue.

STAC 1.0.0 with its projection, file and raster extensions (from memory). The surroundings are the estate
mirrored at its edges: they join without a step, and nobody will take them for ground that was measured.
"""

from __future__ import annotations

import hashlib
import threading
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.demo import DATA
from moss_step.formats.raster import read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import carried
from moss_step.model.surface import Surface

COLLECTION, VERSION = "harrow-moss-elevation", "1.0.0"
AROUND = 1
"""Tiles around the estate's own on each side."""
_WHEN = "2026-05-04T00:00:00Z"
_COG = "image/tiff; application=geotiff; profile=cloud-optimized"
_SHA256 = "1220"
"""What stands before a digest that says that it is SHA-256 of 32 bytes (multihash)."""
_WGS84 = "EPSG:4326"


@dataclass
class Tiles:
    """Tiles by name, such as ``r1c1``, the middle one being the estate itself; each is made when it is
    first asked for.
    """

    folder: Path
    ground: Surface = field(default_factory=lambda: read_surface(DATA / "harrow_ground.tif")[0])
    _lock: threading.Lock = field(default_factory=threading.Lock, repr=False)

    @property
    def names(self) -> list[str]:
        """Names of all tiles, row by row from the north."""
        side = range(2 * AROUND + 1)
        return [f"r{r}c{c}" for r in side for c in side]

    def tile(self, name: str) -> Surface:
        """The ground of a tile: mirrored once for each edge that lies between."""
        down, across = (int(v) - AROUND for v in name[1:].split("c"))
        frame, values = self.ground.frame, self.ground.values
        values = values[::-1] if down % 2 else values
        values = values[:, ::-1] if across % 2 else values
        moved = replace(
            frame, x0=frame.x0 + across * frame.cols * frame.dx, y0=frame.y0 - down * frame.rows * frame.dy
        )
        return replace(self.ground, values=np.ascontiguousarray(values), frame=moved)

    def file(self, name: str) -> Path:
        """The file of a tile, made where it is not there yet. Safe to ask from several threads."""
        path = self.folder / f"{name}.tif"
        with self._lock:
            if not path.exists():
                write_surface(path, self.tile(name), f"Elevation, tile {name}")
        return path

    # --- the catalogue

    def document(self, path: str) -> dict[str, Any] | None:
        """A page of the catalogue by its path below the root; None where there is none."""
        if path in ("", "catalog.json"):
            return self._catalog()
        if path == "collection.json":
            return self._collection()
        name = path.removeprefix("items/").removesuffix(".json")
        return self._item(name) if path == f"items/{name}.json" and name in self.names else None

    def _catalog(self) -> dict[str, Any]:
        return {
            "type": "Catalog",
            "stac_version": VERSION,
            "id": "practice",
            "title": "Elevation to practise with",
            "description": "The invented estate Harrow Moss and its surroundings.",
            "links": [_link("root", "catalog.json"), _link("child", "collection.json")],
        }

    def _collection(self) -> dict[str, Any]:
        boxes = np.array([self._box(name) for name in self.names])
        whole = [*boxes[:, :2].min(axis=0).tolist(), *boxes[:, 2:].max(axis=0).tolist()]
        items = [_link("item", f"items/{name}.json") for name in self.names]
        return {
            "type": "Collection",
            "stac_version": VERSION,
            "id": COLLECTION,
            "title": "Ground of Harrow Moss, 2 m",
            "description": "Elevation in metres; the estate in the middle, mirrored around it.",
            "license": "CC0-1.0",
            "extent": {"spatial": {"bbox": [whole]}, "temporal": {"interval": [[_WHEN, _WHEN]]}},
            "links": [_link("root", "catalog.json"), _link("parent", "catalog.json"), *items],
        }

    def _item(self, name: str) -> dict[str, Any]:
        path, frame = self.file(name), self.tile(name).frame
        west, south, east, north = box = self._box(name)
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        ring = [[west, south], [east, south], [east, north], [west, north], [west, south]]
        extensions = ("projection/v1.1.0", "file/v2.1.0", "raster/v1.1.0")
        return {
            "type": "Feature",
            "stac_version": VERSION,
            "stac_extensions": [f"https://stac-extensions.github.io/{e}/schema.json" for e in extensions],
            "id": name,
            "collection": COLLECTION,
            "bbox": list(box),
            "geometry": {"type": "Polygon", "coordinates": [ring]},
            "properties": {
                "datetime": _WHEN,
                "gsd": frame.dx,
                "proj:epsg": 32628,
                "proj:shape": [frame.rows, frame.cols],
                "proj:bbox": list(frame.box),
                "proj:transform": [frame.dx, 0.0, frame.x0, 0.0, -frame.dy, frame.y0],
            },
            "links": [_link("root", "../catalog.json"), _link("collection", "../collection.json")],
            "assets": {
                "elevation": {
                    "href": f"../tiles/{name}.tif",
                    "type": _COG,
                    "roles": ["data"],
                    "file:size": path.stat().st_size,
                    "file:checksum": _SHA256 + digest,
                    "raster:bands": [
                        {"unit": "metre", "data_type": "float32", "spatial_resolution": frame.dx}
                    ],
                }
            },
        }

    def _box(self, name: str) -> tuple[float, float, float, float]:
        """West, south, east and north of a tile in degrees."""
        frame = self.tile(name).frame
        west, south, east, north = frame.box
        x, y = np.array([west, east, east, west]), np.array([south, south, north, north])
        lon, lat = carried(str(frame.crs), _WGS84, x, y)
        return float(lon.min()), float(lat.min()), float(lon.max()), float(lat.max())


def _link(relation: str, href: str) -> dict[str, str]:
    return {"rel": relation, "href": href, "type": "application/json"}
