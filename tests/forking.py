"""Runs the real command line in forks of a process that has loaded it once: most of what a recording in a test takes is loading."""

from __future__ import annotations

import atexit
import json
import os
import socket
import subprocess
import sys
import tempfile
from functools import cache
from pathlib import Path

SECONDS = 400
SERVER = """
import atexit, gc, importlib, json, os, pkgutil, socket, sys, traceback
import ricerca, scipy.stats

for module in pkgutil.walk_packages(ricerca.__path__, "ricerca."):
    if not module.name.startswith(("ricerca.desk", "ricerca.recorder")) and not module.name.endswith("__main__"):
        importlib.import_module(module.name)

gc.freeze()

def serve(connection):
    for line in connection:
        asked = json.loads(line)
        pid = os.fork()
        if pid == 0:
            os.environ.clear()
            os.environ.update(asked["env"])
            os.chdir(asked["cwd"])
            for number, name in enumerate(("/dev/null", asked["out"], asked["err"])):
                handle = os.open(name, os.O_RDONLY if number == 0 else os.O_WRONLY)
                os.dup2(handle, number)
                os.close(handle)
            connection.close()
            sys.argv, status = ["ricerca", *asked["words"]], 1
            try:
                ricerca.cli.main()
            except SystemExit as ended:
                status = 0 if ended.code is None else ended.code
            except BaseException:
                traceback.print_exc()
            atexit._run_exitfuncs()
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(status)  # taking everything down again would take longer than most commands
        _pid, status = os.waitpid(pid, 0)
        connection.write(json.dumps(os.waitstatus_to_exitcode(status)) + "\\n")
        connection.flush()

serve(socket.socket(fileno=int(sys.argv[1])).makefile("rw"))
"""


class ForkedCommands:
    """One server for a whole test process."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        self._server = subprocess.Popen([sys.executable, "-c", SERVER, str(theirs.fileno())], pass_fds=[theirs.fileno()])
        theirs.close()
        ours.settimeout(SECONDS)
        self._socket, self._connection = ours, ours.makefile("rw")

    def run(self, words: list[str], cwd: Path) -> subprocess.CompletedProcess[str]:
        """Run one command as ``subprocess.run`` would, with nothing on its standard input."""
        with tempfile.NamedTemporaryFile("r") as out, tempfile.NamedTemporaryFile("r") as err:
            asked = {"words": words, "cwd": str(cwd), "env": dict(os.environ), "out": out.name, "err": err.name}
            self._connection.write(json.dumps(asked) + "\n")
            self._connection.flush()
            status = json.loads(self._connection.readline())
            return subprocess.CompletedProcess(words, status, out.read(), err.read())

    def close(self) -> None:
        """End the server."""
        self._connection.close()
        self._socket.close()
        self._server.wait(20)


@cache
def forked_commands() -> ForkedCommands:
    """The server of this test process, which ends with it."""
    commands = ForkedCommands()
    atexit.register(commands.close)
    return commands
