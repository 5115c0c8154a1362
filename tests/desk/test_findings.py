"""Every number that a step tells stands in its panel, with a title and its unit, the main ones first."""

import re

import pytest

from moss_step.desk.benches.panel import _MOST_OF_SEVERAL, finding_rows
from moss_step.model.findings import FINDINGS, Finding, declared
from moss_step.model.telling import USUAL, finding_text
from moss_step.model.units import CELLS, CUBIC_METRE, METRE, SHARE, SQUARE_METRE, YES_NO
from tests.cases import RESULTS, as_is, run
from tests.grounds import metric, relief


@pytest.mark.parametrize("name", RESULTS)
def test_no_number_of_a_step_is_left_out(name):
    ground = metric(relief(21))
    findings = run(name, ground, as_is(ground)).findings
    rows = finding_rows(findings, USUAL)
    own = [f for f in findings if not f.of]
    assert len(rows) >= len(own) and {f.title for f in own} <= {title for title, _ in rows}
    assert [FINDINGS[f.name][1] for f in sorted(own, key=lambda f: f.rank)] == sorted(f.rank for f in own)
    several = [f for f in findings if f.of]
    for f in several[:_MOST_OF_SEVERAL]:
        assert any(title == f.of or title.startswith(f"{f.of}: ") for title, _ in rows)
    if len({f.of for f in several}) > _MOST_OF_SEVERAL:
        assert rows[-1][0] == "and more" and int(rows[-1][1].split(",")[0]) > 0


def test_a_class_has_one_row_with_area_and_share():
    findings = [
        Finding("cells", 20, CELLS),
        Finding("count", 12, CELLS, "Steep"),
        Finding("area_m2", 48.0, SQUARE_METRE, "Steep"),
        Finding("share", 0.6, SHARE, "Steep"),
        Finding("mean", 2.5, METRE, "Steep"),
    ]
    assert finding_rows(findings, USUAL) == [
        ("Cells", "20"),
        ("Steep", "48.0 m² · 60.0 %"),
        ("Steep: mean", "2.50 m"),
    ]


def test_titles_are_words_and_no_two_findings_of_a_step_have_one_title():
    for name, (title, rank) in FINDINGS.items():
        assert title[0].isupper() and "_" not in title and rank in (0, 1, 2), name
    ground = metric(relief(21))
    for name in RESULTS:
        titles = [f.title for f in run(name, ground, as_is(ground)).findings if not f.of]
        assert len(titles) == len(set(titles)), name


@pytest.mark.parametrize(
    ("finding", "text"),
    [
        (Finding("area_m2", 812.4, SQUARE_METRE), "812.4 m²"),
        (Finding("area_m2", 123_456.0, SQUARE_METRE), "12.3 ha"),
        (Finding("volume_m3", 1_234_567.8, CUBIC_METRE), "1 234 568 m³"),
        (Finding("share", 0.256, SHARE), "25.6 %"),
        (Finding("links", 12345, CELLS), "12 345"),
        (Finding("length", 12.345, METRE), "12.35 m"),
        (Finding("visible", 0.0, YES_NO), "no"),
    ],
)
def test_a_number_is_told_with_its_unit(finding, text):
    assert finding_text(finding, USUAL) == text


def test_a_number_without_a_title_is_refused():
    with pytest.raises(KeyError, match="'length' is 'Length' already"):
        declared("length", "Another length", 0)
    with pytest.raises(KeyError, match="FINDINGS"):
        Finding("steepness_of_the_moon", 1.0)


def test_the_volume_of_a_pond_is_in_its_panel(window, settle, hills_tif, hills):
    window.files.open_path(hills_tif)
    settle(window)
    ground = window.work.chosen_id
    dem = window.work.outcome(ground).value
    from moss_step.science.water.drainage import prepare
    from moss_step.science.water.pools import Pools

    pools: Pools = prepare(dem).pools
    row, col = divmod(int(pools.cell[pools.depth.argmax()]), dem.frame.cols)
    x0, x1 = dem.frame.x_of(max(col - 15, 0)), dem.frame.x_of(min(col + 15, dem.frame.cols - 1))
    y = dem.frame.y_of(min(row + 3, dem.frame.rows - 1))
    crest = float(dem.range[1])
    step = window.work.add_step("pond", {"dem": ground}, {"line": [x0, y, x1, y], "crest": crest})
    settle(window)
    assert window.work.state(step) == "done", window.work.reason(step)
    rows = dict(window.benches["water"].panel.facts.rows)
    assert re.fullmatch(r"[\d ]+ m³", rows["Volume"]) and {
        "Area",
        "Deepest",
        "Level of the water",
        "Stood there before",
    } <= set(rows)
