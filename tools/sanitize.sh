#!/bin/sh
# The recorder's tests with its native part built for finding faults of memory and arithmetic.
# The usual build is put back at the end. Any report ends the recorded program with status 99.
# Left out: green threads in a sparse run, since whoever switches them copies stacks as a whole, which the watch takes for a fault.
set -u
flags="-fsanitize=address,undefined -fno-sanitize-recover=undefined -fno-omit-frame-pointer -g -O1"
restore() { env -u CC .venv/bin/pip install -q -e . ; }
trap restore EXIT
CFLAGS="$flags" LDFLAGS="-fsanitize=address,undefined" .venv/bin/pip install -q -e . || exit 1
library() { gcc -print-file-name="$1"; }
CC="gcc $flags" LD_PRELOAD="$(library libasan.so) $(library libubsan.so)" \
    ASAN_OPTIONS=detect_leaks=0:handle_segv=0:exitcode=99:log_path=build/sanitizer UBSAN_OPTIONS=log_path=build/sanitizer \
    QT_QPA_PLATFORM=offscreen .venv/bin/python -m pytest tests/recorder -k "not python] and not (sparse and green)" "$@"
status=$?
if ls build/sanitizer.* >/dev/null 2>&1; then
    cat build/sanitizer.*
    exit 1
fi
exit $status
