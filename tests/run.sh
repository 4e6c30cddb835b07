#!/usr/bin/env bash
# Lint, types, architecture contract, tests under a virtual screen. Called by `./kneten test`.
set -euo pipefail
if [ "$#" -eq 0 ]; then
    # The kernels are compiled meanwhile, once for all that follows.
    python -m kneten.core.warm >/dev/null &
    warm=$!
    # Whoever fails here leaves nothing behind that still compiles.
    trap 'kill "$warm" 2>/dev/null || true' EXIT
    ruff check src tests benchmarks
    ruff format --check src tests benchmarks
    mypy
    lint-imports --no-cache
    wait "$warm"
fi
# Each lane draws with one thread: with more they wait for each other.
export QT_QPA_PLATFORM=xcb LIBGL_ALWAYS_SOFTWARE=1 LP_NUM_THREADS=1
folders=$(mktemp -d)
trap 'rm -rf "$folders"' EXIT
# What takes long stands outside, but for some of each kind; whoever asks for tests by name gets all of them.
usual=()
if [ "$#" -eq 0 ]; then usual=(-m "not long"); fi
# Runs pytest with a state and settings of its own.
tests() { KNETEN_STATE=$(mktemp -d -p "$folders") KNETEN_CONFIG=$(mktemp -d -p "$folders") python -m pytest -q "${usual[@]}" "$@"; }
# The same on a virtual screen. Mesa does not give a window's OpenGL to a process that has already drawn
# without a window, so windows have processes of their own.
on_screen() {
    KNETEN_STATE=$(mktemp -d -p "$folders") KNETEN_CONFIG=$(mktemp -d -p "$folders") \
        xvfb-run -a -s "-screen 0 3900x2200x24 +extension GLX" python -m pytest -q "${usual[@]}" "$@"
}
if [ "$#" -gt 0 ]; then
    on_screen "$@"
    exit
fi
# Five lanes, about as long as each other, on two processors: windows wait for pictures and timers, others use what is left.
first=() second=() third=()
for name in window block view desk pixels wrong_moments; do first+=("tests/app/test_$name.py"); done
for file in tests/app/test_*.py; do
    case " ${first[*]} tests/app/test_command_line.py tests/app/test_many.py tests/app/test_quantities.py " in
        *" $file "*) ;;
        # By turns: what is long lies beside each other in the alphabet.
        *) if [ "${#second[@]}" -le "${#third[@]}" ]; then second+=("$file"); else third+=("$file"); fi ;;
    esac
done
windows=("${first[@]}" "${second[@]}" "${third[@]}")
tests tests/core >"$folders/core.log" 2>&1 &
lanes=($!)
tests tests --ignore=tests/core "${windows[@]/#/--ignore=}" >"$folders/tests.log" 2>&1 &
lanes+=($!)
on_screen "${second[@]}" >"$folders/second.log" 2>&1 &
lanes+=($!)
on_screen "${third[@]}" >"$folders/third.log" 2>&1 &
lanes+=($!)
status=0
on_screen "${first[@]}" || status=1
for lane in "${lanes[@]}"; do wait "$lane" || status=1; done
cat "$folders/second.log" "$folders/third.log" "$folders/core.log" "$folders/tests.log"
exit "$status"
