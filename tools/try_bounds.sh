#!/bin/sh
# Installs the oldest, or with "highest" the newest, versions of what pyproject.toml asks for, and runs the tests
# of the core on them.
set -eu
which=${1:-lowest-direct}
root=$(cd "$(dirname "$0")/.." && pwd)
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
python3 -m venv "$room/env"
"$room/env/bin/pip" install --quiet --disable-pip-version-check uv
cd "$root"
VIRTUAL_ENV="$room/env" "$room/env/bin/uv" pip install --quiet --resolution "$which" --editable '.[dev]'
"$room/env/bin/pip" list --disable-pip-version-check --format freeze | sort > "$room/installed"
grep -i -E "^(numpy|scipy|numba|pydantic|rasterio|pyproj|shapely|pyogrio|laspy|lazrs|PySide6_Essentials)==" "$room/installed"
echo "Other than the pinned versions:"
grep -v -x -i -F -f constraints.txt "$room/installed" | grep -v "^-e" || true
XDG_CACHE_HOME="$room/cache" QT_QPA_PLATFORM=offscreen "$room/env/bin/python" -m pytest -q --numprocesses 2 \
    --dist loadfile tests/science tests/steps tests/formats tests/study tests/reference
