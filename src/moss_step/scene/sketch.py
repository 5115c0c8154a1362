"""Shapes that are edited by their vertices, worked out without Qt. Every change gives a new sketch; none is
altered.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from moss_step.steps.drawn import LEAST, DrawnShape

Place = tuple[float, float]


class Spot(NamedTuple):
    """A vertex of a shape; or, where ``between`` is set, the middle between it and the next."""

    shape: int
    vertex: int
    between: bool = False


@dataclass(frozen=True)
class Sketch:
    """Shapes of one kind: points, lines or areas."""

    kind: str
    shapes: tuple[DrawnShape, ...] = ()

    def place(self, spot: Spot) -> Place:
        """Where a vertex lies, or the middle of an edge."""
        vertices = self.shapes[spot.shape].vertices
        (x, y), (u, v) = vertices[spot.vertex], vertices[(spot.vertex + 1) % len(vertices)]
        return ((x + u) / 2, (y + v) / 2) if spot.between else (x, y)

    def has(self, spot: Spot | None) -> bool:
        """Whether there is such a vertex."""
        return (
            spot is not None
            and spot.shape < len(self.shapes)
            and spot.vertex < len(self.shapes[spot.shape].vertices)
        )

    def spots(self) -> list[Spot]:
        """All vertices, and the middles of all edges behind them."""
        corners = [Spot(s, v) for s, shape in enumerate(self.shapes) for v in range(len(shape.vertices))]
        if self.kind == "points":
            return corners
        last = 0 if self.kind == "areas" else 1
        return corners + [
            Spot(s, v, True) for s, shape in enumerate(self.shapes) for v in range(len(shape.vertices) - last)
        ]

    def adding(self, vertices: Sequence[Place], name: str = "") -> Sketch:
        """With one more shape."""
        return replace(self, shapes=(*self.shapes, DrawnShape(name=name, vertices=tuple(vertices))))

    def moving(self, spot: Spot, to: Place) -> Sketch:
        """With a vertex elsewhere; the middle of an edge becomes a vertex there."""
        vertices = list(self.shapes[spot.shape].vertices)
        if spot.between:
            vertices.insert(spot.vertex + 1, to)
        else:
            vertices[spot.vertex] = to
        return self._with(
            spot.shape, self.shapes[spot.shape].model_copy(update={"vertices": tuple(vertices)})
        )

    def removing(self, spot: Spot) -> Sketch:
        """Without a vertex; a shape that has too few without it goes."""
        vertices = self.shapes[spot.shape].vertices
        kept = (*vertices[: spot.vertex], *vertices[spot.vertex + 1 :])
        if len(kept) < LEAST[self.kind]:
            return self.without(spot.shape)
        return self._with(spot.shape, self.shapes[spot.shape].model_copy(update={"vertices": kept}))

    def without(self, shape: int) -> Sketch:
        """Without a shape."""
        return replace(self, shapes=(*self.shapes[:shape], *self.shapes[shape + 1 :]))

    def naming(self, shape: int, name: str) -> Sketch:
        """With another name for a shape."""
        return self._with(shape, self.shapes[shape].model_copy(update={"name": name}))

    def next_spot(self, spot: Spot | None, by: int) -> Spot | None:
        """The vertex ``by`` places on, around all shapes; None where there are none."""
        corners = [s for s in self.spots() if not s.between]
        if not corners:
            return None
        return (
            corners[(corners.index(spot) + by) % len(corners)]
            if spot in corners
            else corners[0 if by > 0 else -1]
        )

    def _with(self, number: int, shape: DrawnShape) -> Sketch:
        return replace(self, shapes=(*self.shapes[:number], shape, *self.shapes[number + 1 :]))


def nearest(places: np.ndarray, at: Place, reach: float) -> int | None:
    """Number of the place (n, 2) that lies nearest to another within a reach; None when none does."""
    if len(places) == 0:
        return None
    away = np.hypot(*(places - np.asarray(at)).T)
    result = int(np.argmin(away))
    return result if away[result] <= reach else None
