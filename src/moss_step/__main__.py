"""The program: until the command line is ready to say so itself, a signal ends it at once and in silence."""

import gc

from moss_step.start import end_in_silence

# Half a million objects are made while the libraries load, and all of them stay: to look through them at
# every seven hundredth takes a tenth of the start.
gc.set_threshold(500_000)
end_in_silence()


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
