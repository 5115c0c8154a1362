"""Pages on the Sheet bench: beginning one, what its parts are told, and writing it."""

from __future__ import annotations

from datetime import date
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QComboBox, QMenu, QScrollArea, QVBoxLayout, QWidget

from moss_step.desk.block.stage import Stage
from moss_step.desk.controls import PlainSpin
from moss_step.desk.parts import Later, More, Note, button, close_column, label, line, row, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.sheet.block import draw_now
from moss_step.desk.sheet.fields import ATLAS_FIELDS, FIELDS, LOOK, OWN_FIELDS, PAGE_FIELDS, PLACE, Field
from moss_step.desk.sheet.form import About, PartForm, tool_menu
from moss_step.desk.sheet.output import MOST_DPI, Wanted, Written, check_page_file, write_sheets
from moss_step.desk.sheet.view import PageView
from moss_step.desk.work import Work
from moss_step.model.errors import MossError
from moss_step.scene.sheet.layouts import LAYOUTS, told_by_area, usual_refs
from moss_step.scene.sheet.moment import wanted_by
from moss_step.scene.sheet.north import declination_at
from moss_step.scene.sheet.rows import columns_of
from moss_step.scene.sheet.sheet import Sheet, sheets_of
from moss_step.scene.sheet.trail import trail_lines
from moss_step.scene.sheet.words import field_of
from moss_step.study.graph import file_name
from moss_step.study.hand_on import check_not_a_source
from moss_step.study.pages import OWN, PART_NAMES, PART_TYPES, SIDES, AnyPart, Atlas, Page, aligned, changed

PAGE_FILES = "PDF (*.pdf);;SVG (*.svg);;PNG (*.png);;TIFF (*.tif)"
_PLAIN_FIELDS = (
    ("Name of the study", "{study}"), ("Name of the page", "{page}"), ("Number of the page", "{number}"),
    ("How many pages", "{pages}"), ("Date", "{date}"), ("Author", "{author}"),
    ("File of the study", "{file}"), ("Reference system", "{frame}"),
    ("Scale of the first plan", "{scale}"), ("Paper", "{paper}"),
)  # fmt: skip
_SIDE_WORDS = {
    "left": "Left edges", "right": "Right edges", "top": "Upper edges", "bottom": "Lower edges",
    "across": "Middles across", "down": "Middles down",
}  # fmt: skip
_SIZES = {
    "plan": (120.0, 90.0), "block": (90.0, 60.0), "section": (110.0, 45.0), "chart": (110.0, 50.0),
    "table": (110.0, 50.0), "key": (55.0, 70.0), "scale": (50.0, 14.0), "north": (26.0, 34.0),
    "text": (80.0, 12.0), "lineage": (120.0, 40.0), "title": (70.0, 26.0), "overview": (36.0, 28.0),
    "trail": (150.0, 60.0), "frame": (100.0, 70.0), "picture": (50.0, 35.0),
}  # fmt: skip


