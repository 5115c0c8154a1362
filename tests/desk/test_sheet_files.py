"""Pages as files, read back by general libraries: pikepdf for the structure and the drawing of a PDF, pypdf for its
text, poppler through pdfium's own reading of a picture, lxml for SVG, rasterio for places on the ground.

Viewports: ISO 32000-2, 12.10 (from memory); world files: common practice.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pikepdf
import pypdf
import pypdfium2
import pytest
import rasterio
from lxml import etree

from moss_step.cli import main
from moss_step.desk.sheet import output, pdf
from moss_step.desk.sheet.output import write_sheets
from moss_step.desk.sheet.press import Wanted
from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.progress import Progress
from moss_step.scene.sheet.layouts import LAYOUTS
from moss_step.scene.sheet.moment import moment
from moss_step.scene.sheet.sheet import sheets_of
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.pages import (
    Atlas,
    BlockPart,
    ChartPart,
    FramePart,
    KeyPart,
    LineagePart,
    Page,
    PicturePart,
    PlanPart,
    ScalePart,
    SectionPart,
    TablePart,
    TextPart,
)
from moss_step.study.saving import save_study
from tests.scene.test_sheet import study_of

MM = 72 / 25.4
pytestmark = pytest.mark.usefixtures("qapp")


@pytest.fixture
def study(hills_tif: Path) -> Study:
    return study_of(hills_tif)


def written(study: Study, page: Page, path: Path, wanted: Wanted | None = None) -> output.Written:
    engine = Engine()
    sheets = sheets_of(moment(engine, study, page), page, "trial.moss", engine.file_hash)
    return write_sheets(sheets, path, wanted)


def boxes(page: pikepdf.Page) -> list[tuple[float, float, float, float]]:
    """Closed rectangles that are drawn, as x, y, width and height in millimetres from the upper left corner."""
    found, top = [], float(page.mediabox[3])
    ctm, stack, points = np.eye(3), [], []
    for operands, operator in pikepdf.parse_content_stream(page):
        name, values = str(operator), operands
        if name == "q":
            stack.append(ctm.copy())
        elif name == "Q":
            ctm = stack.pop()
        elif name == "cm":
            a, b, c, d, e, f = (float(v) for v in values)
            ctm = np.array([[a, b, 0], [c, d, 0], [e, f, 1]]) @ ctm
        elif name in ("m", "l"):
            points.append([float(values[0]), float(values[1]), 1.0] @ ctm)
        elif name == "re":
            x, y, w, h = (float(v) for v in values)
            points += [[u, v, 1.0] @ ctm for u, v in ((x, y), (x + w, y), (x + w, y + h), (x, y + h))]
        elif name in ("f", "f*", "S", "s", "b", "B", "n", "W", "W*", "b*", "B*"):
            if len(points) >= 4 and name != "n":
                xy = np.array(points)[:, :2]
                low, high = xy.min(axis=0), xy.max(axis=0)
                found.append(
                    (low[0] / MM, (top - high[1]) / MM, (high[0] - low[0]) / MM, (high[1] - low[1]) / MM)
                )
            points = []
    return found


def has_box(page: pikepdf.Page, box: tuple[float, float, float, float], within: float = 0.06) -> bool:
    return any(np.abs(np.subtract(b, box)).max() < within for b in boxes(page))


def test_a_page_measures_what_it_says(study: Study, tmp_path: Path) -> None:
    parts = (
        PlanPart(id="plan", x=10, y=20, width=120, height=90, scale=2500, net="metres"),
        ScalePart(id="scale", x=140, y=20, width=70, height=14),
        FramePart(id="rim", x=5, y=5, width=287, height=200),
    )
    written(study, Page(name="True", parts=parts), tmp_path / "p.pdf")
    with pikepdf.open(tmp_path / "p.pdf") as pdf:
        page = pdf.pages[0]
        box = [float(v) for v in page.mediabox]
        assert (box[2] - box[0]) / MM == pytest.approx(297, abs=0.01)
        assert (box[3] - box[1]) / MM == pytest.approx(210, abs=0.01)
        assert has_box(page, (10, 20, 120, 90)) and has_box(page, (5, 5, 287, 200))
        # 1:2,500: 100 m are 40 mm, in four pieces of 10 mm
        bar = [b for b in boxes(page) if abs(b[2] - 10) < 0.02 and abs(b[3] - 1.4) < 0.02]
        assert sorted(round(b[0], 1) for b in bar) == [140.0, 150.0, 160.0, 170.0]
        view = page.obj["/VP"][0]
        west, _, east, _ = (float(v) for v in view.BBox)
        assert (east - west) / MM == pytest.approx(120, abs=0.01)
        assert int(view.Measure.GCS.EPSG) == 32628
        lat = [float(v) for v in view.Measure.GPTS][::2]
        assert 52.9 < min(lat) < max(lat) < 53.1
    text = pypdf.PdfReader(tmp_path / "p.pdf").pages[0].extract_text()
    assert "1:2,500" in text and "100" in text and "412 100" in text and "\t" not in text


def test_lines_and_letters_stay_lines_and_letters(study: Study, tmp_path: Path) -> None:
    column = "elevation"
    study = study.with_key_row(study.first_row("lines").model_copy(update={"labels": column}))
    page = Page(name="Lines", parts=(PlanPart(id="plan", x=10, y=10, width=180, height=150, results=("lines",), shading=False),))  # fmt: skip
    written(study, page, tmp_path / "p.pdf")
    text = pypdf.PdfReader(tmp_path / "p.pdf").pages[0].extract_text()
    engine = Engine()
    value = engine.run_or_raise(study, "lines").value
    levels = {f"{v:.5g}" for v in value.columns[column]}
    assert sum(level in text for level in levels) >= 3
    with pikepdf.open(tmp_path / "p.pdf") as pdf:
        drawn = [str(op) for _, op in pikepdf.parse_content_stream(pdf.pages[0])]
        widths = {
            round(float(v[0]), 3) for v, op in pikepdf.parse_content_stream(pdf.pages[0]) if str(op) == "w"
        }
    assert drawn.count("l") > 200
    assert widths


def test_the_line_of_a_shape_is_as_broad_as_it_says(study: Study, tmp_path: Path) -> None:
    """A line of 4 pixels of the Key, each 0.25 mm, is 1 mm broad on paper: measured on the printed page."""
    from shapely.geometry import LineString

    from moss_step.formats.vector import write_shapes
    from moss_step.model.shapes import Shapes

    line = Shapes(np.array([LineString([(412_010, 5_871_910), (412_230, 5_871_910)])]), {}, "EPSG:32628")
    write_shapes(tmp_path / "line.gpkg", line, "line")
    study = study.adding(Step(id="one", kind="open_shapes", settings={"source": str(tmp_path / "line.gpkg")}))
    study = study.with_key_row(study.first_row("one").model_copy(update={"width": 4.0}))
    part = PlanPart(
        id="plan", x=10, y=10, width=100, height=80, results=("one",), shading=False, scale=2500, fine=0.25
    )
    written(study, Page(name="Line", parts=(part,)), tmp_path / "p.pdf")
    dpi = 600
    image = pypdfium2.PdfDocument(tmp_path / "p.pdf")[0].render(scale=dpi / 72).to_numpy()
    column = image[:, round(60 / 25.4 * dpi), :3].astype(int).sum(axis=1)
    inner = column[round(12 / 25.4 * dpi) : round(88 / 25.4 * dpi)]
    assert np.count_nonzero(inner < 300) / dpi * 25.4 == pytest.approx(1.0, abs=0.1)


def test_a_page_is_the_same_file_twice(study: Study, tmp_path: Path) -> None:
    engine = Engine()
    now = moment(engine, study, Page(name="x"))
    page = LAYOUTS["plan_key"].page(now, "Same", (), "classes")
    for ending in (".pdf", ".svg", ".png", ".tif"):
        for name in ("a", "b"):
            written(study, page, tmp_path / f"{name}{ending}", Wanted(dpi=72))
        assert (tmp_path / f"a{ending}").read_bytes() == (tmp_path / f"b{ending}").read_bytes(), ending
    assert b"CreationDate" not in (tmp_path / "a.pdf").read_bytes()
    # The library marks parts of fonts, and orders what they lie in, otherwise in each process.
    with pikepdf.open(tmp_path / "a.pdf") as pdf:
        kept = [held for held in pdf.objects if isinstance(held, pikepdf.Dictionary)]
        fonts = {str(held["/FontName"]) for held in kept if "/FontName" in held}
    marks = [mark for _, mark in sorted((f.partition("+")[2], f.partition("+")[0]) for f in fonts)]
    assert len(marks) > 1
    assert marks == [f"/A{letter}AAAA" for letter in "ABCDEFGH"[: len(marks)]]
    written(study, page, tmp_path / "c.pdf", Wanted(dpi=72, stamped=True))
    assert "/CreationDate" in pikepdf.open(tmp_path / "c.pdf").docinfo


def test_every_part_is_drawn_in_every_format(study: Study, tmp_path: Path, hills_tif: Path) -> None:
    study = study.adding(
        Step(id="profile", kind="profile", inputs={"surface": "ground"}, settings={"line": [412_010, 5_871_900, 412_220, 5_871_850]})
    )  # fmt: skip
    picture = tmp_path / "logo.png"
    from PIL import Image

    Image.new("RGB", (40, 20), "#2C6E91").save(picture)
    parts = (
        PlanPart(id="plan", x=10, y=10, width=90, height=70, turned=20, net="degrees"),
        KeyPart(id="key", x=105, y=10, width=50, height=70),
        BlockPart(id="block", x=160, y=10, width=60, height=50, results=("classes",)),
        SectionPart(id="section", x=10, y=90, width=90, height=45, surfaces=("ground",), line=((412_010.0, 5_871_900.0), (412_220.0, 5_871_850.0))),
        ChartPart(id="chart", x=105, y=90, width=90, height=45, result="profile"),
        TablePart(id="table", x=200, y=70, width=80, height=60, result="classes"),
        LineagePart(id="lineage", x=10, y=145, width=200, height=40),
        PicturePart(id="picture", x=230, y=150, width=40, height=20, file=str(picture)),
        TextPart(id="text", x=230, y=180, width=50, height=10, text="Höhe β {study}"),
    )  # fmt: skip
    page = Page(name="All", parts=parts)
    for ending in (".pdf", ".svg", ".png", ".tif"):
        result = written(study, page, tmp_path / f"all{ending}", Wanted(dpi=100))
        assert result.files[0] == tmp_path / f"all{ending}", ending
        assert not [r for r in result.remarks if "grey" not in r], result.remarks
    text = pypdf.PdfReader(tmp_path / "all.pdf").pages[0].extract_text()
    for word in ("Höhe β Trial", "Distance, m", "Steep", "BLAKE3", "′"):
        assert word in text, word
    tree = etree.parse(str(tmp_path / "all.svg"))
    root = tree.getroot()
    assert root.get("width") == "297mm" and root.get("viewBox") == "0 0 297 210"
    _check_valid(root)
    said = "".join(root.itertext())
    assert "Höhe" in said and "Trial" in said and "Distance, m" in said
    image = pypdfium2.PdfDocument(tmp_path / "all.pdf")[0].render(scale=100 / 72).to_numpy()[:, :, :3]
    logo = image[round(160 / 25.4 * 100), round(250 / 25.4 * 100)]
    block = image[
        round(20 / 25.4 * 100) : round(50 / 25.4 * 100), round(170 / 25.4 * 100) : round(210 / 25.4 * 100)
    ]
    assert block.std() > 5 and abs(int(logo[0]) - int(logo[2])) > 40


@pytest.mark.parametrize("dpi", [72, 144])
def test_pictures_in_a_pdf_have_the_resolution_that_is_chosen(study: Study, tmp_path: Path, dpi: int) -> None:
    parts = (
        PlanPart(id="plan", x=10, y=10, width=100, height=80),
        BlockPart(id="block", x=120, y=10, width=60, height=50),
    )
    written(study, Page(name="Fine", parts=parts), tmp_path / "p.pdf", Wanted(dpi=dpi))
    with pikepdf.open(tmp_path / "p.pdf") as opened:
        sizes = {(int(i.Width), int(i.Height)) for i in opened.pages[0].get_images().values()}
    for part in parts:
        wide, high = (v / 25.4 * dpi for v in (part.width, part.height))
        assert any(abs(w - wide) <= 2 and abs(h - high) <= 2 for w, h in sizes), (part.id, sizes)


_SVG = "{http://www.w3.org/2000/svg}"
_ELEMENTS = "svg title desc defs g path polyline polygon rect circle ellipse text image clipPath use mask"
_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_PATH = re.compile(rf"(?:[MmLlHhVvCcSsQqTtAaZz]\s*|{_NUMBER}[\s,]*)*")


def _check_valid(root: etree._Element) -> None:
    """Hold a page against SVG 1.1 (W3C, 5 to 9; from memory): its elements, numbers and paths, ids used."""
    known = {f"{_SVG}{name}" for name in f"{_ELEMENTS} linearGradient radialGradient stop".split()}
    ids = [e.get("id") for e in root.iter() if e.get("id")]
    assert len(set(ids)) == len(ids)
    for element in root.iter(etree.Element):
        assert element.tag in known, element.tag
        for name, value in element.attrib.items():
            if name in ("x", "y", "width", "height", "cx", "cy", "r", "rx", "ry", "stroke-width"):
                assert re.fullmatch(rf"{_NUMBER}(?:mm|px)?", value), (element.tag, name, value)
            if name == "d":
                assert value.lstrip()[:1] in ("M", "m", "") and _PATH.fullmatch(value), value[:80]
            for used in re.findall(r"url\(#([^)]*)\)", value):
                assert used in ids, used


def test_a_page_without_a_plan_leaves_no_place_of_an_older_one(study: Study, tmp_path: Path) -> None:
    plan = PlanPart(id="plan", x=20, y=30, width=100, height=80)
    for ending, world in ((".png", "p.pgw"), (".tif", "p.tfw")):
        target = tmp_path / f"p{ending}"
        written(study, Page(name="P", parts=(plan,)), target, Wanted(dpi=40))
        assert (tmp_path / world).exists()
        written(study, Page(name="P", parts=(TextPart(id="text"),)), target, Wanted(dpi=40))
        assert not (tmp_path / world).exists()


def test_pictures_of_pages_know_where_they_are(study: Study, tmp_path: Path) -> None:
    part = PlanPart(id="plan", x=20, y=30, width=100, height=80, scale=2500, centre=(412_120.0, 5_871_910.0))
    written(study, Page(name="P", parts=(part,)), tmp_path / "p.tif", Wanted(dpi=254))
    with rasterio.open(tmp_path / "p.tif") as file:
        assert file.crs.to_epsg() == 32628
        # 254 pixels an inch: 0.1 mm, which is 0.25 m at 1:2,500; the plan's middle lies at 70 and 70 mm
        assert file.res == pytest.approx((0.25, 0.25))
        assert file.xy(699.5, 699.5) == pytest.approx((412_120, 5_871_910), abs=0.01)
    written(study, Page(name="P", parts=(part,)), tmp_path / "q.png", Wanted(dpi=254))
    a, d, b, e, x, y = (float(v) for v in (tmp_path / "q.pgw").read_text().split())
    assert (a, d, b, e) == pytest.approx((0.25, 0, 0, -0.25)) and x + a * 699.5 == pytest.approx(
        412_120, abs=0.01
    )
    assert y + e * 699.5 == pytest.approx(5_871_910, abs=0.01)


def test_an_archive_page_says_that_it_is_one(study: Study, tmp_path: Path) -> None:
    page = Page(name="A", parts=(PlanPart(id="plan", x=10, y=10, width=100, height=80),))
    row = study.first_row("lines").model_copy(update={"opacity": 0.5})
    told = written(study.with_key_row(row), page, tmp_path / "a.pdf", Wanted(dpi=72, archive=True)).remarks
    assert any("no transparency" in remark for remark in told)
    with pikepdf.open(tmp_path / "a.pdf") as pdf:
        assert pdf.pdf_version == "1.4" and "/OutputIntents" in pdf.Root
        meta = bytes(pdf.Root.Metadata.read_bytes())
        assert b'pdfaid:part="1"' in meta and b"xmp:CreateDate" not in meta
        fonts = [
            o
            for o in pdf.objects
            if isinstance(o, pikepdf.Dictionary) and o.get("/Type") == "/FontDescriptor"
        ]
        assert all(any(k in f for k in ("/FontFile", "/FontFile2", "/FontFile3")) for f in fonts)
        dictionaries = [o for o in pdf.objects if isinstance(o, pikepdf.Dictionary)]
        dense = [float(o[k]) for o in dictionaries for k in ("/ca", "/CA") if k in o]
        assert dense and set(dense) == {1.0}  # PDF/A-1 (ISO 19005-1), 6.4: no transparency


def test_an_atlas_is_a_page_for_each_basin(study: Study, tmp_path: Path) -> None:
    study = study.adding(
        Step(id="basins", kind="basins", inputs={"dem": "ground"}, settings={"min_area": 400.0})
    )
    parts = (
        PlanPart(id="plan", x=10, y=20, width=100, height=80, scale=2500, results=("basins",)),
        TextPart(
            id="text", x=10, y=10, width=100, height=8, text="{area}: {area area_m2}, {number} of {pages}"
        ),
    )
    page = Page(name="Basins", lying=False, parts=parts, atlas=Atlas(areas="basins"))
    told: list[float] = []
    engine = Engine()
    sheets = sheets_of(moment(engine, study, page), page)
    write_sheets(sheets, tmp_path / "a.pdf", Wanted(dpi=72), Progress(lambda f, _: told.append(f)))
    pages = pypdf.PdfReader(tmp_path / "a.pdf").pages
    assert len(pages) == len(sheets) > 1 and len(told) >= len(sheets)
    for sheet, drawn in zip(sheets, pages, strict=True):
        assert f"{sheet.area.name}: " in drawn.extract_text()
        assert f"{sheet.number} of {len(sheets)}" in drawn.extract_text()
    with pikepdf.open(tmp_path / "a.pdf") as pdf:
        for drawn in pdf.pages:
            begun = False
            for _, operator in pikepdf.parse_content_stream(drawn):
                name = str(operator)
                assert name != "h" or begun, "a path is closed that was never begun"
                begun = name in ("m", "re") or (begun and name not in ("S", "s", "f", "f*", "B", "b", "n"))
    files = write_sheets(sheets[:2], tmp_path / "a.svg").files
    assert len(files) == 2 and files[0].name != files[1].name and files[0].exists()


def test_what_cannot_be_drawn_is_said_on_the_page_and_beside_it(study: Study, tmp_path: Path) -> None:
    parts = (
        TextPart(id="text", x=10, y=10, width=120, height=8, text="Steep: {figure classes share of Steep}"),
        TablePart(id="table", x=10, y=20, width=100, height=30, result="classes"),
        PlanPart(id="plan", x=10, y=60, width=100, height=80, results=("classes",)),
        KeyPart(id="key", x=120, y=60, width=40, height=40, plan="plan"),
        ChartPart(id="chart", x=120, y=110, width=60, height=40, result="slope"),
        PicturePart(id="picture", x=200, y=110, width=60, height=40, file=str(tmp_path / "gone.png")),
    )
    page = Page(name="Broken", parts=parts)
    result = written(study.removing("classes"), page, tmp_path / "p.pdf", Wanted(dpi=72))
    text = pypdf.PdfReader(tmp_path / "p.pdf").pages[0].extract_text()
    assert "Steep: [removed]" in text and "[removed]" in text
    said = " ".join(result.remarks)
    for words in ("removed", "no curves", "gone.png", "removed from the study"):
        assert words in said, words
    gone = study.changing("ground", lambda s: s.model_copy(update={"settings": {"source": "/gone.tif"}}))
    plain = Page(name="Failed", parts=(PlanPart(id="plan", results=("classes",)),))
    assert any("it failed: " in r for r in written(gone, plain, tmp_path / "f.pdf").remarks)
    empty = written(study, Page(name="Empty"), tmp_path / "e.pdf")
    assert empty.remarks == ["The page is empty."] and len(pypdf.PdfReader(tmp_path / "e.pdf").pages) == 1
    bare = written(
        study, Page(name="Bare", parts=(KeyPart(id="key"), ScalePart(id="scale"))), tmp_path / "b.pdf"
    )
    assert len(bare.remarks) == 2


def test_a_picture_that_is_no_picture_runs_nothing(study: Study, tmp_path: Path) -> None:
    for name, text in (
        ("x.svg", "<svg xmlns='http://www.w3.org/2000/svg'><image href='file:///etc/passwd'/></svg>"),
        ("x.png", "no"),
    ):
        (tmp_path / name).write_text(text)
        page = Page(name="P", parts=(PicturePart(id="p", width=50, height=50, file=str(tmp_path / name)),))
        assert written(study, page, tmp_path / "p.pdf").remarks == [f"The picture '{name}' cannot be read."]


def test_nothing_half_written_stays_when_a_page_cannot_be_written(
    study: Study, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = Page(name="P", parts=(TextPart(id="t"),))
    (tmp_path / "p.pdf").write_bytes(b"as it was")

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(pdf, "_finish", full)
    with pytest.raises((OSError, MossError)):
        written(study, page, tmp_path / "p.pdf")
    assert (tmp_path / "p.pdf").read_bytes() == b"as it was" and [
        p.name for p in tmp_path.glob("*p.pdf*")
    ] == ["p.pdf"]
    monkeypatch.undo()
    for path, wanted in ((tmp_path / "p.doc", Wanted()), (tmp_path / "p.pdf", Wanted(dpi=5)), (tmp_path / "p.png", Wanted(archive=True))):  # fmt: skip
        with pytest.raises(AskedWronglyError):
            written(study, page, path, wanted)


def test_the_command_line_writes_pages_without_a_screen(
    study: Study, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    engine = Engine()
    page = LAYOUTS["plan_table"].page(moment(engine, study, Page(name="x")), "Slope classes", (), "classes")
    save_study(study.with_page(page), tmp_path / "s.moss")

    def call(*words: str, file: str = "s.moss") -> subprocess.CompletedProcess[str]:
        clean = {"PATH": "/usr/bin", "HOME": str(tmp_path), "XDG_CACHE_HOME": str(tmp_path)}
        clean["NUMBA_CACHE_DIR"] = os.environ["NUMBA_CACHE_DIR"]
        program = [sys.executable, "-m", "moss_step", "sheet", str(tmp_path / file), *words]
        return subprocess.run(
            program, check=False, capture_output=True, text=True, env=clean, cwd=tmp_path, timeout=300
        )

    done = call("--page", "Slope classes", "-o", "map.pdf", "--json")
    said = json.loads(done.stdout)
    assert done.returncode == 0 and said["outputs"] == ["map.pdf"] and said["pages"] == 1
    assert "Steep" in pypdf.PdfReader(tmp_path / "map.pdf").pages[0].extract_text()
    done = call("--layout", "plan_key", "--of", "classes", "-o", "own.pdf", "-q")
    assert done.returncode == 0 and not done.stdout
    assert "Steep" in pypdf.PdfReader(tmp_path / "own.pdf").pages[0].extract_text()
    basins = Step(id="basins", kind="basins", inputs={"dem": "ground"}, settings={"min_area": 400.0})
    atlas = page.model_copy(update={"name": "All", "atlas": Atlas(areas="basins")})
    save_study(study.adding(basins).with_page(atlas), tmp_path / "a.moss")
    done = call("-o", "all.pdf", "--json", file="a.moss")
    assert json.loads(done.stdout)["pages"] == len(pypdf.PdfReader(tmp_path / "all.pdf").pages) > 1
    capsys.readouterr()
    file = str(tmp_path / "s.moss")
    assert main(["sheet", file, "--list"]) == 0
    assert capsys.readouterr().out.strip() == "Slope classes: 210 x 297 mm"
    assert main(["sheet", file, "--page", "Nothing", "-o", str(tmp_path / "x.pdf")]) == 2
    assert capsys.readouterr().err.startswith("moss-step: The study has no page 'Nothing'")
    assert main(["sheet", file, "-o", file]) == 2
    assert len(capsys.readouterr().err.splitlines()) == 1


def test_a_missing_typeface_and_missing_letters_are_said(
    study: Study, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = Page(name="P", parts=(TextPart(id="t", width=100, text="A \U00013000"),))
    said = written(study, page, tmp_path / "p.pdf").remarks
    assert len(said) == 1 and "no letter for" in said[0]
    monkeypatch.setattr("moss_step.desk.sheet.painter.typeface", lambda: "Other Sans")
    plain = Page(name="P", parts=(TextPart(id="t", text="A"),))
    assert written(study, plain, tmp_path / "p.pdf").remarks == [
        "The typeface Inter is missing: letters are drawn in Other Sans. Install the program anew."
    ]


def test_an_atlas_that_is_stopped_leaves_the_old_file(study: Study, tmp_path: Path) -> None:
    page = Page(name="P", parts=(PlanPart(id="plan"),))
    engine = Engine()
    sheet = sheets_of(moment(engine, study, page), page)[0]
    (tmp_path / "p.pdf").write_bytes(b"as it was")
    progress = Progress(lambda fraction, _: progress.stop() if fraction > 0.3 else None)
    with pytest.raises(StoppedError):
        write_sheets([sheet] * 6, tmp_path / "p.pdf", Wanted(40), progress)
    assert [p.name for p in tmp_path.glob("*p.pdf*")] == ["p.pdf"] and (
        tmp_path / "p.pdf"
    ).read_bytes() == b"as it was"
