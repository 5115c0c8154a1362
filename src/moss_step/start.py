"""How the program begins: until the command line is ready to say so itself, a signal ends it at once and in
silence.
"""

import signal
import sys

_NAMES = ("-m", "moss-step", "moss-step-window")
"""What the program is called while its package is loaded: `python -m` has no name for it yet."""


def is_the_program() -> bool:
    """Whether the package is loaded as the program, and not into somebody else's."""
    return bool(sys.argv) and sys.argv[0].rpartition("/")[2] in _NAMES


def end_in_silence() -> None:
    """Have signals that ask the program to end do so at once, unless they are to be ignored."""
    for number in (signal.SIGINT, signal.SIGTERM):
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, signal.SIG_DFL)
