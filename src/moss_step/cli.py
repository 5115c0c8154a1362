"""The command line: the same steps without a screen, and the window's entry points."""

from __future__ import annotations

import argparse
import atexit
import gc
import io
import json
import os
import signal
import sys
from collections.abc import Callable, Sequence
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path

from moss_step.formats.whole import printable
from moss_step.line import stored
from moss_step.line.pages import completion, listing, manual, page
from moss_step.line.words import COMMANDS, check_command, parser
from moss_step.model.errors import AskedWronglyError, MossError, fault_text
from moss_step.process import EndedError, end_by_word, hush_libraries, keep_to_ourselves, stand_in_for_closed

DONE, NOT_DONE, ASKED_WRONGLY, INTERRUPTED, TERMINATED = 0, 1, 2, 130, 143


def main(arguments: Sequence[str] | None = None, own: bool = False) -> int:
    """Run the command line; returns the exit code. The process may be its ``own``, and end with it."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    end_by_word()
    try:
        code = _answer(arguments, own)
        sys.stdout.flush()
        return code
    except MossError as error:
        return _said(str(error), error.exit_code)
    except KeyboardInterrupt:
        return _said(_STOPPED, INTERRUPTED)
    except EndedError as error:
        return _said(_STOPPED, INTERRUPTED) if error.number == signal.SIGINT else _said(_ENDED, TERMINATED)
    except BrokenPipeError:
        _leave_standard_output()
        return NOT_DONE
    except OSError as error:
        if error.errno is None:  # a library's, such as a time-out: no word of the system
            return _said(fault_text(error), NOT_DONE)
        if error.filename is None:
            _leave_standard_output()
        return _said(
            f"{printable(error.filename or 'Standard output')}: {error.strerror or error}.", NOT_DONE
        )
    except Exception as error:  # a fault of our own is one line, too
        return _said(fault_text(error), NOT_DONE)


def _answer(arguments: Sequence[str] | None, own: bool) -> int:
    words = list(sys.argv[1:] if arguments is None else arguments)
    check_command(words)
    if words[:1] == ["do"]:
        from moss_step.line.doing import do

        do(words[1:])
        return DONE
    asked = parser().parse_args(words)
    asked.own = own
    commands: dict[str | None, Callable[[argparse.Namespace], int | None]] = {
        None: lambda _: _window([]),
        "open": lambda a: _window(a.files, waits=a.nothing_run),
        "demo": lambda _: _window([], demo=True),
        "steps": _steps,
        "run": _later("running.run"),
        "sheet": _later("sheeting.sheet"),
        "hand-on": _later("several.several"),
        "parcel": _later("parcels.parcel"),
        "lineage": _later("lineages.lineage"),
        "script": _later("lineages.script"),
        "check": _check,
        "schema": _schema,
        "practice": _practice,
        "prepare": _prepare,
        "cache": _cache,
        "install-desktop": _install_desktop,
        "completion": lambda a: print(completion(a.shell, COMMANDS), end=""),
        "manual": lambda _: print(manual(COMMANDS), end=""),
    }
    return commands[asked.command](asked) or DONE


def _later(place: str) -> Callable[[argparse.Namespace], None]:
    """A function of a module of the command line, loaded when it is asked for: the help should not wait."""
    module, name = place.split(".")

    def run(asked: argparse.Namespace) -> None:
        getattr(import_module(f"moss_step.line.{module}"), name)(asked)

    return run


_STOPPED, _ENDED = (
    "Stopped; nothing half-written is left.",
    "Ended from outside; nothing half-written is left.",
)


def _leave_standard_output() -> None:
    """Have what it still holds go nowhere, so that nothing is flushed into it at the end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _said(text: str, code: int) -> int:
    print(f"moss-step: {printable(' '.join(text.split()))}", file=sys.stderr)
    return code


_WITHOUT_A_SCREEN = ("do", "run", "steps", "sheet", "hand-on", "parcel", "check", "lineage", "script")
"""Commands whose standard error is ours alone."""


def program() -> int:
    """The program ``moss-step``: standard error carries our lines only, what the libraries remark goes to the
    log.
    """
    stand_in_for_closed()
    hush_libraries()
    if sys.argv[1:2] and sys.argv[1] in _WITHOUT_A_SCREEN:
        keep_to_ourselves()
        # All that was loaded would be looked through once more at the end, which takes a third of a second.
        atexit.register(gc.freeze)
    return main(own=True)


