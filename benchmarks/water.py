"""Water: filling, ways, accumulation, what follows the pointer or a slider, and how the time grows with the
cells.
"""

from __future__ import annotations

import time

import numpy as np
from skimage.morphology import reconstruction

from benchmarks.measure import Line, best, in_metres, peak_extra_bytes, rough_ground
from moss_step.desk.plan.live import mask_veil, number_veil
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.science.water import accumulation, drainage, indices, network, trace
from moss_step.science.water.basins import divided
from moss_step.science.water.flats import drain_flats
from moss_step.science.water.kernels.accumulation import (
    count_donors,
)
from moss_step.science.water.kernels.descent import descend, descend_water
from moss_step.science.water.kernels.neighbours import NONE, Drained, Filled
from moss_step.science.water.kernels.trace import path_down
from moss_step.science.water.neighbours import distances
from moss_step.science.water.pools import find_pools

SIDES = (1024, 2048, 4096, 8192)


def lines(z: np.ndarray) -> list[Line]:
    """Measure on 16 million cells, then what is live on 4 million."""
    return [_memory(z), *_whole(z), *_live(in_metres(z[:2048, :2048].copy()))]


def _memory(z: np.ndarray) -> Line:
    """Measured before anything else: memory that was let go and not given back would hide what is taken."""
    dem = in_metres(z)
    drainage.work_out(in_metres(z[:256, :256].copy()), silent())
    more = peak_extra_bytes(lambda: drainage.work_out(dem, silent())) / z.size
    return Line(
        "memory while preparing 16 million cells, beside the ground",
        f"{more:.1f} bytes a cell",
        "",
        "at most 12",
        more <= 12,
    )


def _whole(z: np.ndarray) -> list[Line]:
    copy, metres = best(z.copy), distances(in_metres(z).frame)
    z.flags.writeable = False

    def fill() -> np.ndarray:
        return drainage.filled_ground(z, find_pools(z, metres, silent())[0])

    ours = best(fill, 2)
    pools = find_pools(z, metres, silent())[0]
    filled = drainage.filled_ground(z, pools)
    seed = np.full_like(z, z.max())
    for side in (seed[0], seed[-1], seed[:, 0], seed[:, -1]):
        side[:] = -np.inf
    np.maximum(seed, z, out=seed)
    start = time.perf_counter()
    theirs_filled = reconstruction(seed, z, method="erosion", footprint=np.ones((3, 3)))
    theirs = time.perf_counter() - start
    assert np.array_equal(theirs_filled.astype(np.float32), filled)
    ways, cells, donors = (
        np.empty(z.shape, np.uint8),
        np.zeros(z.shape, np.int32),
        np.empty(z.shape, np.uint8),
    )

    ground = Filled(z, pools.labels, pools.level)

    def accumulate_d8() -> None:
        cells[:] = 0
        descend(z, metres, 0, z.shape[0], ways)
        descend_water(ground, metres, 0, z.shape[0], ways)
        drain_flats(ground, ways, cells, silent())
        count_donors(ways, donors)
        np.not_equal(ways, NONE, out=cells)
        accumulation.accumulate(ways, donors, cells)

    d8 = best(accumulate_d8, 4)

    def accumulate_dinf() -> None:
        accumulation.accumulate_shares(Drained(filled, ways, metres), "dinf", np.ones((1, *z.shape)))

    dinf = best(accumulate_dinf, 2)
    under = float(np.mean(filled > z))
    return [
        Line(
            f"fill depressions, 16 million cells ({under:.0%} lie under water)",
            f"{ours:.2f} s",
            f"{theirs / ours:.1f} times skimage's speed",
            "at least 4, within 4 s",
            theirs / ours >= 4 and ours <= 4,
        ),
        Line(
            "D8 ways, flats and accumulation",
            f"{d8:.2f} s",
            f"{d8 / copy:.0f} copies",
            "at most 60",
            d8 / copy <= 60,
        ),
        Line(
            "D-infinity accumulation",
            f"{dinf:.2f} s",
            f"{dinf / copy:.0f} copies",
            "at most 150",
            dinf / copy <= 150,
        ),
    ]


def _live(dem: Surface) -> list[Line]:
    prepared = drainage.work_out(dem, silent())
    took = best(lambda: drainage.work_out(dem, silent()), 2)
    lengths = trace.flow_lengths(prepared)
    far = int(np.nanargmax(lengths))
    path = best(lambda: trace.centres(prepared, path_down(prepared.ways, far)))
    outlet = int(np.argmax(prepared.cells))
    size = int(prepared.cells.reshape(-1)[outlet])

    def catchment() -> object:
        marks = np.zeros(dem.values.shape, np.uint8)
        _, r0, r1, c0, c1 = trace.mark_catchment(prepared, outlet, 1, marks)
        rows, cols = slice(r0, r1 + 1), slice(c0, c1 + 1)
        return mask_veil(marks[rows, cols], dem.frame.part(rows, cols))

    caught = best(catchment) * 1e6 / size
    depths = iter(np.linspace(0.1, 2.0, 50))

    def basins() -> object:
        return number_veil(divided(prepared, float(next(depths)))[0], dem.frame)

    merged = best(basins)
    above = indices.drain_height(prepared, network.stream_cells(prepared, 40_000.0))
    curve, stages = indices.stage_curve(above, 400, 25.0), iter(np.linspace(1.0, 20.0, 50))

    def flood() -> object:
        stage = float(next(stages))
        _ = [np.interp(stage, curve[0], v) for v in curve[1:]]
        return mask_veil(above.values[::2, ::2] < stage, above.frame)

    flooded = best(flood)
    return [
        Line("prepare a ground of 4 million cells", f"{took:.2f} s", "", "within 3 s", took <= 3),
        Line(
            "flow path under the pointer, the longest",
            f"{path * 1000:.2f} ms",
            "",
            "within 2 ms",
            path <= 0.002,
        ),
        Line(
            f"catchment under the pointer, for a million cells (measured on {size:,})",
            f"{caught * 1000:.0f} ms",
            "",
            "within 50 ms",
            caught <= 0.05,
        ),
        Line(
            "least pool depth over all basins", f"{merged * 1000:.0f} ms", "", "within 150 ms", merged <= 0.15
        ),
        Line("flood slider, a frame", f"{flooded * 1000:.0f} ms", "", "within 33 ms", flooded <= 0.033),
    ]


def growth() -> str:
    """A table of the time to prepare grounds of 1 to 64 million cells, and the fitted power of the growth."""
    sizes, times = [], []
    for side in SIDES:
        dem = in_metres(rough_ground(side))
        drainage.work_out(dem, silent())
        start = time.perf_counter()
        drainage.work_out(dem, silent())
        sizes.append(dem.values.size)
        times.append(time.perf_counter() - start)
    power = float(np.polyfit(np.log(sizes), np.log(times), 1)[0])
    rows = "\n".join(
        f"| {n / 1e6:.0f} million | {t:.2f} s | {t / n * 1e9:.0f} ns |"
        for n, t in zip(sizes, times, strict=True)
    )
    return (
        "\n## How preparing a ground for water grows\n\nFilling, ways, accumulation and the tree of "
        "pools, on rough ground of each size.\n\n"
        f"| cells | time | a cell |\n| --- | --- | --- |\n{rows}\n\nFitted: time grows with the cells to "
        f"the power {power:.2f}.\n"
    )
