"""Starts the recorder inside the measured process, then gets out of the program's sight.

The folder of this file is put on the program's path by the runner, so the interpreter imports it
just before the program begins. It undoes that at once: path, environment and modules look as they
would without Ricerca. Standard library only, Python 3.9 to 3.13; nothing here may fail the program.
"""

import os
import sys
from contextlib import suppress

_NAMES = (
    "RECORDING",
    "NATIVE",
    "PURE",
    "LIMIT",
    "LINES",
    "INSIDE",
    "PAUSED",
    "PUBLIC",
    "TIMED",
    "STAMP",
    "PYTHONPATH",
    "CHILD",
    "BASH_ENV",
    "ZDOTDIR",
    "LD_PRELOAD",
)
_STANDING = ("BASH_ENV", "ZDOTDIR", "LD_PRELOAD")
_standing: dict = {}  # what these are for programs that the program starts
_passed_on: list = []  # name spaces that hand these variables on to children with an environment of their own


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
    for name in _STANDING:
        if settings[name] is not None:
            _standing[name] = os.environ.pop(name, "")
            if settings[name]:
                os.environ[name] = settings[name]


def _pass_on(settings):
    """Let other Pythons that the program starts be recorded too.

    Their environment is the process's own, which os.environ does not show, unless the program gives another.
    """
    folder = os.path.dirname(os.path.abspath(__file__))
    given = {"RICERCA_" + name: settings[name] for name in _NAMES if settings[name] is not None}
    given["RICERCA_CHILD"] = "1"
    before = settings["PYTHONPATH"]
    given.update((name, value) for name, value in _standing.items() if value)
    given["PYTHONPATH"] = folder if not before else folder + os.pathsep + before
    for name, value in given.items():
        os.putenv(name, value)
    for table in _passed_on:
        table.update(given)


def _load_native(path):
    """The native part, loaded without an entry in sys.modules."""
    import _imp

    # not through the importlib package: the program would find it imported, and the machinery renamed
    loader = sys.modules["_frozen_importlib_external"].ExtensionFileLoader("_native", path)
    spec = sys.modules["_frozen_importlib"].ModuleSpec("_native", loader, origin=path)
    module = _imp.create_dynamic(spec)
    _imp.exec_dynamic(module)
    return module


def _load_pure(path):
    """The recorder in Python, as a name space of its own; what it imports is not left for the program to see."""
    before = set(sys.modules)
    with open(path, encoding="utf-8") as file:
        source = file.read()
    space = {"__name__": "ricerca_hook", "__file__": path}
    exec(compile(source, path, "exec"), space)

    def start(*arguments):
        space["start"](*arguments)
        _passed_on.append(space["ours"])
        for name in set(sys.modules) - before - {"atexit"}:
            del sys.modules[name]

    return start


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


def _new_file(path):
    """A file that was not there before; a process that starts another program in its own place leaves several."""
    for number in range(100):
        name = path if number == 0 else "{}.{}".format(path, number)
        with suppress(FileExistsError):
            os.close(os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
            return name
    raise OSError("too many recordings of one process")


def _keys(path):
    """First line, name and file of the functions that alone are timed."""
    with open(path, encoding="utf-8", errors="surrogateescape", newline="\n") as file:
        rows = [line.rstrip("\n").split("\t", 2) for line in file]
    return [(int(row[0]), row[1], row[2]) for row in rows]


def _record(settings):
    recording = settings["RECORDING"]
    builds = dict(pair.split("=", 1) for pair in settings["NATIVE"].split("\n") if pair)
    import _imp

    native = builds.get(_imp.extension_suffixes()[0])
    if settings["CHILD"]:
        if sys.version_info < (3, 9) or "t" in getattr(sys, "abiflags", ""):
            return
        recording = _new_file("{}.{}".format(recording, os.getpid()))
    try:
        lines, inside = (settings[name].split("\n") if settings[name] else [] for name in ("LINES", "INSIDE"))
        options = [int(settings["LIMIT"]), lines, inside, bool(settings["PAUSED"]), bool(settings["PUBLIC"])]
        if settings["TIMED"]:
            options.append(_keys(settings["TIMED"]))
        start = _load_native(native).start if native else _load_pure(settings["PURE"])
        start(recording, *options)
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
