"""Tables as text: aligned, whole or not at all; numbers below 0 are no formulas."""

import numpy as np

from moss_step.formats.cells import as_meant, harmless
from moss_step.formats.columns_text import write_columns_text


def test_columns_stand_below_one_another(tmp_path):
    columns = {
        "what": np.array(["cut", "net change"], object),
        "value": np.array([12.5, np.nan]),
        "unit": np.array(["m³", ""], object),
    }
    write_columns_text(tmp_path / "a.txt", columns, "Record")
    lines = (tmp_path / "a.txt").read_text().splitlines()
    assert lines == ["Record", "", "what        value  unit", "cut         12.5   m³", "net change"]


def test_a_number_below_zero_is_written_as_it_is_and_a_formula_is_not():
    for text in ("-12.5", "+3", "-1e-05", "-7."):
        assert harmless(text) == text and as_meant(text) == text
    for text in ("-1+1", "=1", "-a", "--1", "-1 ", "@x", "-1e", "-=1"):
        assert harmless(text) == f"'{text}" and as_meant(harmless(text)) == text


def test_a_name_from_outside_cannot_forge_a_row(tmp_path):
    columns = {
        "what": np.array(["ground"], object),
        "value": np.array(["Hill\ncut  99999  m³\r\x1b[2J\u2028"], object),
    }
    write_columns_text(tmp_path / "a.txt", columns, "Record\nof a hill")
    text = (tmp_path / "a.txt").read_text()
    assert len(text.splitlines()) == 4 and "\x1b" not in text and text.startswith("Record of a hill")
