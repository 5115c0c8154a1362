"""Long names in little room: what is cut is what tells least."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics, QFontMetricsF

_SIGNS = ((", degrees, of ", " °, of "), (", percent, of ", " %, of "))
_LINKS = (", of ", " of ", " in ", " over ", " for ")


def fitted(name: str, metrics: QFontMetrics | QFontMetricsF, room: float) -> str:
    """A name within ``room`` pixels: units as signs, then links as points, then without its middle: what was
    done stands at its beginning, and to what at its end.
    """
    shorter = list(_shorter(name))
    for text in shorter:
        if metrics.horizontalAdvance(text) <= room:
            return text
    last = shorter[-1]
    if isinstance(metrics, QFontMetrics):
        return metrics.elidedText(last, Qt.TextElideMode.ElideMiddle, int(room))
    return metrics.elidedText(last, Qt.TextElideMode.ElideMiddle, room)


def _shorter(name: str) -> Iterator[str]:
    yield name
    for words, sign in _SIGNS:
        name = name.replace(words, sign)
    yield name
    for link in _LINKS:
        name = name.replace(link, " · ")
    yield name
