"""Colour ramps: 256 colours each, perceptually even and safe for colour-blind readers."""

from __future__ import annotations

import json
from functools import lru_cache
from pathlib import Path

import numpy as np

from moss_step.model.surface import Surface

CYCLIC = ("compass", "rose")
_BY_QUANTITY = {
    "elevation": "upland",
    "slope": "ember",
    "aspect": "compass",
    "shade": "lamp",
    "seen": "lookout",
    "depth": "tarn",
}
_LOOKOUT = ((217, 194, 74), (95, 160, 120), (18, 78, 78))
"""Lichen to deep teal, dark with the number of observers."""
_TARN = ((226, 212, 158), (112, 176, 170), (44, 116, 150), (20, 62, 104), (16, 28, 58))
"""Sand of the shallows to the dark of the deep."""
_EARTH = ((14, 72, 84), (84, 158, 152), (240, 234, 220), (214, 140, 84), (122, 58, 20))
"""Fill is blue-green and cut is ochre; what stays is clear."""
_LAMP = ((0, 0, 0), (255, 255, 255))
"""Light as it falls: what is lit is light."""


@lru_cache(maxsize=1)
def _all() -> dict[str, np.ndarray]:
    texts = json.loads(Path(__file__).with_name("ramps.json").read_text())
    result = {name: np.frombuffer(bytes.fromhex(t), np.uint8).reshape(256, 3) for name, t in texts.items()}
    return result | {
        "lookout": _between(_LOOKOUT),
        "lamp": _between(_LAMP),
        "tarn": _between(_TARN),
        "earth": _between(_EARTH),
    }


def _between(stops: tuple[tuple[int, int, int], ...]) -> np.ndarray:
    """A ramp through colours at even steps."""
    places = np.linspace(0, len(stops) - 1, 256)
    return (
        np.stack([np.interp(places, np.arange(len(stops)), [s[k] for s in stops]) for k in range(3)], axis=1)
        .round()
        .astype(np.uint8)
    )


def ramp_names() -> list[str]:
    """Names of all ramps."""
    return list(_all())


def ramp(name: str, reverse: bool = False) -> np.ndarray:
    """Colours of a ramp: uint8 of shape (256, 3)."""
    colors = _all()[name]
    return np.ascontiguousarray(colors[::-1] if reverse else colors)


def colors_along(name: str, count: int) -> list[str]:
    """As many colours of a ramp, evenly from its one end to the other."""
    picked = ramp(name)[np.rint(np.linspace(0, 255, count)).astype(int)]
    return [f"#{r:02X}{g:02X}{b:02X}" for r, g, b in picked]


def bent(colors: np.ndarray, low: float, high: float, centre: float | None, steps: int) -> np.ndarray:
    """Colours of a span from ``low`` to ``high``, with the middle one at ``centre``, and as many ``steps``
    of one colour each; 0 runs through.
    """
    share = (np.arange(256) + 0.5) / 256.0
    if centre is not None and low < centre < high:
        at = (centre - low) / (high - low)
        share = np.where(share < at, 0.5 * share / at, 0.5 + 0.5 * (share - at) / (1.0 - at))
    if steps > 1:
        share = np.floor(share * steps) / (steps - 1)
    return np.ascontiguousarray(colors[np.clip(np.rint(share * 255.0), 0, 255).astype(int)])


def usual_ramp(surface: Surface) -> str:
    """The ramp that suits what a surface measures."""
    return _BY_QUANTITY.get(surface.quantity, "spectrum")
