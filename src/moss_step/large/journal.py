"""Which tiles are done: a line a tile, so that a run that ended in the middle goes on where it was."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

from moss_step.formats.tiled import TiledFile
from moss_step.formats.whole import in_words
from moss_step.large.chain import Done
from moss_step.large.tiling import Tile
from moss_step.model.findings import Finding
from moss_step.model.summary import Summary
from moss_step.model.units import Unit
from moss_step.study.told import Said


class Journal:
    """The tiles of one job that are done. Lines that were cut short are no lines."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def done(self, targets: Mapping[str, TiledFile], tiles: Mapping[str, Tile]) -> dict[str, Done]:
        """Tiles that an earlier run did, whose files hold what was written then."""
        result: dict[str, Done] = {}
        if not self._path.is_file():
            return result
        for line in self._path.read_text(encoding="utf-8", errors="replace").splitlines():
            try:
                data = json.loads(line)
                tile, done = tiles[data["tile"]], _restored(data)
            except (ValueError, KeyError, TypeError, AttributeError):
                continue  # the line that was written while the run ended
            if done.hashes.keys() == targets.keys() and not done.wrong:
                held = {ref: t.digest(tile.rows, tile.cols) for ref, t in targets.items()}
                if held == dict(done.hashes):
                    result[tile.name] = done
        return result

    def add(self, tile: Tile, done: Done) -> None:
        """Write down that a tile is done."""
        said = {ref: asdict(s) for ref, s in done.said.items()}
        line: dict[str, Any] = {"tile": tile.name, "said": said, "hashes": dict(done.hashes)}
        line |= {"wrong": list(done.wrong), "infinite": list(done.infinite)}
        with in_words(self._path, "written"), self._path.open("a", encoding="utf-8") as file:
            file.write(json.dumps(line) + "\n")
            file.flush()
            os.fsync(file.fileno())


def _restored(data: Mapping[str, Any]) -> Done:
    said = {ref: _said(s) for ref, s in data["said"].items()}
    return Done(
        said,
        {str(k): str(v) for k, v in data["hashes"].items()},
        tuple(data["wrong"]),
        tuple(data["infinite"]),
    )


def _said(data: Mapping[str, Any]) -> Said:
    findings = tuple(Finding(**{**f, "unit": Unit(**f["unit"])}) for f in data["findings"])
    summary = Summary(**data["summary"])
    plain = {f.name: data[f.name] for f in fields(Said) if f.name in ("cells", "east", "north")}
    return Said(findings, tuple(data["warnings"]), summary=summary, **plain)
