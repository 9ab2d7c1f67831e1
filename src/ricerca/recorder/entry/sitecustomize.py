"""Starts the recorder inside the measured process, then gets out of the program's sight.

The folder of this file is put on the program's path by the runner, so the interpreter imports it
just before the program begins. It undoes that at once: path, environment and modules look as they
would without Ricerca. Standard library only, Python 3.9 to 3.13; nothing here may fail the program.
"""

import os
import sys


def _take(name):
    """Remove a variable of ours from the environment and give its value."""
    return os.environ.pop("RICERCA_" + name, None)


def _clear_traces():
    """Put the module path and the environment back as the person left them."""
    folder = os.path.dirname(os.path.abspath(__file__))
    sys.path[:] = [place for place in sys.path if place != folder]
    sys.path_importer_cache.pop(folder, None)
    before = _take("PYTHONPATH")
    if before is None:
        os.environ.pop("PYTHONPATH", None)
    else:
        os.environ["PYTHONPATH"] = before


def _load_native(path):
    """The native part, loaded without an entry in sys.modules."""
    import _imp
    from importlib.machinery import ExtensionFileLoader, ModuleSpec

    spec = ModuleSpec("_native", ExtensionFileLoader("_native", path), origin=path)
    module = _imp.create_dynamic(spec)
    _imp.exec_dynamic(module)
    return module


def _write(path, text):
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    try:
        os.write(handle, text.encode("utf-8", "backslashreplace"))
    finally:
        os.close(handle)


def _stamp_program(path):
    """Note when the program begins and when it comes to its regular end; nothing in between."""
    import atexit
    from time import CLOCK_MONOTONIC, clock_gettime_ns

    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)

    def begin(frame, event, _argument):
        name, space = frame.f_code.co_name, frame.f_globals.get("__name__")
        if event == "call" and (name, space) in (("<module>", "__main__"), ("_run_module_as_main", "runpy")):
            sys.setprofile(None)
            _forget_us()
            os.write(handle, b"%d " % clock_gettime_ns(CLOCK_MONOTONIC))

    atexit.register(lambda: os.write(handle, b"%d " % clock_gettime_ns(CLOCK_MONOTONIC)))
    sys.setprofile(begin)


def _forget_us():
    if getattr(sys.modules.get("sitecustomize"), "_make_way", None) is not None:
        del sys.modules["sitecustomize"]


def _start():
    recording, native = _take("RECORDING"), _take("NATIVE")
    limit, lines, stamp = _take("LIMIT"), _take("LINES"), _take("STAMP")
    _clear_traces()
    if recording:
        try:
            _load_native(native).start(recording, int(limit), lines.split("\n") if lines else [])
        except Exception as problem:  # the program goes on without us; the runner tells the person
            _write(recording + ".problem", "{}: {}".format(type(problem).__name__, problem))
    if stamp:
        _stamp_program(stamp)


def _make_way():
    """Give the person's own start-up module of the same name its turn."""
    own = sys.modules.pop("sitecustomize")
    try:
        import sitecustomize  # noqa: F401
    except ImportError as problem:
        if problem.name != "sitecustomize":
            raise
    # The import system looks for the name once more; the recorder takes ours out when the program begins.
    sys.modules.setdefault("sitecustomize", own)


_start()
_make_way()
