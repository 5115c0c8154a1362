"""What a raster file states about a band, before its values are read."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from rasterio.transform import Affine

from moss_step.model.units import Unit


@dataclass(frozen=True)
class RasterFacts:
    """What a raster file states about one band, before its values are read."""

    path: Path
    driver: str
    rows: int
    cols: int
    bands: int
    dtype: str
    transform: Affine
    crs: str | None
    unit: Unit
    unit_text: str
    no_data: float | None
    scale: float
    offset: float
    has_position: bool
    quantity: str = ""
    """What the band measures, where it was written here."""
    assumed: str = ""
    """What was taken for a reference system that the file only hints at, in words."""

    @property
    def exact(self) -> bool:
        """Whether single precision holds every value of its type."""
        return self.dtype in ("float32", "int8", "uint8", "int16", "uint16") and (
            self.scale,
            self.offset,
        ) == (1.0, 0.0)

    @property
    def rotated(self) -> bool:
        """Whether the grid's rows do not run east."""
        return bool(abs(self.transform.b) > 1e-12 or abs(self.transform.d) > 1e-12)
