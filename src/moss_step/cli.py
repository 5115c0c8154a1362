"""The command line: the same steps without a screen, and the window's entry points."""

from __future__ import annotations

import argparse
import io
import json
import os
import signal
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from moss_step import __version__
from moss_step.formats.whole import printable
from moss_step.model.errors import AskedWronglyError, MossError, fault_text
from moss_step.model.progress import Progress
from moss_step.process import EndedError, end_by_word, hush_libraries, keep_to_ourselves, stand_in_for_closed

if TYPE_CHECKING:
    from moss_step.steps.declare import StepKind

DONE, NOT_DONE, ASKED_WRONGLY, INTERRUPTED, TERMINATED = 0, 1, 2, 130, 143


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise AskedWronglyError(f"{message}.", f"See: {self.prog} --help")


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(
        prog="moss-step", description="Terrain analysis: the window, or one step or study without a screen."
    )
    parser.add_argument("--version", action="version", version=f"moss-step {__version__}")
    commands = parser.add_subparsers(dest="command", parser_class=_Parser)
    opened = commands.add_parser("open", help="open a study, or grids and shapes, in the window")
    opened.add_argument("files", type=Path, nargs="+", metavar="FILE")
    opened.add_argument(
        "--nothing-run",
        action="store_true",
        help="open a study without running its steps, such as one that ended the program",
    )
    commands.add_parser("demo", help="open the window with Harrow Moss")
    listed = commands.add_parser("steps", help="list every step with its inputs and settings")
    listed.add_argument("--json", action="store_true", help="print the catalogue as JSON")
    done = commands.add_parser(
        "do", help="run one step", description="Run one step: KIND [name=value ...] -o OUT [-o name=OUT ...]"
    )
    done.add_argument("kind")
    done.add_argument("given", nargs="*", metavar="name=value", help="an input (a path) or a setting")
    written = "file to write, of the main result or of a named one; its ending chooses the format"
    done.add_argument("-o", "--out", action="append", required=True, metavar="[name=]OUT", help=written)
    done.add_argument("--json", action="store_true", help="print the findings as one JSON object")
    run = commands.add_parser("run", help="run a whole study")
    run.add_argument("study", type=Path)
    run.add_argument("-o", "--out", type=Path, help="folder for the results (default: beside the study)")
    run.add_argument("--json", action="store_true", help="print the findings as one JSON object")
    cached = commands.add_parser("cache", help="tell how much results on disk take, or remove them")
    cached.add_argument(
        "--clear", action="store_true", help="remove them: studies are run anew when they are opened"
    )
    return parser


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command line; returns the exit code."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    end_by_word()
    try:
        code = _answer(arguments)
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
        if error.filename is None:
            _leave_standard_output()
        return _said(
            f"{printable(error.filename or 'Standard output')}: {error.strerror or error}.", NOT_DONE
        )
    except Exception as error:  # a fault of our own is one line, too
        return _said(fault_text(error), NOT_DONE)


def _answer(arguments: Sequence[str] | None) -> int:
    asked = _parser().parse_args(arguments)
    commands: dict[str | None, Callable[[argparse.Namespace], int]] = {
        None: lambda _: _window([]),
        "open": lambda a: _window(a.files, waits=a.nothing_run),
        "demo": lambda _: _window([], demo=True),
        "steps": _steps,
        "do": _do,
        "run": _run,
        "cache": _cache,
    }
    return commands[asked.command](asked)


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


def program() -> int:
    """The program ``moss-step``: standard error carries our lines only, what the libraries remark goes to the
    log.
    """
    stand_in_for_closed()
    hush_libraries()
    if sys.argv[1:2] in (["do"], ["run"], ["steps"]):
        keep_to_ourselves()
    return main()


def open_window() -> int:
    """Open the window, with the files that a desktop hands over."""
    stand_in_for_closed()
    hush_libraries()
    return main(["open", "--", *sys.argv[1:]] if sys.argv[1:] else [])


def _window(paths: list[Path], demo: bool = False, waits: bool = False) -> int:
    for path in paths:
        if not path.exists():
            raise MossError(f"{path} was not found.", "Check the name.")
    from moss_step.desk.app import run  # Qt is loaded for the window only

    return run(paths, demo, waits)


def _steps(asked: argparse.Namespace) -> int:
    from moss_step.steps.catalogue import catalogue, describe

    described = [describe(s) for s in catalogue().values()]
    if asked.json:
        print(json.dumps(described, indent=1))
        return DONE
    for step in described:
        names = [i["name"] + ("" if not i["optional"] else "?") for i in step["inputs"]]
        print(f"{step['kind']:<16} {step['question']}  [{step['bench']}]")
        for line in [*names, *(_setting_line(s) for s in step["settings"])]:
            print(f"    {line}=")
        for result in step["results"]:
            print(f"    -o {result['name']}=  ({result['title'].lower()})")
    return DONE


def _setting_line(row: dict[str, Any]) -> str:
    allowed = "|".join(map(str, row["range"])) if isinstance(row["range"], list) else ""
    return f"{row['name']} ({allowed or row['title'].lower()}{', ' + row['unit'] if row['unit'] else ''})"


