"""A signal that comes while the library of the window begins: no exception may come up in it then."""

import json
import signal
import subprocess
import sys

import pytest

from moss_step.model.errors import MossError, StoppedError
from moss_step.process import EndedError, end_by_word, noting_signals

_AT_AN_IMPORT = """
import os, signal, sys
seen = []

def look(event, about):
    if event == "import" and (seen or str(about[0]).startswith(("PySide6", "shiboken6"))):
        seen.append(about[0])
        if len(seen) == int(sys.argv[1]):
            os.kill(os.getpid(), signal.SIGINT)

sys.addaudithook(look)
from moss_step.cli import main
sys.exit(main(sys.argv[2:], own=True))
"""


@pytest.fixture
def by_word():
    """Signals as the command line takes them."""
    before = {n: signal.getsignal(n) for n in (signal.SIGINT, signal.SIGTERM)}
    end_by_word()
    yield
    for number, usual in before.items():
        signal.signal(number, usual)


@pytest.mark.parametrize("after", [1, 5, 8, 13, 60])
def test_a_page_is_stopped_with_one_line_whatever_is_being_loaded(after, tmp_path, hills_tif):
    steps = [
        {"id": "ground", "kind": "open_grid", "settings": {"source": str(hills_tif)}},
        {"id": "slope", "kind": "slope", "inputs": {"dem": "ground"}},
    ]
    (tmp_path / "study.moss").write_text(json.dumps({"steps": steps}))
    there = sorted(p.name for p in tmp_path.iterdir())
    asked = ["sheet", tmp_path / "study.moss", "--layout", "plan_key", "-o", tmp_path / "page.pdf", "-q"]
    words = [sys.executable, "-c", _AT_AN_IMPORT, str(after), *map(str, asked)]
    done = subprocess.run(words, capture_output=True, text=True, timeout=120, check=False)
    assert (done.returncode, done.stderr.count("\n")) == (130, 1), done.stderr[-2000:]
    assert done.stderr.startswith("moss-step: ") and sorted(p.name for p in tmp_path.iterdir()) == there


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_what_is_noted_stops_the_work_and_is_said_at_the_end(by_word, number):
    stopped = list[str]()
    with pytest.raises(EndedError) as ended, noting_signals() as noted:
        noted.tell(lambda: stopped.append("first"))
        signal.raise_signal(number)
        noted.tell(lambda: stopped.append("later"))
        raise StoppedError
    assert ended.value.number == number and stopped == ["first", "later"]
    with pytest.raises(EndedError):  # as before
        signal.raise_signal(number)


def test_without_a_signal_all_is_as_ever(by_word):
    with noting_signals():
        pass
    with pytest.raises(MossError, match="no such page"), noting_signals():
        raise MossError("There is no such page.")


def test_a_second_signal_ends_the_program_at_once():
    words = (
        "import signal, time\n"
        "from moss_step.process import end_by_word, noting_signals\n"
        "end_by_word()\n"
        "with noting_signals():\n"
        "    signal.raise_signal(signal.SIGTERM)\n"
        "    signal.raise_signal(signal.SIGTERM)\n"
        "    time.sleep(60)\n"
    )
    done = subprocess.run([sys.executable, "-c", words], timeout=120, check=False)
    assert done.returncode == -signal.SIGTERM
