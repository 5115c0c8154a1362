#!/bin/sh
# Runs a command on the display there is, or on a virtual one.
set -eu
if [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ]; then
    exec "$@"
fi
number=$(mktemp)
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$number" 2>/dev/null &
server=$!
trap 'kill $server 2>/dev/null; rm -f "$number"' EXIT INT TERM
tries=0
while [ ! -s "$number" ]; do
    tries=$((tries + 1))
    [ "$tries" -gt 100 ] && { echo "The virtual display did not start. Is the package xvfb installed?"; exit 1; }
    sleep 0.1
done
DISPLAY=":$(cat "$number")"
export DISPLAY
echo "No display found: the window is on a virtual one, $DISPLAY, 1280 x 800. Stop with Ctrl+C."
"$@"
