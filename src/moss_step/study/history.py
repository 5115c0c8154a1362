"""Undo and redo: a study is never altered, so its history is the list of what it was."""

from __future__ import annotations

from moss_step.study.graph import Study

MOST = 500


class History:
    """The states of a study with the one that is current."""

    def __init__(self, study: Study) -> None:
        self._states: list[tuple[Study, str]] = [(study, "")]
        self._at = 0

    @property
    def study(self) -> Study:
        """The current study."""
        return self._states[self._at][0]

    def do(self, study: Study, what: str, join: bool = False) -> None:
        """Make ``study`` current; ``what`` says the change. ``join`` merges it with the last of the same
        words.
        """
        if study == self.study:
            return
        joined = join and self._at > 0 and self._states[self._at][1] == what
        del self._states[self._at + (0 if joined else 1) :]
        self._states.append((study, what))
        del self._states[:-MOST]
        self._at = len(self._states) - 1

    @property
    def undo_text(self) -> str:
        """What undo would take back; empty when there is nothing."""
        return self._states[self._at][1] if self._at else ""

    @property
    def redo_text(self) -> str:
        """What redo would do again; empty when there is nothing."""
        return self._states[self._at + 1][1] if self._at + 1 < len(self._states) else ""

    def undo(self) -> None:
        """Go one change back."""
        self._at = max(0, self._at - 1)

    def redo(self) -> None:
        """Go one change forward."""
        self._at = min(len(self._states) - 1, self._at + 1)
