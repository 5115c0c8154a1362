"""Virtual grids: files that only point at others. One is opened where its ending asks for it, after its
sources were checked.
"""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree

from moss_step.formats.whole import check_readable, read_text
from moss_step.model.errors import MossError

ENDING = ".vrt"
_MOST_BYTES, _MOST_SOURCES, _DEEPEST = 4_000_000, 10_000, 3
_PARTS = {
    "VRTDataset",
    "SRS",
    "GeoTransform",
    "Metadata",
    "MDI",
    "VRTRasterBand",
    "Description",
    "UnitType",
    "Offset",
    "Scale",
    "NoDataValue",
    "ColorInterp",
    "CategoryNames",
    "Category",
    "SimpleSource",
    "ComplexSource",
    "SourceFilename",
    "SourceBand",
    "SourceProperties",
    "SrcRect",
    "DstRect",
    "NODATA",
    "ScaleOffset",
    "ScaleRatio",
    "OverviewList",
    "HideNoDataValue",
    "BlockXSize",
    "BlockYSize",
}
"""What a virtual grid may consist of: no derived bands, no warping, no raw bytes, no options for opening."""


def sources_of(path: Path) -> list[Path]:
    """The files that a virtual grid is made of, those of virtual grids within it included.

    Raises MossError for anything but plain sources by their names in the same folder, and for more of them
    than can be opened.
    """
    result: list[Path] = []
    _collect(path, 0, result)
    return result


def _collect(path: Path, depth: int, result: list[Path]) -> None:
    check_readable(path)
    if path.stat().st_size > _MOST_BYTES or depth > _DEEPEST:
        raise MossError(
            f"{path} is no virtual grid that can be opened here: it is too large or too deep.",
            "Open its sources.",
        )
    text = read_text(path)
    if "<!" in text:  # a document type, in which entities are declared
        raise _refused(path, "a document type")
    try:
        # Entities are declared in a document type, which was just refused: there is nothing to expand or
        # fetch.
        root = ElementTree.fromstring(text)  # noqa: S314 - of bounded size, and without entities
    except ElementTree.ParseError as error:
        raise MossError(
            f"{path} could not be read as a virtual grid: {error}.",
            "It may be cut short. Fetch or copy it again.",
        ) from error
    named = []
    for part in root.iter():
        if part.tag not in _PARTS or part.get("subClass"):
            raise _refused(path, f"'{part.get('subClass') or part.tag}'")
        if part.tag == "SourceFilename":
            named.append(_source(path, part))
    result += named
    if len(result) > _MOST_SOURCES:
        raise _refused(path, f"more than {_MOST_SOURCES:,} sources")
    for source in [s for s in named if s.suffix.lower() == ENDING]:
        _collect(source, depth + 1, result)


def _source(path: Path, part: ElementTree.Element) -> Path:
    name, folder = (part.text or "").strip(), path.resolve().parent
    if (
        part.get("relativeToVRT") != "1"
        or not name
        or Path(name).is_absolute()
        or ":" in name
        or name.startswith("/")
    ):
        raise _refused(path, f"the source '{name[:60]}'")
    source = (folder / name).resolve()
    if not source.is_relative_to(folder):
        raise _refused(path, f"the source '{name[:60]}'")
    check_readable(source)
    return source


def _refused(path: Path, what: str) -> MossError:
    return MossError(
        f"{path} is a virtual grid with {what}, which is not opened here.",
        "Sources must be plain grids in its own folder. Open them.",
    )
