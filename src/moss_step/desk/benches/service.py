"""An elevation service on the Gather bench: what it holds, where that lies, and the ground in view."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from platformdirs import user_cache_path
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit, QListWidget, QVBoxLayout, QWidget

from moss_step.desk.parts import button, label, row
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.live import Live
from moss_step.desk.work import Work
from moss_step.formats.asking import check_address
from moss_step.formats.raster_write import write_surface
from moss_step.formats.service import Listing, ServiceTile
from moss_step.formats.service_kept import Kept
from moss_step.formats.service_view import tiles_in, view
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, carried, reference_system
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.scene.colors import DEEP, LICHEN, WATER

_PIXELS = 1000
"""Pixels that the plan has across about: as many cells are fetched for it."""
_CORNERS = 9
"""Points along a side of a footprint in another reference system, where it is bent."""


Asked = tuple[Listing, dict[str, tuple[str, bool]]]


def service_folder() -> Path:
    """Where what was fetched is kept."""
    return user_cache_path("moss-step") / "service"


class ServicePage(QWidget):
    """Asks a service, draws the footprints of its tiles, and fetches what is in view."""

    live = Signal(object)
    closed = Signal()

    def __init__(self, work: Work, folder: Path | None = None) -> None:
        super().__init__()
        self.work, self.kept = work, Kept(folder or service_folder())
        self.listing: Listing | None = None
        self._states_of: dict[str, tuple[str, bool]] = {}
        self.setAccessibleName("Elevation service")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        back = button("All questions", "All steps of Gather", self.closed.emit, "plain", "caret-left")
        layout.addWidget(row(back, 1))
        self.address = QLineEdit()
        self.address.setAccessibleName("Address of the service")
        self.address.setPlaceholderText("https://…/catalog.json")
        set_tip(self.address, "Its catalogue (STAC): https, or http on this machine")
        self.address.returnPressed.connect(self.ask)
        layout.addWidget(self.address)
        layout.addWidget(
            button("Ask what it holds", "Draws where its tiles lie", self.ask, picture="magnifying-glass")
        )
        self.said = label("", "muted", wrap=True)
        layout.addWidget(self.said)
        self.list = QListWidget()
        self.list.setAccessibleName("Tiles of the service")
        self.list.setMinimumHeight(160)
        layout.addWidget(self.list, 1)
        self.fetch_button = button(
            "Fetch what is in view", "At the cells that the plan shows; kept for work without the service",
            self.fetch, "main",
        )  # fmt: skip
        self.fetch_button.setEnabled(False)
        layout.addWidget(self.fetch_button)
        self.work.ask_long(lambda _: self.kept.known(), self._offer)

    def _offer(self, known: list[str]) -> None:
        """Begin with the service that was asked last."""
        if known and not self.address.text():
            self.address.setText(known[0])

    # --- asking

    def ask(self) -> None:
        """Ask the service what it holds; where it does not answer, show what it held."""
        try:
            address = check_address(self.address.text())
        except MossError as error:
            self.work.message.emit(str(error), True)
            return
        self.work.ask_long(lambda progress: self._asked(address, progress), self._show)

    def _asked(self, address: str, progress: Progress) -> Asked:
        listing = self.kept.listing(address, progress)
        return listing, self._states(listing)

    def _states(self, listing: Listing) -> dict[str, tuple[str, bool]]:
        """Of each tile when it was fetched, and whether the service has another now."""
        return {t.address: (self.kept.fetched(t), self.kept.outdated(t)) for t in listing.tiles}

    def _show(self, asked: Asked) -> None:
        self.listing, self._states_of = asked
        listing = self.listing
        when = listing.asked[:16].replace("T", " ")
        if listing.old:
            self.said.setText(f"As it was on {when}, UTC. {listing.old}")
        else:
            self.said.setText(f"{listing.title}: {len(listing.tiles)} tiles, asked at {when[11:]} UTC.")
        self._tell_tiles()
        self.fetch_button.setEnabled(bool(listing.tiles))
        self.show_footprints()

    def _tell_tiles(self) -> None:
        self.list.clear()
        for tile in self.listing.tiles if self.listing is not None else ():
            self.list.addItem(f"{tile.name} · {tile.cell:g} m · {self._state(tile)}")

    def _state(self, tile: ServiceTile) -> str:
        fetched, old = self._states_of.get(tile.address, ("", False))
        if not fetched:
            return "not fetched"
        return f"of {fetched[:10]}{', the service has another now' if old else ''}"

    # --- the plan

    def show_footprints(self) -> None:
        """Draw where the tiles lie: those at hand, those that are old, and the others apart."""
        tiles = self.listing.tiles if self.listing is not None else ()
        drawn = ((self._ring(t), self._color(t)) for t in tiles)
        rings = [(ring, color) for ring, color in drawn if np.isfinite(ring).all()]
        if not rings:
            self.live.emit(None)
            return
        box = _around([(*ring.min(axis=0), *ring.max(axis=0)) for ring, _ in rings])
        self.live.emit(Live(tuple(rings), box=box))

    def _color(self, tile: ServiceTile) -> str:
        fetched, old = self._states_of.get(tile.address, ("", False))
        return WATER if not fetched else LICHEN if old else DEEP

    def _ring(self, tile: ServiceTile) -> np.ndarray:
        """The outline of a tile in the coordinates of the plan."""
        x, y = _outline(tile.box)
        frame = self.work.frame
        if frame is not None and frame.crs is not None and not _same(frame.crs, tile.epsg):
            x, y = carried(f"EPSG:{tile.epsg}", frame.crs, x, y)
        return np.column_stack([x, y])

    # --- fetching

    def fetch(self) -> None:
        """Fetch the ground in view, at the cells that show, and open it as a step."""
        listing = self.listing
        if listing is None or not listing.tiles:
            return
        tiles, box = self._in_view(listing.tiles)
        cell = max((box[2] - box[0]) / _PIXELS, min(t.cell for t in tiles))

        def work(progress: Progress) -> tuple[Path, Asked]:
            surface = view(self.kept, tiles, box, cell, progress)
            return self._keep(surface, listing), (listing, self._states(listing))

        self.work.ask_long(work, self._open)

    def _in_view(self, tiles: Sequence[ServiceTile]) -> tuple[list[ServiceTile], Box]:
        """The tiles of the system that has most of them in view, and what the plan shows in that; all of them
        where it shows nothing of its own.
        """
        found = []
        for epsg in dict.fromkeys(t.epsg for t in tiles):
            own = [t for t in tiles if t.epsg == epsg]
            box = self._view_in(epsg) or _around([t.box for t in own])
            found.append((len(tiles_in(own, box, epsg)), own, box))
        _, own, box = max(found, key=lambda f: f[0])
        return own, box

    def _view_in(self, epsg: int) -> Box | None:
        """What the plan shows, in a system; None where it shows nothing yet, or that does not reach there."""
        frame, box = self.work.frame, self.work.in_view
        if box is None or frame is None or frame.crs is None or _same(frame.crs, epsg):
            return box
        along = np.linspace(0.0, 1.0, _CORNERS)
        u, v = (a.reshape(-1) for a in np.meshgrid(along, along))
        x, y = box[0] + u * (box[2] - box[0]), box[1] + v * (box[3] - box[1])
        x, y = carried(frame.crs, f"EPSG:{epsg}", x, y)
        there = np.isfinite(x) & np.isfinite(y)
        return (
            _around([(a, b, a, b) for a, b in zip(x[there], y[there], strict=True)]) if there.any() else None
        )

    def _keep(self, surface: Surface, listing: Listing) -> Path:
        """Write the ground beside what was fetched. Its name goes by what it holds: a file that a study reads
        is never another one later.
        """
        frame = surface.frame
        held = hashlib.blake2b(f"{listing.address} {frame.box}".encode(), digest_size=6)
        held.update(surface.values.tobytes())
        name = f"ground_{frame.dx:g}m_{held.hexdigest()}.tif"
        path = self.kept.folder / name
        write_surface(path, surface, listing.title or "Elevation", lineage=f"Fetched from {listing.address}")
        return path

    def _open(self, fetched: tuple[Path, Asked]) -> None:
        """Open the ground as a step."""
        path, asked = fetched
        self._show(asked)
        title = self.listing.title if self.listing is not None else ""
        self.work.add_step("open_grid", {}, {"source": str(path)}, name=title[:60])


def _around(boxes: Sequence[Box]) -> Box:
    """The box around some others."""
    all_of = np.array(boxes)
    (west, south), (east, north) = all_of[:, :2].min(axis=0), all_of[:, 2:].max(axis=0)
    return float(west), float(south), float(east), float(north)


def _same(crs: str, epsg: int) -> bool:
    return reference_system(crs) == reference_system(f"EPSG:{epsg}")


def _outline(box: Box) -> tuple[np.ndarray, np.ndarray]:
    """Points along the outline of a box."""
    west, south, east, north = box
    along, whole = np.linspace(0.0, 1.0, _CORNERS), np.ones(_CORNERS)
    wide, high = along * (east - west), along * (north - south)
    x = np.concatenate([west + wide, whole * east, east - wide, whole * west])
    y = np.concatenate([whole * south, south + high, whole * north, north - high])
    return x, y
