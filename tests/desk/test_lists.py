"""Lists that drop down show their rows: up to twenty at once, on the screen whole."""

import pytest
from PySide6.QtWidgets import QComboBox


@pytest.mark.parametrize(
    ("bench", "name"), [("classes", "Ready set of classes"), ("shape", "Step"), ("classes", "Surface")]
)
def test_a_list_that_drops_down_shows_its_rows(demo, settle, qtbot, bench, name):
    demo.begin_step({"classes": "classify", "shape": "slope"}[bench])
    settle(demo)
    boxes = [b for b in demo.benches[bench].findChildren(QComboBox) if b.isVisible() and b.count() > 1]
    box = next((b for b in boxes if b.accessibleName() == name), boxes[0])
    box.showPopup()
    view = box.view()
    qtbot.waitUntil(view.isVisible)
    wanted = min(box.count(), 20)
    room = view.viewport().height()
    assert room >= sum(view.sizeHintForRow(k) for k in range(wanted)) - 4
    box.hidePopup()
