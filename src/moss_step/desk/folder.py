"""Asking for files: every dialog begins in the folder where the last one ended."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget


class Folder:
    """Where files were last opened or written."""

    def __init__(self) -> None:
        self.path = Path.home()

    def ask_open(self, parent: QWidget, title: str, kinds: str = "", held: str = "") -> Path | None:
        """Ask for a file that is there; ``held`` is one that is chosen already."""
        start = str(Path(held).parent) if held else str(self.path)
        name, _ = QFileDialog.getOpenFileName(parent, title, start, kinds)
        return self._left(Path(name)) if name else None

    def ask_open_several(self, parent: QWidget, title: str) -> list[Path]:
        """Ask for files that are there."""
        names, _ = QFileDialog.getOpenFileNames(parent, title, str(self.path))
        return [self._left(Path(name)) for name in names]

    def ask_save(self, parent: QWidget, title: str, proposal: str, kinds: str, ending: str) -> Path | None:
        """Ask where a file goes; a name without an ending gets ``ending``."""
        name, _ = QFileDialog.getSaveFileName(parent, title, str(self.path / proposal), kinds)
        if not name:
            return None
        return self._left(Path(name) if Path(name).suffix else Path(name + ending))

    def _left(self, path: Path) -> Path:
        self.path = path.parent
        return path
