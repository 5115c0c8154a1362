"""A drawing that breaks off ends its painter: what is painted on must not go while it is."""

import ast
import subprocess
import sys
from pathlib import Path

import pytest

import moss_step

SOURCES = sorted((Path(moss_step.__file__).parent / "desk").rglob("*.py"))

_BREAKS_OFF = """
from PySide6.QtCore import QTimer
from moss_step.demo import DATA
from moss_step.desk.app import make_app
from moss_step.desk.plan import view
from moss_step.desk.rest import settle
from moss_step.desk.window import MainWindow

app = make_app()
window = MainWindow()
window.show()
window.files.open_path(DATA / "harrow_ground.tif")
settle(window)
window.files.may_leave = lambda: True
usual, times = view.draw_all_shapes, []

def out_of_memory(*_):
    times.append(1)
    raise MemoryError


def go_on(k=0):
    QTimer.singleShot(200, (lambda: go_on(k + 1)) if k < 4 else app.quit)
    view.draw_all_shapes = out_of_memory if k < 3 else usual
    window.resize(1100 + 10 * k, 700)

QTimer.singleShot(0, go_on)
app.exec()
assert not window.plan.view.grab().isNull()
window.work.close()
print(len(times))
"""


def test_a_drawing_that_breaks_off_ends_no_window():
    done = subprocess.run(
        [sys.executable, "-c", _BREAKS_OFF], capture_output=True, text=True, timeout=120, check=False
    )
    assert done.returncode == 0, done.stderr[-2000:]
    assert int(done.stdout.split()[-1]) >= 3, "nothing broke off"


@pytest.mark.parametrize("source", SOURCES, ids=lambda p: p.stem)
def test_each_painter_ends_with_its_block(source):
    """The library's own ``with`` ends it, whatever happens, and however short the moment is."""
    tree = ast.parse(source.read_text(encoding="utf-8"))
    held = {
        id(item.context_expr) for node in ast.walk(tree) if isinstance(node, ast.With) for item in node.items
    }
    made = [
        node
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "QPainter"
    ]
    assert [node.lineno for node in made if id(node) not in held] == []
