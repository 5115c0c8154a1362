"""Where compiled kernels are kept."""

import os
import subprocess
import sys
from pathlib import Path

import numba
import pytest

from moss_step import kernels

HELPER = "import numba\n\n\n@numba.njit(cache=True)\ndef helper(x):\n    return x + {}\n"
CALLER = "import numba\n\nfrom pack.helper import helper\n\n\n@numba.njit(cache=True)\ndef caller(x):\n    return helper(x) * 10\n"


def test_the_compiler_keeps_kernels_in_a_folder_of_this_program_as_it_is_now():
    folder = Path(os.environ["NUMBA_CACHE_DIR"])
    assert folder.name == f"kernels-{kernels.digest()}" and str(folder) == numba.config.CACHE_DIR
    assert list(folder.rglob("*.nbi")), "and they are there"


def test_a_compiler_that_was_imported_first_keeps_them_there_too():
    code = (
        "import numba, moss_step; from moss_step.kernels import folder;"
        "assert numba.config.CACHE_DIR == str(folder()) and numba.config.THREADING_LAYER == 'omp'"
    )
    env = {k: v for k, v in os.environ.items() if not k.startswith("NUMBA_")}
    subprocess.run([sys.executable, "-c", code], env=env, check=True, timeout=60)


@pytest.fixture
def package(tmp_path) -> Path:
    made = tmp_path / "pack"
    made.mkdir()
    (made / "__init__.py").write_text("")
    (made / "helper.py").write_text(HELPER.format(1))
    (made / "caller.py").write_text(CALLER)
    return made


def answer(package: Path, keyed: bool) -> int:
    """What the caller gives, in a process of its own."""
    key = kernels.digest(package) if keyed else "same"
    code = "from pack.caller import caller; print(caller(1))"
    env = os.environ | {
        "NUMBA_CACHE_DIR": str(package.parent / f"kernels-{key}"),
        "PYTHONPATH": str(package.parent),
    }
    return int(
        subprocess.run(
            [sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True, timeout=120
        ).stdout
    )


def test_a_helper_that_changed_in_another_file_is_not_served_stale(package):
    assert answer(package, keyed=False) == 20 and answer(package, keyed=True) == 20
    (package / "helper.py").write_text(HELPER.format(2))
    assert answer(package, keyed=False) == 20, (
        "what the compiler's own cache does: else this test shows nothing"
    )
    assert answer(package, keyed=True) == 30


def test_a_constant_that_changed_in_a_file_without_kernels_is_not_served_stale(package):
    (package / "numbers.py").write_text("BY = 10\n")
    (package / "caller.py").write_text(
        CALLER.replace("* 10", "* BY").replace("from pack", "from pack.numbers import BY\nfrom pack")
    )
    assert answer(package, keyed=True) == 20
    (package / "numbers.py").write_text("BY = 100\n")
    assert answer(package, keyed=True) == 200


def test_kernels_stand_in_modules_of_their_own():
    package = Path(kernels.__file__).parent
    apart = [
        p for p in package.rglob("*.py") if "@numba.njit" in p.read_text() and p.parent.name != "kernels"
    ]
    assert apart == [] and len(list(package.rglob("kernels/*.py"))) > 25


def test_only_what_has_kernels_counts_and_the_same_sources_are_the_same_folder(package):
    before = kernels.digest(package)
    (package / "other.py").write_text("VALUE = 3\n")
    assert kernels.digest(package) == before
    (package / "helper.py").write_text(HELPER.format(3))
    assert kernels.digest(package) != before
    (package / "helper.py").write_text(HELPER.format(1))
    assert kernels.digest(package) == before


def test_a_program_that_cannot_write_beside_itself_keeps_kernels_in_the_users_cache(monkeypatch, tmp_path):
    monkeypatch.setattr(os, "access", lambda *_: False)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    assert kernels.folder() == tmp_path / "moss-step" / f"kernels-{kernels.digest()}"


def test_kernels_of_older_sources_are_swept(monkeypatch, tmp_path):
    now = tmp_path / f"kernels-{kernels.digest()}"
    for folder in (now, tmp_path / "kernels-older", tmp_path / "else"):
        folder.mkdir()
    monkeypatch.setattr(kernels, "folder", lambda: now)
    kernels.sweep()
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted(["else", now.name])
