"""The device that is heard: it goes on while other things are done, and what it told is kept as a step."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from moss_step.desk.runner import Helper
from moss_step.formats.listening import Device, Listening
from moss_step.model.errors import MossError
from moss_step.study.recordings import keep_recording, new_recording, unkept_recordings


class Ear(QObject):
    """Begins and ends listening; recordings of an ended program are offered until they are kept."""

    changed = Signal()

    def __init__(self, files: Helper, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._files = files
        self.listening: Listening | None = None

    def start(self, device: Device) -> MossError | None:
        """Listen to a device; gives the refusal when it cannot."""
        try:
            self.listening = self._files.now(lambda: Listening(device, new_recording()))
        except MossError as error:
            return error
        self.changed.emit()
        return None

    def stop(self) -> Path | None:
        """Listen no more; gives the recording, None when nothing was heard at all."""
        heard, self.listening = self.listening, None
        if heard is None:
            return None
        self._files.now(heard.stop)
        self.changed.emit()
        if not heard.bytes:
            self._files.now(lambda: self._drop(heard.recording))
            return None
        return heard.recording

    def kept(self, recording: Path) -> None:
        """A recording is in the study, or given up: it is offered no more."""
        self._files.now(lambda: keep_recording(recording))

    def left_over(self, then: Callable[[list[Path]], object]) -> None:
        """Recordings that were not kept when their program ended: ``then`` gets them when the disk tells."""
        self._files.ask(unkept_recordings, lambda found: then(found) if isinstance(found, list) else None)

    def close(self) -> None:
        """The program ends: what was heard is offered at the next start."""
        if self.listening is not None:
            self.listening.stop()
            self.listening = None

    @staticmethod
    def _drop(recording: Path) -> None:
        keep_recording(recording)
        recording.unlink(missing_ok=True)
