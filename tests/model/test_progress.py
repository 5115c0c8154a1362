"""Reports of long work, and how it is stopped."""

import threading
import time

import pytest

from moss_step.model.errors import StoppedError
from moss_step.model.progress import Progress


def kernel(pulse, steps=40, each=0.02):
    """As a compiled kernel does: it says how far it is, and looks whether it should end."""
    for n in range(steps):
        if pulse[1]:
            return n
        pulse[0] += 1
        time.sleep(each)
    return steps


def test_one_long_call_reports_all_the_while():
    heard = []
    progress = Progress(lambda fraction, doing: heard.append((fraction, doing)))
    with progress.pulse(40, 0.5, 1.0, "Working") as pulse:
        assert kernel(pulse) == 40
    fractions = [f for f, _ in heard]
    assert fractions[0] == 0.5 and fractions[-1] == 1.0 and len(fractions) >= 4
    assert fractions == sorted(fractions) and {d for _, d in heard} == {"Working"}


def test_one_long_call_ends_soon_after_it_is_stopped():
    progress = Progress()
    threading.Timer(0.1, progress.stop).start()
    start, done = time.process_time(), []
    with pytest.raises(StoppedError), progress.pulse(1000) as pulse:
        done.append(kernel(pulse, 1000))
    assert time.process_time() - start < 2.0 and done[0] < 1000


def test_a_fault_within_a_long_call_is_told_as_it_is():
    with pytest.raises(ZeroDivisionError), Progress().pulse(1) as pulse:
        pulse[0] = 1 / 0
    assert threading.active_count() < 50
