"""Runs a program with kept files in the place of today's, seen by nobody else. Standard library only; run as a script.

    python -I -S private_mounts.py STEPS.json -- PROGRAM [ARG]...

In a mount namespace of its own (and for an ordinary user in a user namespace, own ids kept), each step puts one file or
folder over another. Then the program takes this process's place. Nothing on the disk is changed, and all of it is gone
when the program ends. Exit status 125 with a line on standard error where the system does not allow it.
"""

import ctypes
import json
import os
import sys
from pathlib import Path

CLONE_NEWNS, CLONE_NEWUSER = 0x00020000, 0x10000000
MS_BIND, MS_REC, MS_PRIVATE = 4096, 16384, 1 << 18
REFUSED = 125

_libc = ctypes.CDLL(None, use_errno=True)


def _must(result: int, doing: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, f"{doing}: {os.strerror(number)}")


def _apart() -> None:
    """A mount namespace of one's own; root may have it, others get it together with a user namespace."""
    if os.geteuid() == 0 and _libc.unshare(CLONE_NEWNS) == 0:
        return
    user, group = os.geteuid(), os.getegid()
    _must(_libc.unshare(CLONE_NEWUSER | CLONE_NEWNS), "unshare")
    own = Path("/proc/self")
    (own / "setgroups").write_text("deny")
    (own / "uid_map").write_text(f"{user} {user} 1")
    (own / "gid_map").write_text(f"{group} {group} 1")


def _mount(source: str, target: str, flags: int) -> None:
    _must(_libc.mount(os.fsencode(source), os.fsencode(target), None, flags, None), f"mount over {target}")


def put_in_place(steps: list) -> None:
    """Mount each [source, target] over its target, in their order."""
    _apart()
    _mount("none", "/", MS_REC | MS_PRIVATE)
    for source, target in steps:
        _mount(source, target, MS_BIND | MS_REC)


def main() -> None:
    """See above."""
    steps_file, command = sys.argv[1], sys.argv[3:]
    folder = os.getcwd()
    try:
        put_in_place(json.loads(Path(steps_file).read_text("utf-8", "surrogateescape")))
        os.chdir(folder)
    except OSError as problem:
        sys.stderr.write(f"{problem.strerror or problem}\n")
        sys.exit(REFUSED)
    try:
        os.execvp(command[0], command)
    except OSError as problem:
        sys.stderr.write(f"{command[0]}: {problem.strerror}\n")
        sys.exit(127)


if __name__ == "__main__":
    main()
