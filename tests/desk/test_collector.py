"""What is no longer needed is let go of in the window's thread alone."""

import gc
import threading
import weakref

from moss_step.desk.collector import collect_due


class Knot:
    """Something that holds itself, as parts of a window do that know each other."""

    def __init__(self) -> None:
        self.own = self


def test_parts_of_a_window_are_let_go_of_in_its_thread_and_in_no_other(window, settle) -> None:
    ended_in = []
    knots = [Knot() for _ in range(2000)]
    marks = [weakref.finalize(k, lambda: ended_in.append(threading.current_thread())) for k in knots]
    del knots
    others = []

    def work() -> None:
        others.extend(Knot() for _ in range(200_000))  # as many objects as would have Python look for garbage
        collect_due()

    thread = threading.Thread(target=work)
    thread.start()
    thread.join()
    assert not gc.isenabled()
    assert ended_in == []
    settle(window)
    collect_due()
    assert len(ended_in) == len(marks)
    assert set(ended_in) == {threading.main_thread()}


def test_a_window_looks_for_garbage_while_it_waits(window, qtbot) -> None:
    alive = [weakref.ref(k) for k in [Knot() for _ in range(2000)]]
    qtbot.waitUntil(lambda: not any(ref() for ref in alive), timeout=60_000)
