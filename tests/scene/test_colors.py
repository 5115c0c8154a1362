"""Colours of the application come from one place."""

import re
from pathlib import Path

import moss_step

PACKAGE = Path(moss_step.__file__).parent


def test_no_part_of_the_window_has_a_colour_of_its_own():
    parts = [
        p for folder in ("desk", "scene") for p in (PACKAGE / folder).rglob("*.py") if p.name != "colors.py"
    ]
    found = [f"{p.name}: {c}" for p in parts for c in re.findall(r"#[0-9A-Fa-f]{6}\b", p.read_text())]
    assert len(parts) > 60 and found == []
