"""What is asked for in words: commands, their options, and pairs in any place."""

from __future__ import annotations

import argparse
import glob
import keyword
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

from moss_step import __version__
from moss_step.formats.address import place_of
from moss_step.line import lineages, parcels, several, sheeting
from moss_step.line.pages import SHELLS
from moss_step.line.stored import Described
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.nearest import meant

COMMANDS = (
    ("do", "run one step: KIND [name=value ...] -o OUT [-o name=OUT ...]"),
    ("run", "run a whole study"),
    ("sheet", "write a page of a study, or an atlas: PDF, SVG, PNG or TIFF"),
    ("lineage", "write how results came about: text, W3C PROV, or a picture of the trail"),
    ("script", "write a study as a script: Python, or shell commands"),
    ("hand-on", "write several results at once: a folder or one GeoPackage, with an index"),
    ("parcel", "pack a study with its sources, and a manifest of checksums and figures, as one zip"),
    ("check", "say whether a study is in order; run a parcel anew and compare every figure"),
    ("schema", "print the form of a study file as a JSON schema"),
    ("steps", "list steps, or tell of one"),
    ("open", "open a study, or grids and shapes, in the window"),
    ("demo", "open the window with Harrow Moss"),
    ("practice", "simulate a device or a service, to practise with: sounder, elevation"),
    ("prepare", "compile the kernels, once, so that no later run waits for them"),
    ("cache", "tell how much results on disk take, or remove them"),
    ("install-desktop", "put the program, and the type of its studies, where the desktop looks"),
    ("completion", "print a script that completes words in a shell"),
    ("manual", "print the manual as a page for man"),
)


class Parser(argparse.ArgumentParser):
    """A parser whose refusals are ours: one line, with what to do."""

    def error(self, message: str) -> NoReturn:
        """Refuse."""
        raise AskedWronglyError(f"{message}.", f"See: {self.prog} --help")


def parser() -> Parser:
    """The parser of everything but what follows ``do``."""
    top = Parser(
        prog="moss-step",
        description="Terrain analysis: the window, or one step or study without a screen.",
        epilog="moss-step do KIND --help tells of a step, moss-step steps WORD finds steps.",
    )
    top.add_argument("--version", action="version", version=f"moss-step {__version__}")
    commands = top.add_subparsers(dest="command", parser_class=Parser, metavar="COMMAND")
    parsers = {name: commands.add_parser(name, help=what) for name, what in COMMANDS}
    parsers["open"].add_argument("files", type=Path, nargs="+", metavar="FILE")
    waits = "open a study without running its steps, such as one that ended the program"
    parsers["open"].add_argument("--nothing-run", action="store_true", help=waits)
    parsers["steps"].add_argument("words", nargs="*", metavar="WORD", help="words to find, or one step")
    parsers["steps"].add_argument("--bench", default="", help="only the steps of a bench")
    parsers["steps"].add_argument("--json", action="store_true", help="print the catalogue as JSON")
    run = parsers["run"]
    run.add_argument("study", type=Path)
    run.add_argument(
        "-o",
        "--out",
        type=place_of,
        metavar="OUT",
        help="folder for the results, or an address of one such as s3://BUCKET (default: beside the study)",
    )
    run.add_argument(
        "--only",
        action="append",
        metavar="STEP",
        help="write this result alone; may be given again",
    )
    who = run.add_mutually_exclusive_group()
    who.add_argument("--workers", type=int, metavar="N", help="work tile by tile, with N processes here")
    who.add_argument(
        "--scheduler", metavar="ADDRESS", help="work with the workers of a Dask scheduler, tcp://HOST:PORT"
    )
    tile = "work tile by tile, with about N cells a tile (default: 8000000, where it has to be)"
    run.add_argument("--tile-cells", type=int, metavar="N", help=tile)
    run.add_argument("--dry-run", action="store_true", help="say what would run and be written")
    run.add_argument("--json", action="store_true", help="print the findings as one JSON object")
    run.add_argument("-q", "--quiet", action="store_true", help="print nothing but errors")
    sheeting.add_words(parsers["sheet"])
    practice = parsers["practice"].add_subparsers(
        dest="device", parser_class=Parser, metavar="DEVICE", required=True
    )
    sounder = practice.add_parser(
        "sounder", help="an echo sounder and receiver (NMEA 0183) on a loopback port"
    )
    for name, usual, what in (
        ("rate", 2.0, "soundings a second"), ("speed", 1.2, "metres a second of the boat"),
        ("noise", 0.05, "spread of the noise, in metres"), ("dropouts", 0.03, "share without an echo"),
        ("hurry", 1.0, "how much faster than in truth it tells"),
    ):  # fmt: skip
        sounder.add_argument(f"--{name}", type=float, default=usual, help=f"{what} (default: {usual:g})")
    sounder.add_argument("--port", type=int, default=0, help="port to listen on; 0 for any that is free")
    elevation = practice.add_parser("elevation", help="tiles of elevation with a catalogue (STAC), over HTTP")
    for name, usual, what in (
        ("delay", 0.0, "seconds before each answer"), ("failures", 0.0, "share of requests that fail"),
        ("slow", 0.0, "bytes a second at the most; 0 is as fast as it goes"),
        ("wrong", 0.0, "share of bodies that are cut, or of another length than promised"),
    ):  # fmt: skip
        elevation.add_argument(f"--{name}", type=float, default=usual, help=f"{what} (default: {usual:g})")
    elevation.add_argument("--seed", type=int, default=1, help="seed of the dice that faults are thrown with")
    elevation.add_argument("--port", type=int, default=0, help="port to listen on; 0 for any that is free")
    parsers["check"].add_argument("studies", type=Path, nargs="+", metavar="STUDY")
    known = "folder of the sources that a parcel knows by their hashes (default: beside it)"
    parsers["check"].add_argument("--sources", type=Path, metavar="FOLDER", help=known)
    parsers["check"].add_argument("-q", "--quiet", action="store_true", help="show no progress")
    parcels.add_words(parsers["parcel"])
    several.add_words(parsers["hand-on"])
    lineages.add_lineage_words(parsers["lineage"])
    lineages.add_script_words(parsers["script"])
    parsers["cache"].add_argument("--clear", action="store_true", help="remove them: studies are run anew")
    parsers["completion"].add_argument("shell", choices=SHELLS)
    return top


