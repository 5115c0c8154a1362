"""Arrays in files behind a short head: as they were, in any thread, and refused where they are none."""

import ast
import json

import numpy as np
import pytest

from moss_step.formats.plain_array import is_sound, map_array, read_arrays, write_array
from moss_step.large.scratch import scratch_in
from moss_step.large.tiling import squares
from moss_step.model.errors import MossError

ARRAYS = {
    "grid": np.arange(12, dtype=np.float32).reshape(3, 4),
    "columns": np.arange(12, dtype=np.int16).reshape(3, 4).T,
    "yes and no": np.array([[True, False]]),
    "bytes": np.arange(256, dtype=np.uint8),
    "nothing": np.empty((0, 5), np.int64),
    "big ends first": np.array([1.5, -2.0], ">f8"),
}


@pytest.mark.parametrize("name", ARRAYS)
def test_an_array_comes_back_as_it_was(name, tmp_path):
    with (tmp_path / "a").open("wb") as file:
        write_array(file, ARRAYS[name])
    for found in (*read_arrays(tmp_path / "a", 1), map_array(tmp_path / "a")):
        assert found.dtype == ARRAYS[name].dtype
        np.testing.assert_array_equal(found, ARRAYS[name])


def test_arrays_that_lie_one_after_another_come_back_in_order(tmp_path):
    with (tmp_path / "a").open("wb") as file:
        for array in ARRAYS.values():
            write_array(file, array)
    for found, array in zip(read_arrays(tmp_path / "a", len(ARRAYS)), ARRAYS.values(), strict=True):
        np.testing.assert_array_equal(found, array)
    with pytest.raises(ValueError):
        read_arrays(tmp_path / "a", len(ARRAYS) + 1)


def test_a_file_is_sound_as_long_as_no_byte_changes(tmp_path):
    with (tmp_path / "a").open("wb") as file:
        for array in ARRAYS.values():
            write_array(file, array)
    whole = (tmp_path / "a").read_bytes()
    assert is_sound(tmp_path / "a")
    for place in (3, 130, len(whole) - 1):
        (tmp_path / "a").write_bytes(whole[:place] + bytes([whole[place] ^ 1]) + whole[place + 1 :])
        assert not is_sound(tmp_path / "a")
    for cut in (whole[:-1], whole[: len(whole) // 2], whole + b"x", b"[1]".ljust(128)):
        (tmp_path / "a").write_bytes(cut)
        assert not is_sound(tmp_path / "a")


@pytest.mark.parametrize(
    "head",
    [b"", b"x" * 300, b"[1]".ljust(128), json.dumps({"type": "|O", "shape": [1]}).encode().ljust(136),
     json.dumps({"type": "<f4", "shape": [-1]}).encode().ljust(136), json.dumps({"type": "<f4"}).encode().ljust(136),
     json.dumps({"type": "<f4", "shape": [1000]}).encode().ljust(136)],
)  # fmt: skip
def test_what_is_no_array_is_refused(head, tmp_path):
    (tmp_path / "a").write_bytes(head)
    for read in (lambda path: read_arrays(path, 1), map_array):
        with pytest.raises(ValueError):
            read(tmp_path / "a")


def test_tiles_are_read_without_parsing_python(tmp_path, monkeypatch):
    """Two threads that do so at once fail in Python 3.11."""

    def refuse(_):
        raise AssertionError("Python was parsed")

    kept, tile = (
        scratch_in(tmp_path, squares((600, 600), 512 * 512)),
        squares((600, 600), 512 * 512).tile(0, 0),
    )
    kept.save("ways", tile, ARRAYS["grid"])
    monkeypatch.setattr(ast, "literal_eval", refuse)
    monkeypatch.setattr(ast, "parse", refuse)
    np.testing.assert_array_equal(kept.load("ways", tile), ARRAYS["grid"])
    np.testing.assert_array_equal(kept.part("ways", slice(0, 3), slice(0, 4), 0), ARRAYS["grid"])


def test_a_tile_that_is_damaged_or_gone_is_named(tmp_path):
    tiling = squares((600, 600), 512 * 512)
    kept, tile = scratch_in(tmp_path, tiling), tiling.tile(0, 0)
    kept.save("ways", tile, ARRAYS["grid"])
    (file,) = tmp_path.iterdir()
    file.write_bytes(file.read_bytes()[:-4])
    for spoil in (lambda: None, lambda: file.write_bytes(b"x"), file.unlink):
        spoil()
        with pytest.raises(MossError, match=file.name):
            kept.load("ways", tile)
        with pytest.raises(MossError, match=file.name):
            kept.part("ways", slice(0, 3), slice(0, 4), 0)
