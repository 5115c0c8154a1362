"""Pages on the Sheet bench: beginning one, what its parts are told, and writing it."""

from __future__ import annotations

from datetime import date
from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QMenu, QVBoxLayout, QWidget

from moss_step.desk.benches.sheet_writing import PageWriter
from moss_step.desk.parts import (
    Later,
    More,
    Note,
    button,
    close_column,
    label,
    line,
    row,
    scrolled,
    tool,
    tool_menu,
)
from moss_step.desk.sheet.fields import FIELDS, LOOK, PLACE, PLAIN_FIELDS, SIZES, fields_of_page
from moss_step.desk.sheet.form import About, PartForm
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
from moss_step.study.pages import (
    PART_NAMES,
    PART_TYPES,
    SIDES,
    AnyPart,
    Page,
    aligned,
    changed,
    made,
    page_telling,
    page_values,
)
from moss_step.study.store import Said

_SIDE_WORDS = {
    "left": "Left edges", "right": "Right edges", "top": "Upper edges", "bottom": "Lower edges",
    "across": "Middles across", "down": "Middles down",
}  # fmt: skip


class PagesPanel(QWidget):
    """Chooses a page, shows it over the plan, and tells its parts what they are."""

    page_wanted = Signal(object)
    """The page is to lie over the plan, or None."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.view = PageView(work, self)
        self.view.hide()
        self.name, self.number = "", 0
        self._on = False
        self._atlas: tuple[object, list[Sheet]] = (None, [])
        self.pages = QComboBox()
        self.pages.setAccessibleName("Page of the study")
        self.pages.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.pages.activated.connect(lambda i: self.show_page(str(self.pages.itemData(i))))
        self.title = label("Page", "head")
        self.form, self.place, self.look = PartForm(), PartForm(), PartForm()
        self.writer = PageWriter(work, lambda: self.page)
        self.more, self.about, self.trail = More(), Note(), Note()
        self._body = QWidget()
        self._layout = close_column(self._body)
        self._layout.setContentsMargins(0, 0, 6, 0)
        self._add_parts()
        self._connect()
        self.refresh()

    def _add_parts(self) -> None:
        begin = [
            (f"{lay.title}: {lay.about[0].lower()}{lay.about[1:]}", partial(self.begin, key))
            for key, lay in LAYOUTS.items()
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
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(8)
        outer.addWidget(scrolled(self._body), 1)
        outer.addWidget(self.writer)

    def _begin_box(self) -> QWidget:
        """The four layouts, for a study without a page."""
        box = QWidget()
        layout = close_column(box)
        layout.addWidget(label("Begin a page of the chosen result, or of the Key:", "muted", wrap=True))
        for key, lay in LAYOUTS.items():
            layout.addWidget(button(lay.title, lay.about, partial(self.begin, key), picture="file-text"))
        return box

    def _connect(self) -> None:
        view = self.view
        view.edited.connect(self._edit)
        view.chosen.connect(self._show_fields)
        view.followed.connect(self._follow)
        view.checked.connect(self._show_remarks)
        view.line_drawn.connect(lambda part, ends: self._set(part, "line", ends))
        for form in (self.form, self.place, self.look):
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
            self.work.shown.lay_on_page(())
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
        self.writer.setEnabled(page is not None)
        if not self._on:
            return
        self.work.shown.lay_on_page(() if page is None else tuple(wanted_by(self.work.study, page)))
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
        if self._atlas[0] != key:
            try:
                self._atlas = (key, sheets_of(now, page, file, self.work.engine.file_hash))
            except MossError as error:
                self.which.setText(error.what)
                return plain
        sheets = self._atlas[1]
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
        work, study, chosen = self.work, self.work.study, LAYOUTS[layout]
        subject = work.chosen_ref if work.chosen_ref and study.has(work.chosen_ref) else ""
        wanted = study.name_of(subject) if subject else chosen.title
        page = chosen.page(work.now, study.fresh_page_name(wanted[:70]), usual_refs(study, subject), subject)
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
        (width, height), (wide, high) = SIZES[kind], page.size
        width, height = min(width, wide), min(height, high)
        part = made(
            kind, id=page.fresh_id(kind), x=round((wide - width) / 2, 1), y=round((high - height) / 2, 1),
            width=width, height=height, **self._first_told(kind, page),
        )  # fmt: skip
        self._edit(page.adding(part), f"Add {PART_NAMES[kind].lower()}", False)
        self.view.pick([part.id])
        self.view.setFocus()

    def _first_told(self, kind: str, page: Page) -> dict[str, object]:
        """What a part is told at first: the chosen result where it takes that."""
        if kind == "title":
            return {"rows": (("Study", "{study}"), ("By", "{author}"), ("Date", "{date}"))}
        if kind not in ("table", "chart"):
            return {}
        offered = [ref for _, ref in About(self.work, page).results("chart" if kind == "chart" else "any")]
        if self.work.chosen_ref in offered:
            return {"result": self.work.chosen_ref}
        return {"result": offered[-1] if offered and kind == "chart" else ""}

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
            held = dict(one)
            self.form.show_fields(about, FIELDS[one.kind], held, one.locked)
            self.place.show_fields(about, PLACE, held, one.locked)
            self.look.show_fields(about, LOOK, held)
        else:
            self.form.show_fields(about, () if several else fields_of_page(page), page_values(page))
        self.more.setVisible(one is not None)
        if one is not None:
            self.more.say(sum(getattr(one, f.name) != type(one).model_fields[f.name].default for f in LOOK))

    def _columns(self, part: AnyPart | None, page: Page) -> list[str]:
        if part is not None:
            ref = part.result if part.kind == "table" else ""
        else:
            ref = page.atlas.areas if page.atlas is not None else ""
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
        try:
            fresh = page_telling(page, name, value)
            if fresh.name != page.name and any(p.name == fresh.name for p in self.work.study.pages):
                raise ValueError(f"There is a page '{fresh.name}' already.")
        except ValueError as error:
            self._refuse(error)
            return
        if name == "atlas_areas" and fresh.atlas is not None and self.view.sheet is not None:
            fresh = told_by_area(fresh, *columns_of(self.view.sheet, fresh.atlas.areas))
        self._edit(fresh, f"Page: {name.replace('_', ' ')}", True)

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
        for title, text in PLAIN_FIELDS:
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

    def _add_figures(self, menu: QMenu, ref: str, said: Said) -> None:
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
