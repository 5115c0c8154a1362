#!/bin/sh
# Installs the program and all that its tests need into the environment that is named: with uv, which takes a
# tenth of the time, or with pip where uv is not to be had.
set -eu
env=$1
with_pip="$env/bin/python -m pip install --quiet --disable-pip-version-check --no-compile --constraint constraints.txt"

with_uv() {
    $with_pip uv && VIRTUAL_ENV="$env" "$env/bin/uv" pip install --quiet --constraint constraints.txt --editable '.[dev]'
}

with_uv || {
    echo "uv could not install: pip does (some minutes) ..."
    $with_pip --editable '.[dev]'
}
