"""When a window has come to rest: the tests, the pictures and the kernels that are compiled all wait for it."""

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QObject

from moss_step.desk.parts import Later
from moss_step.desk.rest import settle


class Asked(QObject):
    """Hears an event that was posted to it, as a part does that is to make room."""

    def __init__(self) -> None:
        super().__init__()
        self.heard = False

    def event(self, event: QEvent) -> bool:
        self.heard = self.heard or event.type() == QEvent.Type.User
        return super().event(event)


@pytest.mark.parametrize("turns", range(1, 7))
def test_what_the_last_turn_asked_for_is_waited_for(window, settle, turns):
    settle(window)
    asked = Asked()
    last = Later(lambda: QCoreApplication.postEvent(asked, QEvent(QEvent.Type.User)), window)
    for _ in range(turns):
        last = Later(last.ask, window)
    last.ask()
    settle(window)
    assert asked.heard


def test_a_window_that_never_rests_is_told_of(window):
    again = Later(lambda: again.ask(), window)
    again.ask()
    assert not settle(window, 0.1)
