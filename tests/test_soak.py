"""A short part of the campaign, the same each time: no fault in any of its cases."""

import pytest
from soak.__main__ import CAMPAIGNS, carry_out
from soak.child import Answer
from soak.report import text_of
from soak.tally import Tally
from soak.watch import faults

CASES = {"Settings at random": 80, "Damaged files": 150, "Hostile studies": 120, "Kills of `do` and `run`": 2, "Kills of the window": 1, "Kills while it listens": 2,
         "Full disk, little memory": 2, "The same in other ways": 4, "Kills of runs in tiles": 1,
         "Two at once": 1, "Times that jump": 1}  # fmt: skip


@pytest.mark.parametrize("name", list(CAMPAIGNS))
def test_a_short_campaign_finds_nothing(name):
    tally = carry_out(name, CAMPAIGNS[name][0], 120.0, seed=7, most=CASES[name])
    assert tally.tried >= CASES[name]
    assert tally.faults == []


@pytest.mark.parametrize(
    ("answer", "kind"),
    [
        (Answer(None, "", 10.0), "hang"),
        (Answer(-11, "", 1.0), "crash"),
        (Answer(1, "Traceback (most recent call last):\n...", 1.0), "traceback"),
        (Answer(1, "moss-step: This went wrong inside Moss Step (KeyError: 'a')", 1.0), "traceback"),
        (Answer(0, "libtiff: something", 1.0), "noise"),
        (Answer(2, "", 1.0), "noise"),
        (Answer(1, "moss-step: one\nmoss-step: two", 1.0), "noise"),
    ],
)
def test_the_judge_knows_every_fault(answer, kind):
    assert [k for k, _ in faults(answer)] == [kind]


def test_a_good_answer_has_no_fault_and_the_page_counts(tmp_path):
    assert (
        faults(Answer(0, "", 1.0)) == []
        and faults(Answer(1, "moss-step: It is empty. Choose another.", 1.0)) == []
    )
    tally = Tally("Settings")
    tally.tried = 3
    tally.fault("hang", "slope: no answer")
    page = text_of([tally], 1.0, 5)
    assert "| Settings | 3 |" in page and "- hang: 1" in page and "- Settings: slope: no answer" in page
    with pytest.raises(ValueError):
        tally.fault("other", "x")
