"""What the window loads before it opens, and how it is built: all that is needless is felt at every start."""

import gc
import json
import subprocess
import sys
import weakref
from contextlib import nullcontext

import pytest
from PySide6.QtCore import QCoreApplication, QEvent, QSize
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QFrame
from shiboken6 import getCppPointer

from moss_step.desk.benches.steps import StepBench
from moss_step.desk.theme import unstyled
from moss_step.desk.window import MainWindow
from moss_step.steps.catalogue import catalogue
from tests.conftest import come_to_rest

_LOOK = """
import json, sys
import moss_step.desk
loaded = [name for name in ("scipy.linalg", "scipy.ndimage", "mapclassify", "matplotlib", "pyvista", "pandas") if name in sys.modules]
import scipy.linalg.cython_blas
print(json.dumps({"loaded": loaded, "ready": "numba.cpython.numbers" in sys.modules, "blas": scipy.linalg.cython_blas.__name__}))
"""


def _started() -> dict:
    ran = subprocess.run([sys.executable, "-c", _LOOK], capture_output=True, text=True, check=True)
    return json.loads(ran.stdout)


def test_what_is_slow_to_load_waits_until_it_is_needed():
    found = _started()
    assert found["loaded"] == []
    assert found["ready"], "the first kernel has run before Qt is loaded"
    assert found["blas"] == "scipy.linalg.cython_blas", (
        "linear algebra can still be loaded by whoever needs it"
    )


def test_a_window_that_is_styled_once_looks_as_one_that_was_styled_all_along(qapp, qtbot, monkeypatch):
    """Also where sizes were taken while it was built, such as those of bars."""
    sheet = qapp.styleSheet()

    def looks(bare: bool) -> tuple[QImage, list[QSize]]:
        if not bare:
            monkeypatch.setattr("moss_step.desk.window.unstyled", nullcontext)
        made = MainWindow()
        qtbot.addWidget(made, before_close_func=lambda w: setattr(w.files, "may_leave", lambda: True))
        assert qapp.styleSheet() == sheet != ""
        made.show()
        made.files.open_demo()
        come_to_rest(made)
        made.go_to_bench("shape")
        made.views.block.show()
        come_to_rest(made)
        for bar in (made.plan.tools, made.block._bar):
            assert bar.size() == bar.sizeHint()
        cards = [w for w in made.views.findChildren(QFrame) if w.property("role") == "card"]
        picture, sizes = made.grab().toImage(), [card.size() for card in cards]
        made.work.close()
        return picture, sizes

    (once, sizes), (always, others) = looks(True), looks(False)
    assert once.width() == 1280 and len(sizes) > 3
    assert sizes == others and once == always


def test_the_style_sheet_is_put_back_whatever_happens(qapp):
    sheet = qapp.styleSheet()
    with pytest.raises(ZeroDivisionError), unstyled():
        assert qapp.styleSheet() == ""
        raise ZeroDivisionError
    assert qapp.styleSheet() == sheet


_SLOW_DISK = """
import time
from moss_step.desk import ear
from moss_step.desk.app import make_app
from moss_step.desk.runner import Helper
from moss_step.desk.rest import settle
from moss_step.desk.window import MainWindow

def slow(of):
    def answer():
        time.sleep(0.2)
        return of()
    return answer

ear.unkept_recordings = slow(ear.unkept_recordings)
asked, showing, ask, now = [], [], Helper.ask, Helper.now
def asking(self, question, then):
    asked.append(question)
    return ask(self, question, then)
def noting(self, question):
    assert not showing
    return now(self, question)
Helper.ask, Helper.now = asking, noting
app = make_app()
for name in ("gather", "sheet", "water"):
    made = MainWindow()
    made.show_bench(name)
    showing.append(made)
    made.show()
    showing.clear()
    settle(made)
    made.work.close()
assert ear.unkept_recordings in asked
"""


def test_a_window_opens_where_the_disk_is_slow():
    """While Qt shows the parts of a window nothing may wait for the disk: what goes meanwhile ended the program."""
    ran = subprocess.run([sys.executable, "-c", _SLOW_DISK], capture_output=True, text=True, check=False)
    assert ran.returncode == 0, ran.stderr


_THREE_BLOCKS = """
import threading, time
from moss_step.desk.block.stage import Stage
told = []

class Begun(Exception):
    pass

class Beginning(Stage):
    def _set_scene(self, *_):
        raise Begun

def begin(after):
    time.sleep(after)
    try:
        Beginning()._draw(None)
    except Begun:
        told.append("begun")
    except Exception as error:
        told.append(str(error))

threads = [threading.Thread(target=begin, args=(0.3 * n,)) for n in range(3)]
for thread in threads:
    thread.start()
for thread in threads:
    thread.join()
print(told)
"""


def test_blocks_that_are_begun_while_their_library_loads_wait_for_all_of_it():
    """As that of the window and that of a page may be."""
    ran = subprocess.run([sys.executable, "-c", _THREE_BLOCKS], capture_output=True, text=True, check=False)
    assert ran.stdout.strip() == str(["begun"] * 3), ran.stdout + ran.stderr


def one_step_for_each_panel(window: MainWindow) -> list[str]:
    """Steps that between them show every class of panel."""
    by_panel = {}
    for kind in catalogue().values():
        bench = window.benches[kind.bench]
        if not kind.file_settings and isinstance(bench, StepBench):
            by_panel.setdefault(bench.panel_for(kind), kind.kind)
    return list(by_panel.values())


def test_a_window_that_is_gone_leaves_nothing(qapp):
    """Neither what it showed nor what it worked on: the next ones would fill the memory."""
    there = {getCppPointer(w)[0] for w in qapp.allWidgets()}

    def open_and_close() -> dict[str, weakref.ref]:
        made = MainWindow()
        made.files.may_leave = lambda: True
        made.show()
        made.files.open_demo()
        come_to_rest(made)
        for bench in made.benches:
            made.go_to_bench(bench)
            come_to_rest(made)
        for kind in one_step_for_each_panel(made):
            made.work.choose("")
            made.begin_step(kind)
            qapp.processEvents()
        come_to_rest(made)
        for view in ("section", "block", "table", "plan"):
            made.views.show_view(view)
            come_to_rest(made)
        made.close()
        made.deleteLater()
        own = [w for w in qapp.allWidgets() if getCppPointer(w)[0] not in there and _is_ours(w)]
        return {f"{n} {type(some).__name__}": weakref.ref(some) for n, some in enumerate([*own, made.work])}

    held = open_and_close()
    for _ in range(2):
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        gc.collect()
    assert len(held) > 100
    assert [name for name, ref in held.items() if ref() is not None] == []


def _is_ours(widget: object) -> bool:
    return type(widget).__module__.startswith("moss_step")
