#!/bin/sh
# Puts packages that the tests record beside the interpreters of this machine into build/packages/VERSION, and what Ricerca
# needs for itself into environments of the other Pythons it runs on, build/environments/VERSION. What cannot be had is
# left out: its tests are skipped and say so.
cd "$(dirname "$0")/.."
for version in 3.9 3.10 3.11 3.12 3.13; do
    folder=build/packages/$version
    [ -d "$folder/greenlet" ] && continue
    .venv/bin/python -m pip install -q --disable-pip-version-check --target "$folder" --python-version "$version" \
        --only-binary=:all: --no-deps greenlet 2>/dev/null || echo "No greenlet for Python $version: its tests will be skipped." >&2
done

own=$(.venv/bin/python -c 'import sys; print("%d.%d" % sys.version_info[:2])')
needed=$(.venv/bin/python -c 'import tomllib
print(*tomllib.load(open("pyproject.toml", "rb"))["project"]["dependencies"], sep="\n")')
environment() { # environment VERSION
    folder=build/environments/$1
    [ "$(cat "$folder/needed" 2>/dev/null)" = "$needed" ] && return
    python=$(ls -d "${PYENV_ROOT:-$HOME/.pyenv}"/versions/"$1".*/bin/python"$1" 2>/dev/null | tail -n 1)
    python=${python:-$(command -v "python$1")}
    [ -n "$python" ] || return
    rm -rf "$folder"
    if "$python" -m venv "$folder" && echo "$needed" | tr '\n' '\0' |
        xargs -0 "$folder/bin/python" -m pip install -q --disable-pip-version-check --only-binary=:all: setuptools wheel 2>/dev/null; then
        echo "$needed" > "$folder/needed"
    else
        echo "What Ricerca needs cannot be installed for Python $1: its tests will be skipped." >&2
    fi
}
for version in 3.11 3.12 3.13; do
    [ "$version" = "$own" ] || environment "$version" &
done
wait
exit 0
