import pytest

from moss_step.model.errors import AskedWronglyError
from moss_step.model.rules import Rule, RuleSet


def rules(*ranges, closed="upper"):
    return RuleSet(
        tuple(Rule(a, b, i + 1, f"C{i + 1}", "#112233") for i, (a, b) in enumerate(ranges)), closed
    )


def test_which_end_is_included():
    upper = rules((0, 5), (5, 10))
    codes = dict(zip([r.text() for r in upper.regions()], upper.lookup(), strict=True))
    assert codes["exactly 0"] == 1, "the lowest bound of all is included"
    assert codes["exactly 5"] == 1
    assert codes["exactly 10"] == 2
    lower = rules((0, 5), (5, 10), closed="lower")
    codes = dict(zip([r.text() for r in lower.regions()], lower.lookup(), strict=True))
    assert (codes["exactly 0"], codes["exactly 5"], codes["exactly 10"]) == (1, 2, 2)


def test_gaps_and_overlaps_are_named():
    assert rules((0, 5), (5, 10)).problems() == []
    assert rules((0, 5), (7, 10)).problems() == ["No class holds values between 5 and 7."]
    assert rules((0, 5), (3, 10)).problems() == [
        "'C1' and 'C2' both hold values between 3 and 5; 'C1' takes them."
    ]
    lower = rules((0, 5), (5, None), closed="lower")
    assert lower.problems() == []


def test_sectors_wrap_and_flat_is_no_gap():
    sectors = RuleSet(
        (
            Rule(-1, -1, 0, "Flat", "#000000"),
            Rule(315, 45, 1, "N", "#000001"),
            Rule(45, 315, 2, "Rest", "#000002"),
        )
    )
    assert sectors.problems() == []
    held = {
        v: [r.name for r in sectors.rules if r.holds(v, "upper")] for v in (-1, 0, 45, 45.1, 315, 315.1, 360)
    }
    assert held == {
        -1: ["Flat"],
        0: ["N"],
        45: ["N"],
        45.1: ["Rest"],
        315: ["Rest"],
        315.1: ["N"],
        360: ["N"],
    }


def test_open_ends():
    opened = rules((None, 0), (0, None))
    assert opened.problems() == []
    assert [r.text("°") for r in opened.rules] == ["up to 0°", "over 0°"]


@pytest.mark.parametrize(
    ("make", "said"),
    [
        (lambda: Rule(0, 1, 255, "x", "#000000"), "Class 255 is not possible"),
        (lambda: Rule(0, 1, 1, "x", "red"), "'red' is not a colour"),
        (lambda: Rule(float("inf"), 1, 1, "x", "#000000"), "bound of inf"),
        (lambda: RuleSet(()), "empty"),
        (lambda: RuleSet((Rule(0, 1, 1, "a", "#000000"), Rule(1, 2, 1, "b", "#000000"))), "both 'a' and 'b'"),
    ],
)
def test_what_cannot_be_used_is_refused(make, said):
    with pytest.raises(AskedWronglyError, match=said):
        make()
