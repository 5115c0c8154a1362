"""The word that somebody may have meant."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches


def nearest(word: str, known: Iterable[str]) -> str:
    """The known word that is nearest to one; empty where none is near.

    A beginning counts as near, too: ``cont`` means ``contours``. The measure is Ratcliff & Obershelp's, by
    the standard library.
    """
    words = list(known)
    clean = word.strip().lower().replace("-", "_")
    begins = [w for w in words if len(clean) > 2 and w.startswith(clean)]
    close = begins or get_close_matches(clean, words, 1, 0.6)
    return close[0] if close else ""


def meant(word: str, known: Iterable[str]) -> str:
    """The question whether another word was meant; empty where none is near."""
    close_word = nearest(word, known)
    return f"Did you mean {close_word}?" if close_word else ""
