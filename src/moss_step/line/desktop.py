"""``moss-step install-desktop``: puts the program where the person's desktop looks for programs."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

from platformdirs import user_data_path

from moss_step.formats.whole import make_folder, write_text

_ASSETS = Path(__file__).parent.parent / "desk" / "assets"
_PLACES = (
    ("moss-step.desktop", "applications/moss-step.desktop"),
    ("moss-step.svg", "icons/hicolor/scalable/apps/moss-step.svg"),
    ("moss-step-study.xml", "mime/packages/moss-step-study.xml"),
    ("moss-step.metainfo.xml", "metainfo/moss-step.metainfo.xml"),
)
_TELL = (("update-mime-database", "mime"), ("update-desktop-database", "applications"))
"""Programs that read the folders anew, where a desktop has them."""


def install_desktop() -> None:
    """Write entry, icon, type of studies and description into the person's data folder, and say where.

    Raises MossError where they cannot be written.
    """
    data = user_data_path().resolve()
    program = Path(sys.executable).with_name("moss-step-window")
    for name, place in _PLACES:
        text = (_ASSETS / name).read_text(encoding="utf-8")
        if name.endswith(".desktop"):
            text = text.replace("Exec=moss-step-window", f"Exec={_quoted(program)}")
        target = data / place
        make_folder(target)
        write_text(target, text)
        print(target)
    for tool, folder in _TELL:
        updater = shutil.which(tool)
        if updater is not None:
            with suppress(OSError):
                words = [updater, os.fspath(data / folder)]
                # Only the two that _TELL names, as the desktop installed them.
                subprocess.run(words, check=False, capture_output=True)  # noqa: S603 - no shell, one folder of ours


def _quoted(path: Path) -> str:
    """A path as an entry holds it (Desktop Entry Specification, freedesktop.org: quoted, signs escaped)."""
    text = str(path)
    for sign in ("\\", '"', "`", "$"):
        text = text.replace(sign, f"\\{sign}")
    return f'"{text}"'.replace("%", "%%")