def _do(asked: argparse.Namespace) -> int:
    from moss_step.kinds.registry import kind_named
    from moss_step.model.telling import USUAL
    from moss_step.steps.catalogue import step_kind
    from moss_step.study.direct import do_step
    from moss_step.study.hand_on import check_ending, check_not_a_source, hand_on

    step = step_kind(asked.kind)
    given = dict(_pair(text) for text in asked.given)
    targets = _targets(step, asked.out)
    for result, path in targets.items():
        check_ending(path, kind_named(step.result_by(result, given).gives))
        check_not_a_source(
            path, [v for n, v in given.items() if step.input(n) is not None or n in step.file_settings]
        )
    with _ProgressBar() as progress:
        results = do_step(step, given, progress, targets)
        for result, path in targets.items():
            hand_on(*results[result], path, progress)
    outcomes = [outcome for outcome, _ in results.values()]
    warnings = dict.fromkeys(w for o in outcomes for w in o.warnings)
    if asked.json:
        findings = [f.as_json() for f in dict.fromkeys(f for o in outcomes for f in o.findings)]
        print(
            json.dumps(
                {
                    "kind": step.kind,
                    "outputs": [str(p) for p in targets.values()],
                    "findings": findings,
                    "warnings": list(warnings),
                }
            )
        )
        return DONE
    for result, path in targets.items():
        outcome, name = results[result]
        print(f"{name}: {USUAL.figure(outcome.figure)} -> {path}")
    for warning in warnings:
        print(f"  note: {warning}")
    return DONE


def _targets(step: StepKind, outs: Sequence[str]) -> dict[str, Path]:
    """Where each result goes, by its name: ``OUT`` for the main one, ``name=OUT`` for another.

    Raises AskedWronglyError for a name that the step does not give, a result that is asked for twice, and two
    that would share a file.
    """
    result: dict[str, Path] = {}
    for text in outs:
        name, mark, path = text.partition("=")
        name, path = (name, path) if mark and name.isidentifier() else ("", text)
        if step.result(name).name in result:
            raise AskedWronglyError(
                f"-o {text}: {name or 'the main result'} goes to {result[name]} already.",
                "Write each result once.",
            )
        result[name] = Path(path)
    if len({p.resolve() for p in result.values()}) < len(result):
        raise AskedWronglyError("Two results would be one file.", "Give each a name of its own.")
    return result


def _run(asked: argparse.Namespace) -> int:
    from moss_step.formats.whole import sweep, write_text
    from moss_step.kinds.registry import kind_of
    from moss_step.study.engine import Engine
    from moss_step.study.graph import file_name, step_of
    from moss_step.study.hand_on import check_not_a_source, hand_on
    from moss_step.study.held import Held
    from moss_step.study.record import lineage
    from moss_step.study.saving import load_study

    study = load_study(asked.study)
    folder = asked.out or asked.study.resolve().parent / f"{asked.study.stem}-results"
    folder.mkdir(parents=True, exist_ok=True)
    sweep(folder)
    state = folder / "results.json"
    write_text(
        state, json.dumps({"study": str(asked.study), "complete": False, "outputs": []}, indent=1) + "\n"
    )
    if Held.elsewhere(asked.study):
        print(
            f"moss-step: {asked.study} is open in a window; what its file holds now is run.", file=sys.stderr
        )
    sources = study.source_files
    engine, outputs, findings, warnings = Engine(), [], [], []
    with _ProgressBar() as progress:
        for ref in study.refs(asked=False):
            try:
                outcome = engine.run_or_raise(study, ref, progress)
            except MossError as error:
                if engine.said(study, step_of(ref)) is None or engine.failure(study, ref) is None:
                    raise
                warnings.append(
                    f"{study.name_of(ref)} was not written. {error}"
                )  # its step has its main result all the same
                continue
            findings += [{"step": ref, **f.as_json()} for f in outcome.findings]
            warnings += [f"{study.name_of(ref)}: {w}" for w in outcome.warnings]
            if not study.step(ref).inputs:
                continue
            base = folder / f"{ref.replace('.', '_')}_{file_name(study.name_of(ref))}"
            if not base.resolve().is_relative_to(folder.resolve()):
                raise MossError(
                    f"The result '{ref}' would lie outside {folder}.", "Give the step another id."
                )
            kind = kind_of(outcome.value)
            for ending in (kind.endings[0], *kind.beside):
                target = base.with_name(base.name + ending)
                check_not_a_source(target, sources)
                hand_on(outcome, study.name_of(ref), target, progress)
                outputs.append(str(target))
            record = base.with_name(base.name + ".txt")
            write_text(record, lineage(study, ref, engine))
            outputs.append(str(record))
    write_text(
        state,
        json.dumps(
            {"study": str(asked.study), "complete": True, "outputs": [Path(o).name for o in outputs]},
            indent=1,
        )
        + "\n",
    )
    if asked.json:
        print(json.dumps({"kind": "run", "outputs": outputs, "findings": findings, "warnings": warnings}))
    else:
        print("\n".join(outputs))
    return DONE


def _cache(asked: argparse.Namespace) -> int:
    from moss_step.study.shelf import Shelf

    shelf = Shelf()
    count, nbytes = shelf.clear() if asked.clear else shelf.measured()
    print(
        f"{shelf.folder}: {count:,} result{'s' if count != 1 else ''}, {nbytes / 1e6:,.1f} "
        f"MB{', removed' if asked.clear else ''}"
    )
    return DONE


def _pair(text: str) -> tuple[str, str]:
    name, mark, value = text.partition("=")
    if not mark or not name:
        raise AskedWronglyError(f"'{text}' is not name=value.", "Write for example unit=percent.")
    return name, value


class _ProgressBar:
    """A bar on a terminal, nothing in a pipe."""

    def __enter__(self) -> Progress:
        from tqdm import tqdm

        self._bar = tqdm(
            total=100,
            disable=not sys.stderr.isatty(),
            leave=False,
            bar_format="{desc} {bar} {percentage:3.0f} %",
        )
        return Progress(self._tell)

    def _tell(self, fraction: float, doing: str) -> None:
        self._bar.set_description_str(doing, refresh=False)
        self._bar.n = round(fraction * 100)
        self._bar.refresh()

    def __exit__(self, *_: object) -> None:
        self._bar.close()
