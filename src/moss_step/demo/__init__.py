"""Harrow Moss, the invented estate: its ground, shapes and true values, made by code from one seed."""

from pathlib import Path

DATA = Path(__file__).parent / "data"
"""Where the package keeps the estate's files."""
