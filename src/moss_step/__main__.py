"""The program: until the command line is ready to say so itself, a signal ends it at once and in silence."""

import gc
import signal

# Half a million objects are made while the libraries load, and all of them stay: to look through them at
# every seven hundredth takes a tenth of the start.
gc.set_threshold(500_000)

for _number in (signal.SIGINT, signal.SIGTERM):
    if signal.getsignal(_number) is not signal.SIG_IGN:
        signal.signal(_number, signal.SIG_DFL)


def program() -> int:
    """Run ``moss-step``."""
    from moss_step.cli import program as run

    return run()


def window() -> int:
    """Open the window, with the files that a desktop hands over."""
    from moss_step.cli import open_window

    return open_window()


if __name__ == "__main__":
    import sys

    sys.exit(program())
