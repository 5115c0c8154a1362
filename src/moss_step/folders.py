"""Folders of the person's own that the program keeps things in."""

from __future__ import annotations

from pathlib import Path

from platformdirs import user_state_path


def state_path() -> Path:
    """Where the folder for autosaves, recent studies and marks of written files is, or will be."""
    return user_state_path("moss-step")
