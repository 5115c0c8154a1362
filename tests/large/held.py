"""Holding what a run in tiles gave against the same study in one piece."""

from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

import numpy as np
import pytest
import rasterio
import shapely

from moss_step.formats.raster import read_class_map, read_surface
from moss_step.kinds.registry import cells_of, kind_of
from moss_step.large.crew import Alone, D, Line, TileWork
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun, Written
from moss_step.large.tiling import Tile
from moss_step.model import mapped
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.study import declared
from moss_step.study.engine import Engine
from moss_step.study.graph import Study


class Ending(Alone):
    """Ends in the midst of one kind of work, after some tiles; says how many of it were worked on."""

    def __init__(self, doing: str, after: int) -> None:
        self.doing, self.after, self.done = doing, after, 0

    def each(
        self, work: TileWork[D], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        for found in super().each(work, tiles, progress, doing):
            self.done += doing == self.doing
            if self.done > self.after:
                raise InterruptedError
            yield found


def in_tiles(study: Study, targets: Collection[str], work: Path, cells: int) -> Iterator[Written]:
    """Results as tiles give them, with nothing wrong in their sources."""
    work.mkdir(exist_ok=True)
    run = LargeRun(study, Engine(), Alone(), work, left_on_disk(study, study.steps, True), cells)
    yield from run.results(targets, silent())
    assert not run.wrong


def both_ways(
    study: Study, targets: Collection[str], work: Path, cells: int
) -> Iterator[tuple[Written, Outcome]]:
    """Each result as tiles give it, and as one piece does; all of them, and none twice."""
    whole, seen = Engine(), list[str]()
    whole.run(study, targets)
    for written in in_tiles(study, targets, work, cells):
        seen.append(written.ref)
        yield written, whole.run_or_raise(study, written.ref)
    assert sorted(seen) == sorted(targets)


def assert_said_alike(written: Written, expected: Outcome, near: float) -> None:
    """The same findings with the same units, and the same warnings."""
    told = {(f.name, f.of): f for f in written.findings}
    assert told.keys() == {(f.name, f.of) for f in expected.findings}, written.ref
    for finding in expected.findings:
        own = told[(finding.name, finding.of)]
        assert own.unit == finding.unit
        np.testing.assert_allclose(
            own.value, finding.value, rtol=near, atol=1e-9, err_msg=f"{written.ref} {finding.name}"
        )
    assert set(written.warnings) == set(expected.warnings), written.ref


def assert_cells_alike(written: Written, expected: Outcome, near: float) -> None:
    """The same cells in the file, to the bit where ``near`` is 0; unit and quantity, too."""
    if written.file is None:
        return
    classes = kind_of(expected.value).name == "classes"
    back = read_class_map(written.file) if classes else read_surface(written.file)[0]
    ours, theirs, surface = cells_of(back), cells_of(expected.value), expected.of(Surface)
    assert ours.dtype == theirs.dtype, written.ref
    if surface is not None and isinstance(back, Surface):
        assert (back.unit, back.quantity) == (surface.unit, surface.quantity)
    if near:
        np.testing.assert_allclose(
            ours, theirs, rtol=near, atol=near if near > 1e-6 else 0.0, err_msg=written.ref
        )
    else:
        np.testing.assert_array_equal(ours, theirs, written.ref)


def assert_shapes_alike(written: Written, expected: Outcome, near: float) -> None:
    """The same shapes in the same order, to the last digit, with the same columns."""
    theirs = expected.of(Shapes)
    if theirs is None:
        return
    assert written.outcome is not None
    ours = written.outcome.of(Shapes)
    assert ours is not None and len(ours) == len(theirs), written.ref
    assert shapely.equals_exact(ours.geometry, theirs.geometry, 1e-9).all(), written.ref
    assert ours.symbols == theirs.symbols
    assert ours.columns.keys() == theirs.columns.keys()
    for name, column in theirs.columns.items():
        own = ours.columns[name]
        assert own.dtype == column.dtype, name
        if column.dtype == object:
            assert own.tolist() == column.tolist(), name
        else:
            np.testing.assert_allclose(own, column, rtol=near, atol=1e-9, err_msg=f"{written.ref} {name}")


def as_if_large(monkeypatch: pytest.MonkeyPatch, cells: int = 4000) -> None:
    """Have grids count as too large for memory, and so many of their cells worked on at a time."""
    monkeypatch.setattr(mapped, "LARGE", 1000)
    monkeypatch.setattr(mapped, "_BLOCK", cells)
    monkeypatch.setattr(declared, "too_large", lambda _: True)


def damage(file: Path, row: int, col: int = 0) -> None:
    """Scribble over the block of a packed file that holds a row and a column."""
    with rasterio.open(file) as grid:
        (high, wide), *_ = grid.block_shapes
        at = int(grid.get_tag_item(f"BLOCK_OFFSET_{col // wide}_{row // high}", "TIFF", bidx=1))
    with file.open("r+b") as half:
        half.seek(at)
        half.write(b"\0" * 1000)
