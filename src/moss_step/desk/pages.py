"""The pages that are shipped with the program: F1 opens the one of what is shown."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtGui import QDesktopServices

SITE = Path(__file__).parents[1] / "site"
"""Where the built pages lie; a working copy has them after ``make site``."""


def page_of(bench: str, kind: str) -> Path:
    """The page of a step, else of its bench, else the first one."""
    asked = (SITE / "steps" / f"{kind}.html", SITE / f"{bench}.html")
    return next((p for p in asked if p.is_file()), SITE / "index.html")


def open_page(bench: str, kind: str) -> str:
    """Open a page in the browser; gives what is in the way, in words, and nothing when it opened."""
    page = page_of(bench, kind)
    if not page.is_file():
        return "The pages are not built in this copy. Build them: make site"
    if not QDesktopServices.openUrl(QUrl.fromLocalFile(str(page))):
        return f"No browser could be opened. The page is {page}"
    return ""
