"""Starts the recorder inside the measured process, then gets out of the program's sight.

The folder of this file is put on the program's path by the runner, so the interpreter imports it
just before the program begins. It undoes that at once: path, environment and modules look as they
would without Ricerca. Standard library only, Python 3.9 to 3.13; nothing here may fail the program.
"""

import os
import sys
from contextlib import suppress

_NAMES = ("RECORDING", "NATIVE", "LIMIT", "LINES", "INSIDE", "STAMP", "PYTHONPATH", "CHILD")


def _settings():
    """Our variables, taken out of the program's environment."""
    return {name: os.environ.pop("RICERCA_" + name, None) for name in _NAMES}


def _clear_traces(settings):
    """Put the module path and the environment back as the person left them."""
    folder = os.path.dirname(os.path.abspath(__file__))
    sys.path[:] = [place for place in sys.path if place != folder]
    sys.path_importer_cache.pop(folder, None)
    before = settings["PYTHONPATH"]
    if before is None:
        os.environ.pop("PYTHONPATH", None)
    else:
        os.environ["PYTHONPATH"] = before


def _pass_on(settings):
    """Let other Pythons that the program starts be recorded too.

    Their environment is the process's own, which os.environ does not show, unless the program gives another.
    """
    folder = os.path.dirname(os.path.abspath(__file__))
    for name in _NAMES:
        if settings[name] is not None:
            os.putenv("RICERCA_" + name, settings[name])
    os.putenv("RICERCA_CHILD", "1")
    before = settings["PYTHONPATH"]
    os.putenv("PYTHONPATH", folder if not before else folder + os.pathsep + before)


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


def _record(settings):
    recording = settings["RECORDING"]
    tag, _, native = settings["NATIVE"].partition("=")
    if settings["CHILD"]:
        recording = "{}.{}".format(recording, os.getpid())
        if tag != sys.implementation.cache_tag:
            return  # another version of the interpreter, for which there is no native part at hand
        os.close(os.open(recording, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    try:
        lines, inside = (settings[name].split("\n") if settings[name] else [] for name in ("LINES", "INSIDE"))
        _load_native(native).start(recording, int(settings["LIMIT"]), lines, inside)
    except Exception as problem:  # the program goes on without us; the runner tells the person
        _write(recording + ".problem", "{}: {}".format(type(problem).__name__, problem))


def _start():
    settings = _settings()
    _clear_traces(settings)
    if settings["RECORDING"]:
        with suppress(OSError):  # a child without a recording of its own is a gap, not a failure
            _record(settings)
        _pass_on(settings)
    elif settings["STAMP"]:
        _stamp_program(settings["STAMP"])


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
