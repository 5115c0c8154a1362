"""What the window loads before it opens: each needless library is felt at every start."""

import json
import subprocess
import sys

_LOOK = """
import json, sys
import moss_step.desk
loaded = [name for name in ("scipy.linalg", "scipy.ndimage", "mapclassify", "matplotlib", "pyvista", "pandas") if name in sys.modules]
import scipy.linalg.cython_blas
print(json.dumps({"loaded": loaded, "ready": "numba.cpython.numbers" in sys.modules, "blas": scipy.linalg.cython_blas.__name__}))
"""


def _started() -> dict:
    ran = subprocess.run([sys.executable, "-c", _LOOK], capture_output=True, text=True, check=True)
    return json.loads(ran.stdout)


def test_what_is_slow_to_load_waits_until_it_is_needed():
    found = _started()
    assert found["loaded"] == []
    assert found["ready"], "the first kernel has run before Qt is loaded"
    assert found["blas"] == "scipy.linalg.cython_blas", (
        "linear algebra can still be loaded by whoever needs it"
    )
