"""Writing pictures of the window to files."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtGui import QImage, QImageWriter

from moss_step.formats.picture import places_of
from moss_step.formats.whole import whole_file
from moss_step.model.errors import MossError


def write_png(image: QImage, path: Path) -> None:
    """Write a picture as PNG, whole or not at all.

    Raises MossError when it cannot be written.
    """
    with whole_file(path, places_of) as part:
        if not QImageWriter(str(part), b"png").write(image):
            raise MossError(
                f"{path} could not be written.", "The disk may be full. Free some space, or choose another."
            )
