#!/bin/sh
# Installs the system packages that the window and the tests need, or names them with the exact command.
set -eu

PACKAGES="python3-venv xvfb libxcb-cursor0 libxcb-icccm4 libxcb-keysyms1 libxcb-image0 libxcb-render-util0
libxcb-shape0 libxcb-xkb1 libxcb-randr0 libxkbcommon-x11-0 libgl1 libegl1 libdbus-1-3 libfontconfig1 libgomp1
libglib2.0-0"

command -v dpkg-query >/dev/null 2>&1 || { echo "Not a Debian system: make sure these are there: $PACKAGES"; exit 0; }

missing=""
for package in $PACKAGES; do
    status=$(dpkg-query -W -f '${Status}' "$package" 2>/dev/null || true)
    [ "$status" = "install ok installed" ] || missing="$missing $package"
done
# A Python that brings its own venv does not need Debian's.
if python3 -c "import ensurepip, venv" 2>/dev/null; then
    missing=$(echo "$missing" | sed 's/ python3-venv//')
fi
[ -z "$missing" ] && exit 0

if [ "$(id -u)" = 0 ]; then
    echo "Installing system packages:$missing"
    apt-get update -qq
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
else
    echo "These system packages are missing. Install them, then run make again:"
    echo "    sudo apt-get install$missing"
    exit 1
fi
