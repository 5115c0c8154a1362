"""Pictures of the window as files: whole, or not at all and told."""

import pytest
from PySide6.QtGui import QColor, QImage

from moss_step.desk.png import write_png
from moss_step.model.errors import MossError


def test_a_picture_is_read_back_as_it_was(qapp, tmp_path):
    image = QImage(30, 20, QImage.Format.Format_RGB32)
    image.fill(QColor(10, 120, 60))
    image.setPixelColor(3, 4, QColor(200, 0, 0))
    write_png(image, tmp_path / "picture.png")
    assert QImage(str(tmp_path / "picture.png")).convertToFormat(image.format()) == image


def test_a_picture_that_cannot_be_written_is_told_and_the_old_one_stays(qapp, tmp_path):
    path = tmp_path / "picture.png"
    path.write_bytes(b"the old one")
    with pytest.raises(MossError, match="could not be written"):
        write_png(QImage(), path)
    assert path.read_bytes() == b"the old one" and [p.name for p in tmp_path.iterdir()] == ["picture.png"]
