#!/bin/sh
# Makes .venv with Ricerca and all it needs. Installs Debian packages that are missing where it may,
# otherwise names them. Nothing is done twice.
set -eu
cd "$(dirname "$0")/.."

PYTHON=${PYTHON:-}
if [ -z "$PYTHON" ]; then
    for candidate in python3.11 python3.12 python3.13 python3; do
        if command -v "$candidate" >/dev/null 2>&1 && "$candidate" -c 'import sys; sys.exit(sys.version_info[:2] < (3, 11))' 2>/dev/null; then
            PYTHON=$candidate
            break
        fi
    done
fi

missing=""
need() { # need PACKAGE TEST...
    package=$1
    shift
    "$@" >/dev/null 2>&1 || missing="$missing $package"
}
library() { # whether a shared library can be found; ldconfig may lie outside the path of an ordinary user
    PATH="$PATH:/sbin:/usr/sbin" ldconfig -p | grep -q "$1"
}
[ -n "$PYTHON" ] || missing="$missing python3 python3-venv python3-dev"
need gcc command -v cc
need git command -v git
need libegl1 library libEGL.so.1
need libgl1 library libGL.so.1
need libxkbcommon0 library libxkbcommon.so.0
need libxkbcommon-x11-0 library libxkbcommon-x11.so.0
need libdbus-1-3 library libdbus-1.so.3
need libfontconfig1 library libfontconfig.so.1
need libglib2.0-0 library libglib-2.0.so.0
need libxcb-cursor0 library libxcb-cursor.so.0
need libxcb-icccm4 library libxcb-icccm.so.4
need libxcb-image0 library libxcb-image.so.0
need libxcb-keysyms1 library libxcb-keysyms.so.1
need libxcb-randr0 library libxcb-randr.so.0
need libxcb-render-util0 library libxcb-render-util.so.0
need libxcb-shape0 library libxcb-shape.so.0
need libxcb-xinerama0 library libxcb-xinerama.so.0
need libxcb-xkb1 library libxcb-xkb.so.1
if [ -n "$PYTHON" ]; then
    include=$("$PYTHON" -c 'import sysconfig; print(sysconfig.get_paths()["include"])')
    [ -f "$include/Python.h" ] || missing="$missing python3-dev"
    "$PYTHON" -c 'import ensurepip' 2>/dev/null || missing="$missing python3-venv"
fi

if [ -n "$missing" ]; then
    if [ "$(id -u)" = 0 ]; then
        as_root=""
    elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
        as_root="sudo"
    else
        echo "Ricerca needs these Debian packages, please install them:$missing" >&2
        exit 1
    fi
    echo "Installing Debian packages:$missing"
    $as_root apt-get update -q
    DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -q --no-install-recommends $missing
    [ -n "$PYTHON" ] || PYTHON=python3
    if ! "$PYTHON" -c 'import sys; sys.exit(sys.version_info[:2] < (3, 11))'; then
        echo "Ricerca needs Python 3.11 or later; the system's is $("$PYTHON" -V)." >&2
        exit 1
    fi
fi

stamp=.venv/.ricerca-stamp
wanted=$(cat pyproject.toml setup.py src/ricerca/recorder/native/* | cksum)
if [ ! -x .venv/bin/python ]; then
    "$PYTHON" -m venv .venv
fi
if [ ! -f "$stamp" ] || [ "$(cat "$stamp")" != "$wanted" ]; then
    .venv/bin/python -m pip install -q --disable-pip-version-check --upgrade pip setuptools wheel
    .venv/bin/python -m pip install -q --disable-pip-version-check -e '.[dev]'
    printf '%s\n' "$wanted" >"$stamp"
fi
