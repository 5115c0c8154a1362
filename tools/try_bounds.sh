#!/bin/sh
# Installs the oldest versions of what pyproject.toml asks for, and runs the tests of the core on them.
set -eu
root=$(cd "$(dirname "$0")/.." && pwd)
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
python3 -m venv "$room/env"
"$room/env/bin/pip" install --quiet --disable-pip-version-check uv
cd "$root"
VIRTUAL_ENV="$room/env" "$room/env/bin/uv" pip install --quiet --resolution lowest-direct --editable '.[dev]'
"$room/env/bin/pip" list --disable-pip-version-check | grep -i -E "^(numpy|scipy|numba|pydantic|rasterio|pyproj|shapely|pyogrio) "
XDG_CACHE_HOME="$room/cache" QT_QPA_PLATFORM=offscreen "$room/env/bin/python" -m pytest -q -x --numprocesses 2 \
    --dist loadfile tests/science tests/steps tests/formats tests/study tests/reference
