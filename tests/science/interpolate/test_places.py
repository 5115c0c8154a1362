"""Places along the rims of areas, of those with several parts, too."""

import numpy as np
import shapely

from moss_step.model.shapes import Shapes
from moss_step.science.interpolate.places import along_rims


def test_every_part_of_an_area_and_every_ring_has_its_places():
    ring = shapely.Polygon([(0, 0), (9, 0), (9, 9), (0, 9)], [[(3, 3), (6, 3), (6, 6), (3, 6)]])
    several = shapely.MultiPolygon([ring, shapely.box(20, 0, 23, 3)])
    held = along_rims(Shapes(np.array([several], object), {}, "EPSG:32628"), 1.5, 3.0)
    assert len(held) == 12 + 4 + 4 and (held.values == 1.5).all()
