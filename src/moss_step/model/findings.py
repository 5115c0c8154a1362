"""Numbers that a step worked out, each with its unit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from moss_step.model.units import NONE, Unit

MAIN, USUAL, ASIDE = 0, 1, 2
"""Ranks: what a step is run for, what belongs to it, and what is told beside."""
FINDINGS: dict[str, tuple[str, int]] = {
    "area_m2": ("Area", MAIN),
    "volume_m3": ("Volume", MAIN),
    "share": ("Share", MAIN),
    "seen_share": ("Seen", MAIN),
    "visible": ("The end is seen", MAIN),
    "length": ("Length", MAIN),
    "integral": ("Integral of the curve", MAIN),
    "clearance": ("Clearance", MAIN),
    "seen_area_m2": ("Area seen", MAIN),
    "seen_weight_share": ("Weight seen", MAIN),
    "share_seen": ("Share of the line seen", MAIN),
    "volume_in_m3": ("Put in", MAIN),
    "volume_out_m3": ("Taken out", MAIN),
    "depressions": ("Depressions", MAIN),
    "basins": ("Basins", MAIN),
    "links": ("Links", MAIN),
    "patches": ("Patches", MAIN),
    "zones": ("Areas", MAIN),
    "shapes": ("Shapes", MAIN),
    "ridges": ("Ridges", MAIN),
    "valleys": ("Valleys", MAIN),
    "yes_count": ("Cells that pass", MAIN),
    "breached": ("Pits breached", MAIN),
    "voids_filled": ("Voids filled", MAIN),
    "drop": ("Drop", MAIN),
    "highest_angle": ("Highest angle", MAIN),
    "level": ("Level of the water", MAIN),
    "consistency_ratio": ("Consistency ratio", MAIN),
    "lowest": ("Lowest", USUAL),
    "highest": ("Highest", USUAL),
    "mean": ("Mean", USUAL),
    "cells": ("Cells", USUAL),
    "count": ("Cells", USUAL),
    "weight": ("Weight", USUAL),
    "weight_share": ("Share of the weight", USUAL),
    "largest": ("Largest", USUAL),
    "deepest": ("Deepest", USUAL),
    "farthest": ("Farthest", USUAL),
    "lowest_angle": ("Lowest angle", USUAL),
    "longest_path": ("Longest way of the water", USUAL),
    "highest_order": ("Highest order", USUAL),
    "drainage_density": ("Stream a square kilometre", USUAL),
    "obstacles": ("Obstacles", USUAL),
    "first_obstacle_at": ("First obstacle at", USUAL),
    "first_obstacle_above_ray": ("Above the ray by", USUAL),
    "climb": ("Climb", USUAL),
    "fall": ("Fall", USUAL),
    "volume_before_m3": ("Stood there before", USUAL),
    "left": ("Pits left", USUAL),
    "outlets": ("Outlets", USUAL),
    "goodness_of_variance_fit": ("Goodness of variance fit", USUAL),
    "flat_share": ("Flat", USUAL),
    "changed_cells": ("Cells changed", USUAL),
    "cells_filled": ("Cells filled", USUAL),
    "unclassified_count": ("Cells in no class", USUAL),
    "snapped_by": ("Snapped by", USUAL),
    "observers": ("Observers", ASIDE),
    "rows": ("Rows", ASIDE),
    "columns": ("Columns", ASIDE),
    "cell_width": ("Cell width", ASIDE),
    "cell_height": ("Cell height", ASIDE),
    "evaluations": ("Sets or gains worked out", ASIDE),
    "edge_share": ("Fed from the edge", ASIDE),
    "unweighted": ("Cells without a weight", ASIDE),
    "detail": ("Ground that makes a line", ASIDE),
    "min_area": ("Ground that makes a stream", ASIDE),
    "share_unlit": ("Unlit", ASIDE),
}
"""Title and rank of every number that a step may tell: those that several steps share, and what steps declare
beside.
"""


def declared(name: str, title: str, rank: int) -> str:
    """Give a number of a step's own its title and rank, where the step is declared; gives the name.

    Raises KeyError when it means something else already.
    """
    if FINDINGS.setdefault(name, (title, rank)) != (title, rank):
        raise KeyError(f"'{name}' is '{FINDINGS[name][0]}' already.")
    return name


@dataclass(frozen=True)
class Finding:
    """One number: its name, one of ``FINDINGS``, value and unit, and what it is of (a class, a zone) when
    there are several.
    """

    name: str
    value: float
    unit: Unit = NONE
    of: str = ""

    def __post_init__(self) -> None:
        """Refuse a number without a title."""
        if self.name not in FINDINGS:
            raise KeyError(
                f"'{self.name}' is no finding: declare it, or give it a title and a rank in FINDINGS."
            )

    @property
    def title(self) -> str:
        """What it is, in words."""
        return FINDINGS[self.name][0]

    @property
    def rank(self) -> int:
        """How much it counts: ``MAIN``, ``USUAL`` or ``ASIDE``."""
        return FINDINGS[self.name][1]

    def as_json(self) -> dict[str, Any]:
        """Give the finding as plain data for JSON output."""
        row: dict[str, Any] = {
            "name": self.name,
            "title": self.title,
            "value": self.value,
            "unit": self.unit.key,
        }
        if self.of:
            row["class"] = self.of
        return row
