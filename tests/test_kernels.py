"""Where compiled kernels are kept."""

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest
from numba.core import caching

from moss_step import kernels
from moss_step.science.water.kernels import descent

HELPER = "import numba\n\n\n@numba.njit(cache=True)\ndef helper(x):\n    return x + {}\n"
CALLER = "import numba\n\nfrom pack.helper import helper\n\n\n@numba.njit(cache=True)\ndef caller(x):\n    return helper(x) * 10\n"


def test_the_compiler_keeps_kernels_by_what_they_are_made_of():
    root, source = Path(os.environ["NUMBA_CACHE_DIR"]), Path(descent.__file__)
    kept = Path(descent.descend_row._cache.cache_path)
    assert kept == root / f"descent-{kernels.digest(source)}"
    assert all(p.name.startswith("all-") or len(p.name.split("-")[-1]) == 20 for p in root.iterdir())


def test_a_compiler_that_was_imported_first_keeps_them_there_too():
    code = (
        "import numba, moss_step; from moss_step.kernels import folder;"
        "assert numba.config.CACHE_DIR == str(folder()) and numba.config.THREADING_LAYER == 'omp';"
        "from moss_step.model.kernels.summary import summarise_cells as kernel;"
        "assert kernel._cache.cache_path.startswith(str(folder()) + '/summary-')"
    )
    env = {k: v for k, v in os.environ.items() if not k.startswith("NUMBA_")}
    subprocess.run([sys.executable, "-c", code], env=env, check=True, timeout=60)


def test_kernels_of_others_are_kept_where_the_compiler_would(tmp_path):
    (tmp_path / "own.py").write_text(HELPER.format(1))
    code = "import moss_step, own; own.helper(1); print(own.helper._cache.cache_path)"
    env = os.environ | {"PYTHONPATH": str(tmp_path), "NUMBA_CACHE_DIR": str(tmp_path / "kept")}
    asked = [sys.executable, "-c", code]
    said = subprocess.run(asked, env=env, check=True, timeout=120, capture_output=True, text=True).stdout
    assert Path(said.strip()).parent == tmp_path / "kept" and list((tmp_path / "kept").rglob("*.nbc"))


@pytest.fixture
def package(tmp_path) -> Path:
    made = tmp_path / "pack"
    made.mkdir()
    (made / "__init__.py").write_text("")
    (made / "helper.py").write_text(HELPER.format(1))
    (made / "caller.py").write_text(CALLER)
    return made


def answer(package: Path, keyed: bool = True) -> int:
    """What the caller gives, in a process of its own."""
    code = "from pack.caller import caller; print(caller(1))"
    if keyed:
        code = f"from moss_step import kernels; kernels.PACKAGE = kernels.Path({str(package)!r}); " + code
    return _said(code, package.parent, package.parent / "kept")


def _said(code: str, beside: Path, kept: Path) -> int:
    env = os.environ | {"NUMBA_CACHE_DIR": str(kept), "PYTHONPATH": str(beside)}
    env.pop("NUMBA_CACHE_LOCATOR_CLASSES", None)
    asked = [sys.executable, "-c", code]
    return int(subprocess.run(asked, env=env, capture_output=True, text=True, check=True, timeout=120).stdout)


def test_a_helper_that_changed_in_another_file_is_not_served_stale(package):
    assert answer(package, keyed=False) == 20 and answer(package) == 20
    (package / "helper.py").write_text(HELPER.format(2))
    assert answer(package, keyed=False) == 20, (
        "what the compiler's own cache does: else this test shows nothing"
    )
    assert answer(package) == 30


def test_a_constant_that_changed_in_a_file_without_kernels_is_not_served_stale(package):
    (package / "amounts.py").write_text("BY = 10\n")
    (package / "caller.py").write_text(
        CALLER.replace("* 10", "* BY").replace("from pack", "from pack.amounts import BY\nfrom pack")
    )
    assert answer(package) == 20
    (package / "amounts.py").write_text("BY = 100\n")
    assert answer(package) == 200


@pytest.mark.parametrize(
    "line",
    ["from pack import amounts", "import pack.amounts as amounts", "from pack import (\n    amounts,\n)"],
)
def test_what_is_imported_in_any_way_counts(package, line):
    (package / "amounts.py").write_text("BY = 10\n")
    (package / "helper.py").write_text(line + "\n" + HELPER.format(1))
    before = kernels.digest(package / "caller.py", package)
    (package / "amounts.py").write_text("BY = 100\n")
    kernels._imported.cache_clear()
    assert kernels.digest(package / "caller.py", package) != before


