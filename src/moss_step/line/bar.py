"""One bar for a whole run: on a terminal what is done, the share and the time left; in a pipe nothing."""

from __future__ import annotations

import shutil
import sys

from moss_step.model.progress import Progress

_LOOK = "{desc} {bar} {percentage:3.0f} %, {remaining} left"


class Bar:
    """Shows progress on standard error while it is a terminal; ``quiet`` shows none anywhere."""

    def __init__(self, quiet: bool = False) -> None:
        self._hidden = quiet or not sys.stderr.isatty()

    def __enter__(self) -> Progress:
        from tqdm import tqdm

        tqdm.monitor_interval = 0  # no thread of its own: it could hold standard error while the program ends
        size = shutil.get_terminal_size()  # some terminals say that they have none
        self._bar = tqdm(
            total=100,
            disable=self._hidden,
            leave=False,
            bar_format=_LOOK,
            ncols=size.columns - 1,
            nrows=size.lines,
        )
        return Progress(self._tell)

    def _tell(self, fraction: float, doing: str) -> None:
        if not self._hidden:
            self._bar.set_description_str(doing or "Working", refresh=False)
            self._bar.n = round(fraction * 100)
            self._bar.refresh()

    def __exit__(self, *_: object) -> None:
        self._bar.close()
