import numpy as np
import rasterio

from moss_step.demo import DATA
from moss_step.demo.estate import FILES, write_estate


def test_the_estate_is_made_again_bit_for_bit(tmp_path):
    paths = write_estate(tmp_path)
    assert [p.name for p in paths] == list(FILES)
    for path in paths:
        assert path.read_bytes() == (DATA / path.name).read_bytes(), path.name


def test_the_ground_drains():
    """Cells lower than all eight neighbours are few and shallow: valleys run out of the grid."""
    with rasterio.open(DATA / "harrow_ground.tif") as file:
        z = file.read(1)
    around = np.stack(
        [np.roll(z, (i, j), (0, 1)) for i in (-1, 0, 1) for j in (-1, 0, 1) if (i, j) != (0, 0)]
    )
    pits = (z < around.min(axis=0))[1:-1, 1:-1]
    depth = (around.min(axis=0) - z)[1:-1, 1:-1][pits]
    assert pits.mean() < 2e-3 and (depth.size == 0 or depth.max() < 0.5)