def test_a_program_that_was_moved_has_its_kernels(package, tmp_path):
    """What is compiled again is told by the files of the cache: a second place adds none."""
    assert answer(package) == 20
    kept = {p: p.stat().st_mtime_ns for p in (tmp_path / "kept").rglob("*.nb?")}
    moved = tmp_path / "elsewhere" / "pack"
    shutil.copytree(package, moved, ignore=shutil.ignore_patterns("__pycache__"))
    code = f"from moss_step import kernels; kernels.PACKAGE = kernels.Path({str(moved)!r}); "
    assert (
        _said(code + "from pack.caller import caller; print(caller(1))", moved.parent, tmp_path / "kept")
        == 20
    )
    assert len(kept) == 4 and {p: p.stat().st_mtime_ns for p in (tmp_path / "kept").rglob("*.nb?")} == kept


def test_two_processes_that_save_variants_at_once_do_not_take_each_others_place(tmp_path):
    """Both look for a name before either has written: the index of the second stays, and the file of the first."""

    def both(kind: type) -> object:
        (tmp_path / kind.__name__).mkdir()
        one, other = (kind(str(tmp_path / kind.__name__), "kernel", "stamp") for _ in range(2))
        names = one._data_name(1), other._data_name(1)
        one._save_index({"one": names[0]})
        other._save_index({"other": names[1]})
        other._save_data(names[1], "for the other")
        one._save_data(names[0], "for the one")
        return other.load("other")

    assert caching.IndexDataCacheFile.__base__ is not object
    assert both(caching.IndexDataCacheFile) == "for the other"
    assert both(caching.IndexDataCacheFile.__base__) == "for the one", "else this test shows nothing"


def test_kernels_stand_in_modules_of_their_own():
    package = Path(kernels.__file__).parent
    apart = [
        p for p in package.rglob("*.py") if "@numba.njit" in p.read_text() and p.parent.name != "kernels"
    ]
    assert apart == [] and len(list(package.rglob("kernels/*.py"))) > 25


def test_only_what_a_source_imports_counts_and_the_same_sources_are_the_same_folder(package):
    def now() -> str:
        kernels._imported.cache_clear()
        return kernels.digest(package / "caller.py", package)

    before = now()
    (package / "other.py").write_text("VALUE = 3\n")
    assert now() == before
    (package / "helper.py").write_text(HELPER.format(3))
    assert now() != before
    (package / "helper.py").write_text(HELPER.format(1))
    assert now() == before


def test_kernels_are_kept_in_the_users_cache_or_beside_the_program(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    assert kernels.folder() == tmp_path / "moss-step" / "kernels"
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc/none")
    monkeypatch.setattr(kernels, "PACKAGE", tmp_path / "program")
    assert kernels.folder() == tmp_path / "program" / "__pycache__" / "kernels"


def test_where_nothing_can_be_kept_kernels_last_as_long_as_the_program(tmp_path):
    code = (
        "from moss_step import kernels; kernels.PACKAGE = kernels.Path('/proc/none');"
        "place = kernels.folder(); assert place.is_dir(); print(place)"
    )
    env = os.environ | {"XDG_CACHE_HOME": "/proc/none", "TMPDIR": str(tmp_path)}
    asked = [sys.executable, "-c", code]
    said = subprocess.run(asked, env=env, check=True, timeout=60, capture_output=True, text=True).stdout
    assert Path(said.strip()).parent == tmp_path and not list(tmp_path.iterdir())


def test_kernels_that_none_asked_for_in_months_are_swept(monkeypatch, tmp_path):
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path))
    for name in ("old-1", "asked-2"):
        (tmp_path / name).mkdir()
    (tmp_path / "all-3").touch()
    for name in ("old-1", "all-3"):
        os.utime(tmp_path / name, (1.0, 1.0))
    kernels.sweep(time.time() + 80 * 86_400)
    assert [p.name for p in tmp_path.iterdir()] == ["asked-2"]
    kernels.sweep(time.time() + 100 * 86_400)
    assert not list(tmp_path.iterdir())


def test_what_is_compiled_for_these_sources_is_not_driven_again(tmp_path):
    """With its mark, setting up ends at once; the mark of another source or another processor does not count."""
    env = os.environ | {"NUMBA_CACHE_DIR": str(tmp_path)}
    mark = "from moss_step.kernels import mark; mark().parent.mkdir(exist_ok=True); mark().touch()"
    subprocess.run([sys.executable, "-c", mark], env=env, check=True, timeout=60)
    assert len(list(tmp_path.iterdir())) == 1
    asked = [sys.executable, "-m", "moss_step.desk.warm"]
    said = subprocess.run(asked, env=env, check=True, timeout=60, capture_output=True, text=True).stdout
    assert said == "Kernels are compiled already.\n"
