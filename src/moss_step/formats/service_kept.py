"""What was fetched from elevation services, kept in a folder so that work goes on without them."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from moss_step.formats.asking import Connection, check_address
from moss_step.formats.cog import Copies
from moss_step.formats.service import Listing, ServiceTile, box_of, listed
from moss_step.formats.whole import in_words, write_text
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import Progress, silent

_HEAD = 16_384
"""Bytes at the beginning of a file in which its directories stand."""


class Kept:
    """Listings, and tiles as far as they were fetched."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def listing(self, address: str, progress: Progress | None = None) -> Listing:
        """What a service holds: asked now, or as it was kept when it does not answer.

        Raises MossError when it does not answer and was never asked before; AskedWronglyError for an address
        that may not be asked.
        """
        note = self._path(check_address(address), ".json")
        try:
            found = listed(address, progress or silent())
        except AskedWronglyError:
            raise
        except MossError as error:
            kept = self._read_listing(note)
            if kept is None:
                raise
            return Listing(kept.address, kept.title, kept.tiles, kept.asked, error.what)
        self._make()
        write_text(note, json.dumps(asdict(found)))
        return found

    def _read_listing(self, note: Path) -> Listing | None:
        try:
            data = json.loads(note.read_text(encoding="utf-8"))
            tiles = tuple(
                ServiceTile(**{**t, "degrees": box_of(t["degrees"]), "box": box_of(t["box"])})
                for t in data["tiles"]
            )
            return Listing(str(data["address"]), str(data["title"]), tiles, str(data["asked"]))
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def known(self) -> list[str]:
        """Addresses of the services that were asked, the last one first."""
        notes = [p for p in self.folder.glob("*.json") if not p.name.endswith(".note.json")]
        notes.sort(key=lambda p: -p.stat().st_mtime)
        return [kept.address for p in notes if (kept := self._read_listing(p)) is not None]

    def fetched(self, tile: ServiceTile) -> str:
        """When something of a tile was fetched; empty where nothing was."""
        return str(self._note(tile).get("fetched", ""))

    def outdated(self, tile: ServiceTile) -> bool:
        """Whether the service has another tile now than the one that was fetched."""
        note = self._note(tile)
        return bool(note) and (note.get("made"), note.get("digest")) != (tile.made, tile.digest)

    def fetch(self, tile: ServiceTile, cell: float, progress: Progress) -> tuple[Path, int]:
        """Have a tile at hand at cells of some size or finer: a file that holds at least that of its copies,
        and which one (0: the tile itself, then each coarser one). What is at hand already is not fetched.

        Raises MossError when the service does not answer as it should.
        """
        path, note = self._path(tile.address, ".tif"), self._note(tile)
        if note and not self.outdated(tile):
            level = Copies.from_data(note["copies"]).level_for(tile.cell, cell)
            if any(have <= level for have in note["levels"]):
                return path, max(have for have in note["levels"] if have <= level)
        connection = Connection(tile.address)
        head, size = connection.part(tile.address, (0, _HEAD), _HEAD, progress)
        copies = Copies.of(head, size, tile.name)
        level = copies.level_for(tile.cell, cell)
        copies.check(level, tile.name)
        first, last = copies.spans[level]
        body, _ = connection.part(tile.address, (first, last), last - first, progress)
        self.keep(tile, head, size, first, body, level)
        return path, level

    def keep(
        self, tile: ServiceTile, head: bytes, size: int, first: int, body: bytes, level: int = 0
    ) -> None:
        """Keep the head of a tile's file of so many bytes, and those of one of its copies.

        A note says what a file holds: it goes before a file is begun anew, and comes when all stands there.
        """
        path, note, copies = (
            self._path(tile.address, ".tif"),
            self._note(tile),
            Copies.of(head, size, tile.name),
        )
        copies.check(level, tile.name)
        fresh = not note or self.outdated(tile)
        self._make()
        with in_words(path, "written"):
            if fresh:
                self._note_path(tile).unlink(missing_ok=True)
            with path.open("wb" if fresh else "r+b") as file:
                for at, data in ((0, head), (first, body)):
                    file.seek(at)
                    file.write(data)
                file.truncate(size)
        now = datetime.now(UTC).isoformat(timespec="seconds")
        levels = [level] if fresh else sorted({*note["levels"], level})
        said = {"fetched": now, "made": tile.made, "digest": tile.digest, "levels": levels}
        write_text(self._note_path(tile), json.dumps({**said, "copies": copies.as_data()}))

    def _note(self, tile: ServiceTile) -> dict[str, Any]:
        try:
            found = json.loads(self._note_path(tile).read_text(encoding="utf-8"))
            whole = self._path(tile.address, ".tif").stat().st_size == found["copies"]["size"]
        except (OSError, ValueError, KeyError, TypeError):
            return {}
        return found if whole else {}

    def _note_path(self, tile: ServiceTile) -> Path:
        return self._path(tile.address, ".note.json")

    def _make(self) -> None:
        with in_words(self.folder, "written"):
            self.folder.mkdir(parents=True, exist_ok=True)

    def _path(self, address: str, ending: str) -> Path:
        return self.folder / f"{hashlib.blake2b(address.encode(), digest_size=12).hexdigest()}{ending}"