def do_parser() -> Parser:
    """The parser of what follows ``do``: pairs and options in any place."""
    own = Parser(
        prog="moss-step do",
        usage="moss-step do KIND [name=value ...] -o OUT [-o name=OUT ...] [options]",
        description="Run one step. moss-step do KIND --help tells of it, moss-step steps WORD finds steps.",
        add_help=False,
    )
    own.add_argument("given", nargs="*", metavar="KIND name=value")
    out = "file of the main result or of a named one; its ending chooses the format; - is standard output"
    own.add_argument("-o", "--out", action="append", default=[], metavar="[name=]OUT", help=out)
    own.add_argument("--overwrite", action="store_true", help="replace files of other programs, too")
    own.add_argument(
        "--lineage", action="store_true", help="write beside each file how it came about, as text"
    )
    own.add_argument("--dry-run", action="store_true", help="say what would run, its memory and its sizes")
    own.add_argument("--json", action="store_true", help="print the findings as one JSON object")
    own.add_argument("-q", "--quiet", action="store_true", help="print nothing but errors")
    own.add_argument(
        "-v", "--verbose", action="store_true", help="print inputs, settings and every finding, too"
    )
    own.add_argument("-h", "--help", action="store_true", help="tell of the step")
    return own


def pairs(words: Sequence[str]) -> dict[str, str]:
    """Names and values of words such as ``unit=percent``; for a word that Python keeps for itself, such as
    ``class``, the setting with ``of_`` before it.

    Raises AskedWronglyError for a word that is no pair, and for a name that is given twice.
    """
    result: dict[str, str] = {}
    for word in words:
        name, mark, value = word.partition("=")
        if not mark or not name:
            raise AskedWronglyError(f"'{word}' is not name=value.", "Write for example unit=percent.")
        name = f"of_{name}" if keyword.iskeyword(name) else name
        if name in result:
            raise AskedWronglyError(f"{name} is given twice.", "Give it once.")
        result[name] = value
    return result


def runs_of(step: Described, given: Mapping[str, str]) -> list[tuple[dict[str, str], dict[str, str]]]:
    """One run for each file that an input names by ``*``, ``?`` or ``[...]``: what is given, and the names
    that stand for ``{name}`` in where it goes.

    Raises AskedWronglyError when two inputs name many, and MossError when none is found.
    """
    paths = [i["name"] for i in step["inputs"] if i["name"] in given]
    if step["further_inputs"]:
        settings = {s["name"] for s in step["settings"]}
        paths += [n for n in given if n not in settings and n not in paths]
    many = [n for n in paths if glob.has_magic(given[n]) and not Path(given[n]).exists()]
    if len(many) > 1:
        raise AskedWronglyError(f"{many[0]} and {many[1]} both name many files.", "Let one input name many.")
    names = {n: _stem(given[n]) for n in paths}
    first = many[0] if many else paths[0] if paths else ""
    if not many:
        return [(dict(given), {**names, "name": names.get(first, "")})]
    files = sorted(glob.glob(given[first]))  # noqa: PTH207 - a pattern may be absolute
    if not files:
        raise MossError(f"No file is found by {given[first]}.", "Check the name.")
    return [({**given, first: path}, {**names, first: _stem(path), "name": _stem(path)}) for path in files]


def _stem(source: str) -> str:
    return Path(source.partition("::")[0]).stem


def check_command(words: Sequence[str]) -> None:
    """Raise AskedWronglyError that names the nearest for a command that there is none of."""
    names = [name for name, _ in COMMANDS]
    if words and not words[0].startswith("-") and words[0] not in names:
        raise AskedWronglyError(
            f"There is no command '{words[0]}'.", meant(words[0], names) or f"Commands: {', '.join(names)}."
        )