def open_window() -> int:
    """Open the window, with the files that a desktop hands over."""
    stand_in_for_closed()
    hush_libraries()
    return main(["open", "--", *sys.argv[1:]] if sys.argv[1:] else [])


_WINDOW = ("PySide6", "pyqtgraph", "rapidfuzz")
"""Libraries that the window alone needs."""


def _window(paths: list[Path], demo: bool = False, waits: bool = False) -> int:
    for path in paths:
        if not path.exists():
            raise MossError(f"{path} was not found.", "Check the name.")
    missing = [name for name in _WINDOW if find_spec(name) is None]
    if missing:
        verb = "is" if len(missing) == 1 else "are"
        lacking = f"The window is not installed: {', '.join(missing)} {verb} missing."
        raise MossError(lacking, "pip install 'moss-step[window]'")
    from moss_step.line.display import check_display

    check_display()  # the libraries of the window take their time to load
    from moss_step.desk.app import run  # Qt is loaded for the window only

    return run(paths, demo, waits)


def _practice(asked: argparse.Namespace) -> None:
    """Simulate a device or a service until it is stopped."""
    _check_bounds(asked, _BOUNDS[asked.device])
    if asked.device == "elevation":
        from moss_step.practice.elevation import Faults, serve_elevation

        faults = Faults(asked.delay, asked.failures, asked.slow, asked.wrong, asked.seed)
        serve_elevation(faults, asked.port, lambda text: print(text, flush=True))
        return
    from moss_step.demo.sounder import Sounder
    from moss_step.practice.sounder import serve

    made = Sounder(asked.rate, asked.speed, asked.noise, asked.dropouts)
    serve(made, asked.port, lambda text: print(text, flush=True), asked.hurry)


_BOUNDS: dict[str, dict[str, tuple[float, float]]] = {
    "sounder": {
        "rate": (0.1, 50.0),
        "speed": (0.1, 20.0),
        "noise": (0.0, 10.0),
        "dropouts": (0.0, 0.95),
        "hurry": (0.1, 1e4),
        "port": (0, 65535),
    },
    "elevation": {
        "delay": (0.0, 60.0),
        "failures": (0.0, 1.0),
        "slow": (0.0, 1e9),
        "wrong": (0.0, 1.0),
        "port": (0, 65535),
    },
}
"""Limits of what may be asked of each."""


def _check_bounds(asked: argparse.Namespace, bounds: dict[str, tuple[float, float]]) -> None:
    for name, (low, high) in bounds.items():
        if not low <= getattr(asked, name) <= high:
            raise AskedWronglyError(
                f"--{name} {getattr(asked, name):g} is not possible.", f"It is {low:g} to {high:g}."
            )


def _steps(asked: argparse.Namespace) -> None:
    if asked.json:
        print(json.dumps(list(stored.steps().values()), indent=1))
    elif len(asked.words) == 1 and asked.words[0] in stored.steps():
        print(page(asked.words[0]))
    else:
        print(listing(" ".join(asked.words), asked.bench))


def _check(asked: argparse.Namespace) -> None:
    from moss_step.line.checking import check

    check(asked.studies, asked.sources, asked.quiet)


def _schema(asked: argparse.Namespace) -> None:
    from moss_step.study.schema import schema

    print(json.dumps(schema(), indent=1))


def _prepare(asked: argparse.Namespace) -> None:
    from moss_step.line.prepare import prepare

    prepare()


def _install_desktop(asked: argparse.Namespace) -> None:
    from moss_step.line.desktop import install_desktop

    install_desktop()


def _cache(asked: argparse.Namespace) -> int:
    from moss_step.formats.overviews import clear_overviews, overview_folder, overviews
    from moss_step.line.afar import clear_runs, left_of_runs
    from moss_step.study.shelf import Shelf

    runs = left_of_runs()
    shelf, looks = Shelf(), overviews()
    bytes_of_looks = sum(size for _, size in looks)
    count, nbytes = shelf.clear() if asked.clear else shelf.measured()
    if asked.clear:
        clear_overviews()
        clear_runs()
    gone = ", removed" if asked.clear else ""
    print(f"{shelf.folder}: {_counted(count, 'result')}, {nbytes / 1e6:,.1f} MB{gone}")
    if looks:
        print(f"{overview_folder()}: {_counted(len(looks), 'look')}, {bytes_of_looks / 1e6:,.1f} MB{gone}")
    for folder, size in runs:
        print(f"{folder}: a run that did not end, {size / 1e6:,.1f} MB{gone}")
    return DONE


def _counted(count: int, what: str) -> str:
    return f"{count:,} {what}{'s' if count != 1 else ''}"
