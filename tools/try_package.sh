#!/bin/sh
# Installs the wheel of a folder in empty environments: the core alone must do, run and list steps and name what
# the window lacks; with the extras the window must start. Then the source package must build the same wheel.
set -eu
dist=$(cd "$1" && pwd)
wheel=$(ls "$dist"/*.whl)
source=$(ls "$dist"/*.tar.gz)
root=$(cd "$(dirname "$0")/.." && pwd)
room=$(mktemp -d)
trap 'rm -rf "$room"' EXIT
export XDG_CACHE_HOME="$room/cache" XDG_STATE_HOME="$room/state" QT_QPA_PLATFORM=offscreen

python3 -m venv "$room/core"
"$room/core/bin/pip" install --quiet --disable-pip-version-check --constraint "$root/constraints.txt" "$wheel"
"$room/core/bin/python" -c "import importlib.util as u; assert not any(map(u.find_spec, ('PySide6', 'pyvista', 'pyqtgraph')))"
du -sm "$room/core" | sed 's/[[:space:]].*/ MB with the core alone/'
cd "$room"
core="$room/core/bin/moss-step"
data=$("$room/core/bin/python" -c "from moss_step.demo import DATA; print(DATA)")
"$core" steps slope
"$core" do slope dem="$data/harrow_ground.tif" -o slope.tif --quiet
"$core" do profile surface=slope.tif line=412500,5870500,413500,5871500 -o profile.csv --quiet
"$core" run "$data/harrow_moss.moss" --out results --quiet
test -s slope.tif && test -s profile.csv && test -n "$(ls results)"
if "$core" demo 2> said; then exit 1; fi
grep -q "moss-step\[window\]" said && cat said

python3 -m venv "$room/whole"
"$room/whole/bin/pip" install --quiet --disable-pip-version-check --constraint "$root/constraints.txt" "$wheel[block]"
du -sm "$room/whole" | sed 's/[[:space:]].*/ MB with window and block/'
timeout 60 "$room/whole/bin/moss-step" demo & window=$!
sleep 30
kill -TERM $window
wait $window && ended=0 || ended=$?
test "$ended" -eq 143 -o "$ended" -eq 0 && echo "The window started, and ended when told to."

"$room/core/bin/pip" wheel --quiet --disable-pip-version-check --no-deps --wheel-dir "$room/again" "$source"
"$room/core/bin/python" - "$wheel" "$room"/again/*.whl <<'EOF'
import sys, zipfile
names = [sorted(n for n in zipfile.ZipFile(p).namelist() if not n.endswith("RECORD")) for p in sys.argv[1:]]
assert names[0] == names[1], set(names[0]) ^ set(names[1])
print(f"{len(names[0])} files in the wheel, the same from the source package.")
EOF
