#!/usr/bin/env bash
# Lint, types, architecture contract, tests under a virtual screen. Called by `./kneten test`.
set -euo pipefail
if [ "$#" -eq 0 ]; then
    # The kernels are compiled meanwhile, once for all that follows.
    python -m kneten.core.warm >/dev/null &
    warm=$!
    ruff check src tests benchmarks
    ruff format --check src tests benchmarks
    mypy
    lint-imports --no-cache
    wait "$warm"
fi
export QT_QPA_PLATFORM=xcb LIBGL_ALWAYS_SOFTWARE=1
KNETEN_STATE=$(mktemp -d)
KNETEN_CONFIG=$(mktemp -d)
export KNETEN_STATE KNETEN_CONFIG
trap 'rm -rf "$KNETEN_STATE" "$KNETEN_CONFIG"' EXIT
screen() { xvfb-run -a -s "-screen 0 3900x2200x24 +extension GLX" "$@"; }
if [ "$#" -gt 0 ]; then
    screen python -m pytest -q "$@"
    exit
fi
# Windows first, in a process of their own: Mesa does not give a window's OpenGL to a process that has
# already drawn without a window. Random actions run beside what needs no window.
windows=(tests/app/test_window.py tests/app/test_block.py tests/app/test_form.py tests/app/test_density.py tests/app/test_view.py tests/app/test_desk.py tests/app/test_pixels.py)
soak=tests/app/test_soak.py
screen python -m pytest -q "${windows[@]}"
screen python -m pytest -q "$soak" &
random=$!
python -m pytest -q tests "${windows[@]/#/--ignore=}" "--ignore=$soak"
wait "$random"
