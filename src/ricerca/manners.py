"""How `record` stands in for the program: its input, its signals, its way to leave."""

from __future__ import annotations

import os
import resource
import signal
import sys
import tempfile
import threading
from typing import Any

SENT_BY_KERNEL = 0x80  # si_code of a signal that the terminal sends to all in the foreground


def replayable_input(plain_runs: int | bool):
    """Standard input for several runs: a copy that can be read again; None where one run inherits it."""
    if not plain_runs or sys.stdin is None or sys.stdin.isatty():
        return None
    copy = tempfile.TemporaryFile()
    while block := sys.stdin.buffer.read(1 << 20):
        copy.write(block)
    copy.seek(0)
    return copy


def pass_signals_on(session: Any) -> None:
    """Signals sent to Ricerca are the program's. Those of the terminal reach both by themselves and are not sent twice."""

    def hand_on(number: int, _frame: object) -> None:
        session.finish_now(number)

    def stay(_number: int, _frame: object) -> None:
        return

    signal.signal(signal.SIGUSR1, lambda _number, _frame: session.pause(not session.paused))
    signal.signal(signal.SIGUSR2, lambda _number, _frame: session.finish_recording())
    from_terminal = {number for number in (signal.SIGINT, signal.SIGQUIT) if signal.getsignal(number) != signal.SIG_IGN}
    for number, handler in ((signal.SIGINT, stay), (signal.SIGQUIT, stay), (signal.SIGTERM, hand_on), (signal.SIGHUP, hand_on)):
        if signal.getsignal(number) != signal.SIG_IGN:
            signal.signal(number, handler)
    if not from_terminal:
        return

    def wait_for_signals() -> None:
        while True:
            found = signal.sigwaitinfo(from_terminal)
            if found.si_code != SENT_BY_KERNEL:
                session.finish_now(found.si_signo)

    signal.pthread_sigmask(signal.SIG_BLOCK, from_terminal)
    threading.Thread(target=wait_for_signals, daemon=True).start()


def leave_as(status: int) -> None:
    """Leave the way the program left, by the same signal if one ended it."""
    sys.stdout.flush()
    sys.stderr.flush()
    if status < 0:
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        signal.signal(-status, signal.SIG_DFL) if -status not in (signal.SIGKILL, signal.SIGSTOP) else None
        os.kill(os.getpid(), -status)
    os._exit(status & 255)