class PagesPanel(QWidget):
    """Chooses a page, shows it over the plan, and tells its parts what they are."""

    page_wanted = Signal(object)
    """The page is to lie over the plan, or None."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.view = PageView(work)
        self.name, self.number = "", 0
        self._on, self._sheets = False, (None, [Sheet(work.now, Page(name="none"))])
        self._asked_blocks: set[object] = set()
        self.pages = QComboBox()
        self.pages.setAccessibleName("Page of the study")
        self.pages.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.pages.activated.connect(lambda i: self.show_page(str(self.pages.itemData(i))))
        self.title = label("Page", "head")
        self.form, self.place, self.look = PartForm(), PartForm(), PartForm()
        self.more, self.about, self.trail = More(), Note(), Note()
        self._body = QWidget()
        self._layout = close_column(self._body)
        self._layout.setContentsMargins(0, 0, 6, 0)
        self._add_parts()
        self._connect()
        self.refresh()

    def _add_parts(self) -> None:
        begin = [
            (f"{title}: {tip[0].lower()}{tip[1:]}", partial(self.begin, key))
            for key, (title, tip, _) in LAYOUTS.items()
        ]
        self.new = tool_menu("New", "Begin a page from a finished layout", begin)
        self.gone = tool("trash", "Remove the page", self.remove_page)
        kinds = [(PART_NAMES[kind], partial(self.add, kind)) for kind in PART_TYPES]
        self.adder = tool_menu("Add", "Lay another part on the page", kinds)
        sides = [(_SIDE_WORDS[side], partial(self.align, side)) for side in SIDES]
        self.aligner = tool_menu("Align", "Bring the chosen parts to one edge or middle", sides)
        order = [
            ("Raise\t]", lambda: self.view.order(up=True)), ("Lower\t[", lambda: self.view.order(up=False)),
            ("Lock, or unlock\tL", self.view.lock), ("Duplicate\tD", self.view.duplicate),
            ("Remove\tDel", self.view.remove),
        ]  # fmt: skip
        self.orders = tool_menu("Order", "Raise, lower, lock, duplicate or remove the chosen parts", order)
        self.fields = tool_menu("Field", "Put a figure or another field into the text", [])
        self.fields.menu().aboutToShow.connect(self._fill_fields)
        self.before = tool("caret-left", "Page before of the atlas", lambda: self.turn(-1))
        self.after = tool("caret-right", "Next page of the atlas", lambda: self.turn(1))
        self.which = label("", "muted")
        self.turner = row(self.before, self.which, self.after, 1, gap=4)
        inner = QWidget()
        folded = close_column(inner)
        folded.addWidget(self.place)
        folded.addWidget(self.look)
        self.more.add(inner)
        self.begin_box = self._begin_box()
        self.tools = row(self.adder, self.aligner, self.orders, self.fields, 1, gap=4)
        for part in (
            row(self.pages, self.new, self.gone, gap=4, grows=self.pages), self.begin_box, self.tools,
            self.turner, line(), self.title, self.form, self.more, self.about, self.trail,
        ):  # fmt: skip
            self._layout.addWidget(part)
        self._layout.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self._body)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(8)
        outer.addWidget(scroll, 1)
        outer.addWidget(self._foot())

    def _begin_box(self) -> QWidget:
        """The four layouts, for a study without a page."""
        box = QWidget()
        layout = close_column(box)
        layout.addWidget(label("Begin a page of the chosen result, or of the Key:", "muted", wrap=True))
        for key, (title, tip, _) in LAYOUTS.items():
            layout.addWidget(button(title, tip, partial(self.begin, key), picture="file-text"))
        return box

    def _foot(self) -> QWidget:
        self.dpi = PlainSpin()
        self.dpi.setRange(36, MOST_DPI)
        self.dpi.setValue(300)
        self.dpi.setSuffix(" dpi")
        self.dpi.setAccessibleName("Pixels an inch of pictures")
        set_tip(self.dpi, "Pixels an inch of the pictures on the page")
        self.archive = QComboBox()
        self.archive.addItem("PDF", False)
        self.archive.addItem("PDF/A", True)
        self.archive.setAccessibleName("Kind of PDF")
        set_tip(self.archive, "PDF/A-1b holds all that it needs, for archives")
        self.write_button = button(
            "Write the page",
            "PDF, SVG, PNG or TIFF; an atlas with all its pages",
            self.ask_write,
            "main",
            "file-text",
        )
        box = QWidget()
        layout = close_column(box)
        layout.addWidget(row(self.dpi, self.archive, grows=self.dpi))
        layout.addWidget(self.write_button)
        return box

    def _connect(self) -> None:
        view = self.view
        view.edited.connect(self._edit)
        view.chosen.connect(self._show_fields)
        view.followed.connect(self._follow)
        view.checked.connect(self._show_remarks)
        view.line_drawn.connect(lambda part, ends: self._set(part, "line", ends))
        view.block_wanted.connect(self._draw_block)
        self.form.changed.connect(self._on_field)
        for form in (self.place, self.look):
            form.changed.connect(self._on_field)
        # What the compass needs is read here: the window's thread touches no file later.
        self.work.files.ask(lambda: declination_at(0.0, 0.0, 2026.0), lambda _: None)
        later = Later(lambda: self.refresh() if self._on else None, self, after=30)
        self.work.published.connect(later.ask)

    # --- pages

    @property
    def page(self) -> Page | None:
        """The page that is shown."""
        pages = self.work.study.pages
        return next((p for p in pages if p.name == self.name), pages[0] if pages else None)

    def turn_on(self, on: bool) -> None:
        """Show the page over the plan, or take it away."""
        self._on = on
        if on:
            self.refresh()
        else:
            self.work.lay_on_page(())
            self.page_wanted.emit(None)

    def refresh(self) -> None:
        """Show the page as the study has it now."""
        page, names = self.page, [p.name for p in self.work.study.pages]
        if [self.pages.itemData(i) for i in range(self.pages.count())] != names:
            self.pages.clear()
            for name in names:
                self.pages.addItem(name, name)
        self.name = "" if page is None else page.name
        self.pages.setCurrentIndex(max(self.pages.findData(self.name), 0))
        for part in (self.pages, self.gone, self.tools, self.title, self.form, self.more, self.new):
            part.setVisible(page is not None)
        self.begin_box.setVisible(page is None)
        self.write_button.setEnabled(page is not None)
        if not self._on:
            return
        self.work.lay_on_page(() if page is None else tuple(wanted_by(self.work.study, page)))
        self.view.show_sheet(self._sheet(page))
        self.page_wanted.emit(None if page is None else self.view)
        self._show_fields()
        self._show_remarks()

    def _sheet(self, page: Page | None) -> Sheet | None:
        """The sheet that is shown: of an atlas the one that was turned to."""
        self.turner.setVisible(page is not None and page.atlas is not None)
        if page is None:
            return None
        now, file = self.work.now, "" if self.work.path is None else self.work.path.name
        plain = Sheet(now, page, file=file, digest=self.work.engine.file_hash)
        if page.atlas is None:
            return plain
        picture = now.picture(page.atlas.areas) if now.study.has(page.atlas.areas) else None
        key = (now, page, picture)
        if self._sheets[0] != key:
            try:
                sheets = sheets_of(now, page, file, self.work.engine.file_hash)
            except MossError as error:
                self.which.setText(error.what)
                return plain
            self._sheets = (key, sheets)  # type: ignore[assignment]
        sheets = self._sheets[1]
        self.number = min(max(self.number, 0), len(sheets) - 1)
        self.which.setText(f"Page {self.number + 1} of {len(sheets)}")
        return sheets[self.number]

    def turn(self, by: int) -> None:
        """Turn to another page of the atlas."""
        self.number += by
        self.refresh()

    def show_page(self, name: str) -> None:
        """Show another page."""
        self.name, self.number = name, 0
        self.view.pick([])
        self.refresh()

    def begin(self, layout: str) -> None:
        """Begin a page from a finished layout, of the chosen result or all of the Key."""
        work, study, (title, _, lay_out) = self.work, self.work.study, LAYOUTS[layout]
        subject = work.chosen_ref if work.chosen_ref and study.has(work.chosen_ref) else ""
        wanted = study.name_of(subject) if subject else title
        page = lay_out(work.now, study.fresh_page_name(wanted[:70]), usual_refs(study, subject), subject)
        page = page.model_copy(update={"date": f"{date.today():%Y-%m-%d}"})
        self.name, self.number = page.name, 0
        work.do(study.with_page(page), f"Begin the page {page.name}")
        self.view.pick([])
        self.refresh()
        self.view.fit()
        self.view.setFocus()

    def remove_page(self) -> None:
        """Take the page out of the study."""
        if self.page is not None:
            self.work.do(self.work.study.without_page(self.page.name), f"Remove the page {self.page.name}")

    def _edit(self, page: Page, what: str, join: bool) -> None:
        self.work.do(self.work.study.with_page(page, self.name), what, join)
        self.name = page.name
        self.refresh()

    # --- parts

    def add(self, kind: str) -> None:
        """Lay another part in the middle of the page."""
        page = self.page
        if page is None:
            return
        (width, height), (wide, high) = _SIZES[kind], page.size
        width, height = min(width, wide), min(height, high)
        own: dict[str, Any] = {}
        if kind in ("table", "chart"):
            chosen = self.work.chosen_ref
            offered = [
                ref for _, ref in About(self.work, page).results("chart" if kind == "chart" else "any")
            ]
            own["result"] = (
                chosen if chosen in offered else (offered[-1] if offered and kind == "chart" else "")
            )
        if kind == "title":
            own["rows"] = (("Study", "{study}"), ("By", "{author}"), ("Date", "{date}"))
        place = {"x": round((wide - width) / 2, 1), "y": round((high - height) / 2, 1)}
        part = PART_TYPES[kind](id=page.fresh_id(kind), **place, width=width, height=height, **own)
        self._edit(page.adding(part), f"Add {PART_NAMES[kind].lower()}", False)  # type: ignore[arg-type]
        self.view.pick([part.id])
        self.view.setFocus()

    def align(self, side: str) -> None:
        """Bring the chosen parts to one edge or middle."""
        page, parts = self.page, self.view.parts
        if page is None or len(parts) < 2:
            self.work.message.emit("Choose two parts or more: Shift and click.", True)
            return
        places = aligned(parts, side)

        def move(part: AnyPart) -> AnyPart:
            x, y = places.get(part.id, (part.x, part.y))
            return part.model_copy(update={"x": x, "y": y})

        self._edit(page.changing(places, move), f"Align: {_SIDE_WORDS[side].lower()}", False)

    def _show_fields(self) -> None:
        """Show what the chosen part can be told, or the page where none is."""
        page, parts = self.view.page, self.view.parts
        if page is None:
            return
        one = parts[0] if len(parts) == 1 else None
        several = len(parts) > 1
        self.aligner.setEnabled(several)
        self.orders.setEnabled(bool(parts))
        self.fields.setVisible(one is not None and one.kind in ("text", "title"))
        self.title.setText(
            PART_NAMES[one.kind] if one is not None else f"{len(parts)} parts" if several else "Page"
        )
        about = About(self.work, page, tuple(self._columns(one, page)))
        if one is not None:
            self.form.show_fields(about, FIELDS[one.kind], one, one.locked)
            self.place.show_fields(about, PLACE, one, one.locked)
            self.look.show_fields(about, LOOK, one)
        else:
            fields: tuple[Field, ...] = PAGE_FIELDS[:3] + (OWN_FIELDS if page.paper == OWN else ())
            fields += PAGE_FIELDS[3:] + (ATLAS_FIELDS if page.atlas is not None else ATLAS_FIELDS[:1])
            held = _PageFields(page)
            self.form.show_fields(about, () if several else fields, held)
        self.more.setVisible(one is not None)
        if one is not None:
            self.more.say(sum(getattr(one, f.name) != type(one).model_fields[f.name].default for f in LOOK))

    def _columns(self, part: AnyPart | None, page: Page) -> list[str]:
        ref = (
            getattr(part, "result", "")
            if part is not None
            else page.atlas.areas
            if page.atlas is not None
            else ""
        )
        sheet = self.view.sheet
        return list(columns_of(sheet, ref)[0]) if ref and sheet is not None else []

    def _on_field(self, name: str, value: object) -> None:
        page, parts = self.page, self.view.parts
        if page is None:
            return
        if name == "line":
            self.view.begin_line(parts[0].id)
            self.work.message.emit("Press on a plan of the page, pull, and let go.", False)
        elif len(parts) == 1:
            self._set(parts[0].id, name, value)
        elif not parts:
            self._set_page(page, name, value)

    def _set(self, part_id: str, name: str, value: object) -> None:
        """Tell a part something; what it does not take is refused in words."""
        page = self.page
        part = None if page is None else page.part(part_id)
        if page is None or part is None:
            return
        try:
            fresh = changed(part, **{name: value})
        except ValueError as error:
            self._refuse(error)
            return
        what = f"{PART_NAMES[part.kind]}: {name.replace('_', ' ')}"
        self._edit(page.changing([part_id], lambda _: fresh), what, True)

    def _set_page(self, page: Page, name: str, value: object) -> None:
        given = page.model_dump()
        if name in {f.name for f in ATLAS_FIELDS}:
            held: dict[str, Any] = page.atlas.model_dump() if page.atlas is not None else {"areas": ""}
            held["margin" if name == "around" else name] = value
            given["atlas"] = held if held["areas"] else None
        elif name in ("own_width", "own_height"):
            width, height = page.own
            given["own"] = (value, height) if name == "own_width" else (width, value)
        else:
            given[name] = value
        try:
            fresh = Page.model_validate(given)
            if fresh.name != page.name and any(p.name == fresh.name for p in self.work.study.pages):
                raise ValueError(f"There is a page '{fresh.name}' already.")
        except ValueError as error:
            self._refuse(error)
            return
        if name == "areas" and fresh.atlas is not None and self.view.sheet is not None:
            fresh = told_by_area(fresh, *columns_of(self.view.sheet, fresh.atlas.areas))
        self._edit(fresh, f"Page: {name}", True)

    def _refuse(self, error: ValueError) -> None:
        errors = getattr(error, "errors", None)
        said = errors()[0]["msg"] if callable(errors) else str(error)
        self.work.message.emit(f"That is not possible: {said}.", True)
        for form in (self.form, self.place, self.look):
            form.forget()
        self._show_fields()

    def _fill_fields(self) -> None:
        """Offer fields for the text: of the page, of the area of an atlas, and figures of results."""
        menu, page = self.fields.menu(), self.page
        menu.clear()
        for title, text in _PLAIN_FIELDS:
            menu.addAction(title, partial(self._insert, text))
        if page is not None and page.atlas is not None:
            of = menu.addMenu("Of the area")
            of.addAction("Its name", partial(self._insert, "{area}"))
            for column in self._columns(None, page):
                of.addAction(column.replace("_", " "), partial(self._insert, f"{{area {column}}}"))
        menu.addSeparator()
        study = self.work.study
        for ref in study.refs():
            said = self.work.said(ref)
            if said is not None:
                self._add_figures(menu.addMenu(study.name_of(ref)), ref, said)

    def _add_figures(self, menu: QMenu, ref: str, said: Any) -> None:
        menu.addAction("Its name", partial(self._insert, f"{{name {ref}}}"))
        menu.addAction("Its main figure", partial(self._insert, f"{{headline {ref}}}"))
        for finding in said.findings[:40]:
            title = f"{finding.title}, {finding.of}" if finding.of else finding.title
            menu.addAction(title, partial(self._insert, field_of(ref, finding)))

    def _insert(self, text: str) -> None:
        parts = self.view.parts
        if len(parts) != 1:
            return
        if parts[0].kind == "text":
            self._set(parts[0].id, "text", parts[0].text + text)
        elif parts[0].kind == "title":
            self._set(parts[0].id, "rows", (*parts[0].rows, ("Figure", text)))

    # --- what stands on it

    def _follow(self, ref: str) -> None:
        """Show how the result that was clicked came about, and choose its card."""
        sheet = self.view.sheet
        if not ref or sheet is None or not self.work.study.has(ref):
            self.trail.show_lines("")
            return
        lines = [text for text, _, head in trail_lines(sheet, (ref,)) if not head]
        self.trail.show_lines(f"Stands here: {self.work.study.name_of(ref)}", lines)
        self.work.choose(ref)

    def _show_remarks(self) -> None:
        remarks = self.view.remarks if self.page is not None else []
        self.about.show_lines(
            "Look at this before you write it" if remarks else "", remarks[:6], bad=bool(remarks)
        )

    def _draw_block(self, key: object, asked: tuple[Sheet, Any], width: int, height: int) -> None:
        """Draw a block beside the window's thread; the page shows it when it is there."""
        if key in self._asked_blocks:
            return
        self._asked_blocks.add(key)

        def draw() -> QImage | None:
            stage = Stage()
            try:
                return draw_now(stage, *asked, width, height)
            finally:
                stage.let_go()

        def take(answer: QImage | MossError | None) -> None:
            self._asked_blocks.discard(key)
            if isinstance(answer, QImage):
                self.view.take_block(key, answer)
            elif isinstance(answer, MossError):
                self.work.message.emit(f"The block cannot be drawn here: {answer}", True)

        self.work.helper.ask(draw, take)

    # --- writing

    def ask_write(self) -> None:
        """Ask where the page goes, and write it."""
        page = self.page
        if page is None:
            return
        proposal = f"{file_name(page.name)}.pdf"
        path = self.work.folder.ask_save(self, "Write the page", proposal, PAGE_FILES, ".pdf")
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the page, or all pages of its atlas, beside the window's thread."""
        page, work = self.page, self.work
        if page is None:
            return
        wanted = Wanted(
            int(self.dpi.value()), bool(self.archive.currentData()) and path.suffix.lower() == ".pdf"
        )
        waiting = [r for r in wanted_by(work.study, page) if work.state(r) in ("waiting", "running")]
        if waiting:
            name = work.study.name_of(waiting[0])
            work.message.emit(
                f"'{name}' is not worked out yet. Write the page when it is; F5 runs what waits.", True
            )
            return
        try:
            check_page_file(path, wanted)
            file = "" if work.path is None else work.path.name
            sheets = sheets_of(work.now, page, file, work.engine.file_hash)
        except MossError as error:
            work.message.emit(str(error), True)
            return
        sources = [*work.study.source_files, *([str(work.path)] if work.path is not None else [])]

        def write(progress: Any) -> Written:
            check_not_a_source(path, sources)
            return write_sheets(sheets, path, wanted, progress)

        work.helper.ask_long(write, self._written)

    def _written(self, answer: Written | MossError) -> None:
        if isinstance(answer, MossError):
            self.work.message.emit(str(answer), True)
            return
        more = f" and {len(answer.files) - 1} more" if len(answer.files) > 1 else ""
        said = f" {len(answer.remarks)} remarks stand beside the page." if answer.remarks else ""
        self.work.message.emit(f"Written: {answer.files[0]}{more}.{said}", False)


class _PageFields:
    """A page with its atlas as one thing to be told."""

    def __init__(self, page: Page) -> None:
        atlas = page.atlas or Atlas(areas="")
        self.own_width, self.own_height = page.own
        for field in PAGE_FIELDS:
            setattr(self, field.name, getattr(page, field.name))
        self.areas, self.by, self.around, self.marked = atlas.areas, atlas.by, atlas.margin, atlas.marked
