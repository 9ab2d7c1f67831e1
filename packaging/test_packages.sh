#!/bin/sh
# Puts packages that the tests record beside the interpreters of this machine into build/packages/VERSION. What cannot be had is
# left out: its tests are skipped and say so.
cd "$(dirname "$0")/.."
for version in 3.9 3.10 3.11 3.12 3.13; do
    folder=build/packages/$version
    [ -d "$folder/greenlet" ] && continue
    .venv/bin/python -m pip install -q --disable-pip-version-check --target "$folder" --python-version "$version" \
        --only-binary=:all: --no-deps greenlet 2>/dev/null || echo "No greenlet for Python $version: its tests will be skipped." >&2
done
exit 0
