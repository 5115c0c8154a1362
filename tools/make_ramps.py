"""Write the colour ramps that the application ships, from Crameri's scientific colour maps (MIT licence)."""

from __future__ import annotations

import json
from pathlib import Path

from cmcrameri import cm

# Our word for each ramp, the map it is taken from, and whether it is turned round.
RAMPS = {
    "upland": ("bamako", False),
    "ember": ("lajolla", True),
    "peat": ("turku", False),
    "dusk": ("lipari", False),
    "spectrum": ("batlow", False),
    "water": ("davos", True),
    "frost": ("oslo", True),
    "heath": ("acton", True),
    "change": ("vik", False),
    "contrast": ("roma", True),
    "compass": ("romaO", False),
    "rose": ("vikO", False),
    "grey": ("grayC", True),
}


def main() -> None:
    """Write 256 colours a ramp as one hex text each."""
    found = {}
    for name, (source, turned) in RAMPS.items():
        colors = (cm.cmaps[source](range(256))[:, :3] * 255).round().astype("uint8")
        found[name] = (colors[::-1] if turned else colors).tobytes().hex()
    target = Path(__file__).parent.parent / "src/moss_step/scene/ramps.json"
    target.write_text(json.dumps(found, indent=0) + "\n")


if __name__ == "__main__":
    main()
