"""The recorder in Python alone, for where there is no C compiler: same events, same file, same counts.

It is loaded by the start-up module as a name space of its own, not as a module of the program.
Standard library only, Python 3.9 to 3.13. Slower by far than the native part; the run says which
one it was. Of slices and spans it keeps none. One file, however long, because it is loaded as one name space.
"""

import _thread
import gc
import mmap
import os
import struct
import sys
from time import clock_gettime_ns, monotonic_ns, thread_time_ns

# ---- made from model/format.toml by make layout
MAGIC, FORMAT, ENDIAN = b"RICERCA\0", 1, 0x01020304
HEADER_BYTES, DIRECTORY = 4096, 1024
PYTHON = 1
BUILTIN = 2
THREAD = 3
IMPORT = 4
COLLECTION = 5
REGION = 6
CHILD = 7
SITE = 8
ABOVE = 9
HOOK_PYTHON = 3
CLOCK_MONO = 2
CONTROL_GO = 0
CONTROL_PAUSE = 1
CONTROL_FINISH = 2
FLAG_CONTEXTS_FULL = 1
FLAG_FUNCTIONS_FULL = 2
FLAG_STRINGS_FULL = 4
FLAG_DISK_FULL = 8
FLAG_LIMIT_REACHED = 16
FLAG_LINES = 32
FLAG_HOOK_TAKEN = 64
FLAG_THREADS_FULL = 128
FLAG_LINES_FULL = 256
FLAG_SLICES_FULL = 512
FLAG_SPANS_FULL = 1024
FLAG_PAUSED = 2048
FLAG_MEMORY_FULL = 4096
FLAG_FINISHED = 8192
FLAG_PUBLIC_ONLY = 16384
FLAG_TIMED_ONLY = 32768
STRINGS, FUNCTIONS, THREADS, LINES, CONTEXTS, SLICES, SPANS = range(7)
RECORD_BYTES = (1, 64, 64, 32, 64, 32, 24)
NAMES = (b"strings", b"functions", b"threads", b"lines", b"contexts", b"slices", b"spans")
FULL_FLAGS = (
    FLAG_STRINGS_FULL,
    FLAG_FUNCTIONS_FULL,
    FLAG_THREADS_FULL,
    FLAG_LINES_FULL,
    FLAG_CONTEXTS_FULL,
    FLAG_SLICES_FULL,
    FLAG_SPANS_FULL,
)
HEAD_FORMAT = 2
HEAD_ENDIAN = 3
HEAD_FILE_BYTES = 2
HEAD_STATE = 6
HEAD_FLAGS = 7
HEAD_START_TICKS = 4
HEAD_START_MONO_NS = 5
HEAD_LAST_TICKS = 6
HEAD_LAST_MONO_NS = 7
HEAD_START_UNIX_NS = 8
HEAD_NS_PER_TICK = 9
HEAD_PID = 20
HEAD_PYTHON_HEX = 21
HEAD_CLOCK = 22
HEAD_TABLE_COUNT = 23
HEAD_LIMIT_BYTES = 12
HEAD_ALLOCATED_BYTES = 13
HEAD_END_MONO_NS = 14
HEAD_PYTHON_INSIDE_NS = 15
HEAD_PYTHON_OUTSIDE_NS = 16
HEAD_CALLBACK_INSIDE_NS = 17
HEAD_CALLBACK_OUTSIDE_NS = 18
HEAD_BUILTIN_INSIDE_NS = 19
HEAD_BUILTIN_OUTSIDE_NS = 20
HEAD_LINE_NS = 21
HEAD_BYTECODE_FACTOR = 22
HEAD_NAMES_FACTOR = 23
HEAD_HOOK = 48
HEAD_CONTROL = 49
HEAD_SLICE_TICKS = 25
HEAD_SPAN_TICKS = 26
HEAD_LOOKUP_FACTOR = 27
HEAD_LOOKUP_SHARE = 28
HEAD_PYTHON_WORK_NS = 29
HEAD_BUILTIN_WORK_NS = 30
HEAD_UNSEEN_THREADS = 70
HEAD_UNSEEN_INTERPRETERS = 71
HEAD_TAKEN_HOOKS = 72
HEAD_STRANGE_STACKS = 73
HEAD_UNWATCHED_CALL_NS = 37
HEAD_UNWATCHED_DEEP_NS = 38
HEAD_DEEP_CALLS = 78
HEAD_PARENT_PID = 79
HEAD_SETUP_NS = 40
HEAD_UNWATCHED_RESUME_NS = 41
FUNCTION_KIND = 0
FUNCTION_FIRST_LINE = 1
FUNCTION_NAME_OFFSET = 2
FUNCTION_NAME_BYTES = 3
FUNCTION_MODULE_OFFSET = 4
FUNCTION_MODULE_BYTES = 5
FUNCTION_FILE_OFFSET = 6
FUNCTION_FILE_BYTES = 7
FUNCTION_CODE_FLAGS = 8
FUNCTION_CHOSEN = 9
FUNCTION_OVERFLOW_CALLS = 5
FUNCTION_OVERFLOW_RESUMES = 6
FUNCTION_NESTING = 15
THREAD_NATIVE_ID = 0
THREAD_ROOT = 2
THREAD_TOP = 3
THREAD_NAME_OFFSET = 4
THREAD_NAME_BYTES = 5
THREAD_ENDED = 6
THREAD_DEPTH = 7
THREAD_START_TICKS = 4
THREAD_LAST_TICKS = 5
THREAD_IDENT = 6
THREAD_SPARE = 7
LINE_FUNCTION = 0
LINE_LINE = 1
LINE_HITS = 1
LINE_SELF_TICKS = 2
LINE_WAITING_TICKS = 3
CONTEXT_PARENT = 0
CONTEXT_FUNCTION = 1
CONTEXT_LINE = 2
CONTEXT_SLICE_ROW = 3
CONTEXT_CALLS = 2
CONTEXT_RESUMES = 3
CONTEXT_SELF_TICKS = 4
CONTEXT_WAITING_TICKS = 5
CONTEXT_THREAD = 12
CONTEXT_HINT = 13
CONTEXT_LONG_TICKS = 7
SLICE_CONTEXT = 0
SLICE_SLICE = 1
SLICE_CALLS = 1
SLICE_SELF_TICKS = 2
SLICE_WAITING_TICKS = 3
SPAN_CONTEXT = 0
SPAN_THREAD = 1
SPAN_START_TICKS = 1
SPAN_END_TICKS = 2
# ---- end of what make layout makes
CHUNK, WAIT_NS, BRIEF_NS = 64 << 10, 20_000, 4_000
MOST_MAPPED = 192 << 20
GENERATOR_FLAGS = 0x20 | 0x80 | 0x200
RESUME = 149 if sys.version_info >= (3, 13) else 151
HEAP_TYPE = 1 << 9
MONITORING = sys.version_info >= (3, 12)
MOST_CODES = 50_000
MOST_TEXT = 160
WAITERS = {"waitpid", "poll", "select", "read", "readall", "readline", "readlines", "write"}

MISSING = sys.monitoring.MISSING if MONITORING else None

_type_name = type.__dict__["__name__"].__get__
_type_qualname = type.__dict__["__qualname__"].__get__
_type_dict = type.__dict__["__dict__"].__get__
_type_module = type.__dict__["__module__"].__get__
_type_flags = type.__dict__["__flags__"].__get__
_type_mro = type.__dict__["__mro__"].__get__
_builtin = type(len)
_bound = type((lambda: 0).__get__(0))
_python_function = type(lambda: 0)
_slot = type(object.__init__)
_getset = type(type.__dict__["__module__"])
_member = type(_python_function.__dict__["__globals__"])
_method = type(str.join)
_get_ident = _thread.get_ident
_frame_at = sys._getframe
_lock = _thread.RLock()
_local = _thread._local()
_own_space = globals()


class Code:
    """What is known of a code object."""

    __slots__ = ("child", "chosen", "first", "function", "imports", "inside", "kept", "lines", "resumable")


class Stack:
    """One thread's shadow stack. Entries are [frame, code, context, overflow, line]; code is None for a builtin."""

    __slots__ = ("cpu", "cpu_at", "entries", "index", "last", "row", "tries")


# The recording, rebound in a forked child.
fd = -1
path = ""
space = u32 = u64 = None
offsets = []
counts = []
capacities = []
allocated = []
strings = {}
functions = {}
contexts = {}
lines = {}
codes = {}
builtins = {}
waiting_rows = set()
root_function = 0
active = False
muted = False
patterns = []
insides = []
follow_lines = False
real_start = None
ours = {}


# ---- the tables


def _page_up(count):
    return (count + 4095) & ~4095


def _open(place, limit):
    global fd, path, space, u32, u64
    path = place
    fd = os.open(place, os.O_RDWR)
    limit = min(limit, MOST_MAPPED)  # it is mapped whole, and the program may have little room for that
    shares = (limit // 16, limit // 16 // 64, limit // 128 // 64, limit // 32 // 32, (limit - limit // 3) // 64, 1, 1)
    at = HEADER_BYTES
    for which, capacity in enumerate(shares):
        offsets.append(at)
        counts.append(1)
        capacities.append(capacity)
        allocated.append(0)
        at += _page_up(capacity * RECORD_BYTES[which])
    os.posix_fallocate(fd, 0, HEADER_BYTES)
    os.ftruncate(fd, at)
    _map(at)
    now = monotonic_ns()
    u32[HEAD_FORMAT], u32[HEAD_ENDIAN], u64[HEAD_FILE_BYTES], u32[HEAD_STATE] = FORMAT, ENDIAN, at, 1
    u64[HEAD_START_TICKS] = u64[HEAD_START_MONO_NS] = u64[HEAD_LAST_TICKS] = u64[HEAD_LAST_MONO_NS] = now
    u64[HEAD_START_UNIX_NS] = clock_gettime_ns(0)
    u32[HEAD_PID], u32[HEAD_PYTHON_HEX], u32[HEAD_CLOCK] = os.getpid(), sys.hexversion, CLOCK_MONO
    u32[HEAD_PARENT_PID] = os.getppid()
    u32[HEAD_TABLE_COUNT], u64[HEAD_LIMIT_BYTES], u64[HEAD_ALLOCATED_BYTES] = len(shares), limit, HEADER_BYTES
    u32[HEAD_HOOK] = HOOK_PYTHON
    for place in (HEAD_NS_PER_TICK, HEAD_BYTECODE_FACTOR, HEAD_NAMES_FACTOR):
        struct.pack_into("<d", space, place * 8, 1.0)
    for which in range(len(shares)):
        _room(which, 0)
        _write_row(which)


def _map(size):
    global space, u32, u64
    space = mmap.mmap(fd, size)
    whole = memoryview(space)
    u32, u64 = whole.cast("I"), whole.cast("Q")


def _write_row(which):
    struct.pack_into(
        "<16sQQQQQQ", space, DIRECTORY + which * 64, NAMES[which], offsets[which], RECORD_BYTES[which], capacities[which],
        counts[which], allocated[which], 0,
    )  # fmt: skip


def _flag(bits):
    u32[HEAD_FLAGS] |= bits


def _room(which, more):
    """Whether the table has room for so many more records."""
    if counts[which] + more > capacities[which]:
        _flag(FULL_FLAGS[which] | (FLAG_LIMIT_REACHED if which < SLICES else 0))
        return False
    needed = (counts[which] + more) * RECORD_BYTES[which]
    while needed > allocated[which]:
        step = min(_page_up(allocated[which] // 4 + CHUNK), _page_up(capacities[which] * RECORD_BYTES[which]) - allocated[which])
        if u64[HEAD_ALLOCATED_BYTES] + step > u64[HEAD_LIMIT_BYTES]:
            _flag(FULL_FLAGS[which] | FLAG_LIMIT_REACHED)
            return False
        try:
            os.posix_fallocate(fd, offsets[which] + allocated[which], step)
        except OSError:
            _flag(FULL_FLAGS[which] | FLAG_DISK_FULL)
            return False
        allocated[which] += step
        u64[HEAD_ALLOCATED_BYTES] += step
        _write_row(which)
    return True


def _added(which, more=1):
    """Index of the next record, which is complete now."""
    index = counts[which]
    counts[which] += more
    u64[(DIRECTORY + which * 64 + 40) // 8] = counts[which]
    return index


def _string(text):
    if not text:
        return 0, 0
    known = strings.get(text)
    if known is None:
        raw = text.encode("utf-8", "backslashreplace")
        if not _room(STRINGS, len(raw)):
            return 0, 0
        at = offsets[STRINGS] + counts[STRINGS]
        space[at : at + len(raw)] = raw
        known = strings[text] = (_added(STRINGS, len(raw)), len(raw))
    return known


def _function(kind, name, module="", file="", line=0, flags=0, chosen=0, nesting=0):
    key = (kind, name, module, file, line, nesting)
    known = functions.get(key)
    if known is None:
        with _lock:
            if key in functions:  # another thread was first
                return functions[key]
            if not _room(FUNCTIONS, 1):
                return 0
            if kind == BUILTIN and name.rsplit(".", 1)[-1] in WAITERS:
                waiting_rows.add(counts[FUNCTIONS])
            at = offsets[FUNCTIONS] + counts[FUNCTIONS] * 64
            texts = (*_string(name), *_string(module), *_string(file))
            struct.pack_into("<10IQQHHI", space, at, kind, line, *texts, flags, chosen, 0, 0, 0, 0xFFFF, nesting)
            known = functions[key] = _added(FUNCTIONS)
    return known


def _context(stack, parent, function, line):
    """The context of this callee and call site below parent, 0 without room."""
    if function == 0:
        return 0
    key = (parent, function, line)
    known = contexts.get(key)
    if known is None:
        with _lock:
            if key in contexts:  # another thread was first
                return contexts[key]
            if stack is not None:
                _name_thread(stack)
            if not _room(CONTEXTS, 1):
                return 0
            at = (offsets[CONTEXTS] + counts[CONTEXTS] * 64) // 4
            u32[at], u32[at + 1], u32[at + 2] = key
            u32[at + CONTEXT_THREAD] = stack.index if stack is not None else counts[THREADS]
            known = contexts[key] = _added(CONTEXTS)
    return known


def _line(function, line):
    key = (function, line)
    known = lines.get(key)
    if known is None:
        with _lock:
            if key in lines:  # another thread was first
                return lines[key]
            if not _room(LINES, 1):
                return 0
            at = (offsets[LINES] + counts[LINES] * 32) // 4
            u32[at], u32[at + 1] = key
            known = lines[key] = _added(LINES)
    return known


# ---- names


def _matches(text, wanted):
    import fnmatch

    base = text.rsplit("/", 1)[-1]
    return any(fnmatch.fnmatchcase(text, pattern) or fnmatch.fnmatchcase(base, pattern) for pattern in wanted)


def _text(value):
    return value if type(value) is str else ""


def _nesting(code, name, line):
    """How many functions of this name and line lie inside each other within a code object."""
    inner = [constant for constant in code.co_consts if hasattr(constant, "co_code")]
    return max(
        [(code_within.co_name == name and code_within.co_firstlineno == line) + _nesting(code_within, name, line) for code_within in inner],
        default=0,
    )


def _code(code, frame):
    """What is known of a code object; met for the first time, it is described."""
    info = Code()
    name = getattr(code, "co_qualname", code.co_name)
    file, module = code.co_filename, _text(frame.f_globals.get("__name__"))
    info.kept = code
    info.chosen = bool(patterns) and any(text and _matches(text, patterns) for text in (name, file, module))
    line = 1 if name == "<module>" else code.co_firstlineno
    nesting = _nesting(code, name, code.co_firstlineno) if name[:1] == "<" and sys.version_info < (3, 11) else 0
    info.function = _function(PYTHON, name, module, file, line, code.co_flags, info.chosen, nesting)
    info.resumable = bool(code.co_flags & GENERATOR_FLAGS)
    info.inside = bool(insides) and _matches(name, insides)
    info.imports = file.endswith("importlib._bootstrap>") and code.co_name == "_find_and_load"
    info.child = file.endswith("/subprocess.py") and code.co_varnames[:1] == ("self",)
    info.first = -1
    if sys.version_info >= (3, 11) and info.resumable:
        raw = code.co_code
        info.first = next((at for at in range(0, len(raw), 2) if raw[at] == RESUME), 0)
    info.lines = None
    if len(codes) > MOST_CODES:
        codes.clear()
        _ignore_own()
    codes[id(code)] = info
    return info


def _lines_of(code):
    """Line of each instruction; one without a line counts to the one before."""
    found = [0] * (len(code.co_code) // 2 + 1)
    last = code.co_firstlineno
    for start, end, line in code.co_lines():
        last = last if line is None else line
        for unit in range(start // 2, end // 2):
            found[unit] = last
    return found


def _line_of_call(stack, frame):
    """The line from which the running function calls."""
    info = stack.entries[-1][1]
    if info is None or frame is None:
        return 0
    if sys.version_info < (3, 10):
        return frame.f_lineno
    if info.lines is None:
        info.lines = _lines_of(info.kept)
    unit = frame.f_lasti // 2
    return info.lines[unit] if 0 <= unit < len(info.lines) else 0


def _builtin_row(function):
    owner = function.__self__
    module = function.__module__
    if module is None and owner is not None and type(owner) is not type(sys):
        return _method_row(function.__name__, owner if isinstance(owner, type) else type(owner))
    key = (function.__name__, _text(module))
    known = builtins.get(key)
    if known is None:
        known = builtins[key] = _function(BUILTIN, *key)
    return known


def _method_row(name, owner):
    if _type_flags(owner) & HEAP_TYPE:
        module = _text(_type_dict(owner).get("__module__"))
        full = _type_qualname(owner) + "." + name
    else:
        module = _text(_type_module(owner)) or "builtins"
        full = _type_name(owner) + "." + name
    return _function(BUILTIN, full, module)


def _name_thread(stack):
    if stack.tries >= 64:
        return
    stack.tries += 1
    known = getattr(sys.modules.get("threading"), "_active", {}).get(_get_ident())
    name = getattr(known, "__dict__", {}).get("_name")
    if type(name) is str and name:
        at = (offsets[THREADS] + stack.index * 64) // 4
        u32[at + THREAD_NAME_OFFSET], u32[at + THREAD_NAME_BYTES] = _string(name)
        stack.tries = 64


# ---- the shadow stack


def _new_stack():
    stack = Stack()
    with _lock:
        if not _room(THREADS, 1):
            return None
        index = counts[THREADS]
        root = _context(None, 0, root_function, index)
        if root == 0:
            return None
        stack.index, stack.tries, stack.last = index, 0, monotonic_ns()
        at = offsets[THREADS] + index * 64
        struct.pack_into("<QIIIIIIQQQQ", space, at, _thread.get_native_id(), root, root, 0, 0, 0, 0, stack.last, stack.last, 0, 0)
        stack.row = at // 4
        _added(THREADS)
    stack.entries = [[0, None, root, False, 0]]
    stack.cpu, stack.cpu_at = thread_time_ns(), monotonic_ns()
    _local.stack = stack
    return stack


def _own():
    try:
        return _local.stack
    except AttributeError:
        return _new_stack()


def _book(stack, now):
    """Book the time since the last event on what was running."""
    gap = now - stack.last
    if gap < 0:
        return  # a collection began while an event was being told
    stack.last = now
    u64[stack.row // 2 + THREAD_LAST_TICKS] = now
    entries = stack.entries
    if lent is not None and len(entries) <= lent[0]:
        _give_back()
    if len(entries) == 1 or muted:
        return
    top = entries[-1]
    at = (offsets[CONTEXTS] + top[2] * 64) // 8
    waiting = child = 0
    if gap > WAIT_NS:
        cpu = thread_time_ns()
        waiting = min(max((now - stack.cpu_at) - (cpu - stack.cpu), 0), gap)
        stack.cpu, stack.cpu_at = cpu, now
        if waiting:
            child = _waits_for(stack)
        u64[HEAD_LAST_TICKS] = u64[HEAD_LAST_MONO_NS] = now
    if child:
        below = (offsets[CONTEXTS] + child * 64) // 8
        u64[below + CONTEXT_SELF_TICKS] += waiting
        u64[below + CONTEXT_WAITING_TICKS] += waiting
        u64[below + CONTEXT_LONG_TICKS] += waiting
        u64[at + CONTEXT_SELF_TICKS] += gap - waiting
    else:
        u64[at + CONTEXT_SELF_TICKS] += gap
        u64[at + CONTEXT_WAITING_TICKS] += waiting
    if gap >= BRIEF_NS:
        u64[at + CONTEXT_LONG_TICKS] += gap - waiting if child else gap
    if top[4]:
        at = (offsets[LINES] + top[4] * 32) // 8
        u64[at + LINE_SELF_TICKS] += gap
        u64[at + LINE_WAITING_TICKS] += waiting


def _count(context, function, what):
    """what: 0 a call, 1 a resume, 2 neither."""
    if muted or what == 2:
        return
    if context:
        u64[(offsets[CONTEXTS] + context * 64) // 8 + CONTEXT_CALLS + what] += 1
    elif function:
        u64[(offsets[FUNCTIONS] + function * 64) // 8 + FUNCTION_OVERFLOW_CALLS + what] += 1


def _push(stack, frame, code, context):
    parent = stack.entries[-1][2]
    stack.entries.append([frame, code, context or parent, context == 0, 0])
    u32[stack.row + THREAD_TOP] = context or parent


def _enter(stack, function, frame, code, line, what):
    caller = stack.entries[-1]
    context = 0 if caller[3] else _context(stack, caller[2], function, line)
    _count(context, function, what)
    _push(stack, frame, code, context)


def _leave(stack, frame, builtin):
    entries = stack.entries
    for depth in range(len(entries) - 1, 0, -1):
        if entries[depth][0] == frame and (entries[depth][1] is None) == builtin:
            del entries[depth:]
            u32[stack.row + THREAD_TOP] = entries[-1][2]
            return


def _held_up():
    """Whether the recording has ended on the person's wish; a pause begins or ends here, too."""
    global active, muted
    control = u32[HEAD_CONTROL]
    if not control and not muted:
        return False
    if control == CONTROL_PAUSE and not muted:
        _flag(FLAG_PAUSED)
        muted = True
    elif control == CONTROL_GO and muted:
        muted = False
    elif control == CONTROL_FINISH:
        _flag(FLAG_FINISHED)
        close()
        active = False
    return not active


def _enter_code(stack, code, frame):
    info = codes.get(id(code))
    if info is None:
        info = _code(code, frame)
        if follow_lines and MONITORING and info.chosen:
            sys.monitoring.set_local_events(_tool, code, sys.monitoring.events.LINE)
    if info is _IGNORED:
        return
    if insides and len(stack.entries) == 1 and not info.inside:
        return
    what = 0
    if info.resumable:
        at = frame.f_lasti
        what = 0 if at == info.first or (info.first < 0 and at < 0) else 1 if at > info.first else 2
    line = _line_of_call(stack, frame.f_back)
    if info.imports and len(stack.entries) > 1 and not stack.entries[-1][3]:
        item = _function(IMPORT, ("import " + _text(frame.f_locals.get("name")))[:MOST_TEXT])
        _enter(stack, item, id(frame), info, line, 0)
        _enter(stack, info.function, -id(frame), info, 0, 0)
        return
    _enter(stack, info.function, id(frame), info, line, what)


# ---- items


def _command(words):
    text = " ".join(_word(word) for word in words) if isinstance(words, (list, tuple)) else _word(words)
    text = text.replace("\n", " ")
    return text if len(text) < MOST_TEXT else text[:MOST_TEXT] + "\u2026"


def _word(word):
    try:
        return os.fsdecode(word)
    except TypeError:
        return ""


def _waits_for(stack):
    """Context of the child process that this thread waits for, 0 for none."""
    top = stack.entries[-1]
    if top[1] is not None or u32[(offsets[CONTEXTS] + top[2] * 64) // 4 + CONTEXT_FUNCTION] not in waiting_rows:
        return 0
    wanted = {entry[0] for entry in stack.entries[-8:] if entry[1] is not None and entry[1].child}
    frame = _frame_at(1) if wanted else None
    while frame is not None:
        if id(frame) in wanted:
            command = getattr(frame.f_locals.get("self"), "args", None)
            if command is None:
                return 0
            return _context(stack, stack.entries[-1][2], _function(CHILD, _command(command)), 0)
        frame = frame.f_back
    return 0


def _on_collection(phase, _facts):
    stack = getattr(_local, "stack", None)
    if not active or stack is None or len(stack.entries) == 1 or stack.entries[-1][3]:
        return
    _book(stack, monotonic_ns())
    if phase == "start":
        _enter(stack, _function(COLLECTION, "garbage collection"), -1, None, 0 if stack.entries[-1][1] is None else _line_here(stack), 0)
    else:
        _leave(stack, -1, True)


def _line_here(stack):
    return _line_of_call(stack, _program_frame())


def _program_frame():
    frame = _frame_at(0)
    while frame is not None and codes.get(id(frame.f_code)) is _IGNORED:
        frame = frame.f_back
    return frame


def _frame_of(stack, depth):
    frame = _program_frame()
    while frame is not None and id(frame) != abs(stack.entries[depth][0]):
        frame = frame.f_back
    return frame


def _running_depth(stack):
    depth = len(stack.entries) - 1
    while depth > 0 and stack.entries[depth][1] is None:
        depth -= 1
    return depth


def _insert(stack, depth, kind, name):
    """A region begins in the depth-th entry."""
    below = stack.entries[depth]
    rest = stack.entries[depth + 1 :]
    del stack.entries[depth + 1 :]
    frame = _frame_of(stack, depth)
    context = 0 if below[3] else _context(stack, below[2], _function(kind, name), _line_of_call(stack, frame))
    if context:
        _count(context, 0, 0)
        stack.entries.append([-abs(below[0]), below[1], context, False, 0])
    stack.entries.extend(rest)


def _on_audit(event, arguments):
    if not active or event[0] not in "sorc":
        return
    if event == "cpython.PyInterpreterState_New":
        u32[HEAD_UNSEEN_INTERPRETERS] += 1
    if event not in ("ricerca.region", "ricerca.region.end", "subprocess.Popen", "os.posix_spawn", "os.system", "os.exec"):
        return
    stack = getattr(_local, "stack", None)
    if stack is None or len(stack.entries) == 1:
        return
    _book(stack, monotonic_ns())
    depth = _running_depth(stack)
    if event == "ricerca.region":
        inner = stack.entries[depth][1]
        entering = depth > 1 and inner.kept.co_name == "__enter__" and stack.entries[depth - 1][1] is not None
        _insert(stack, depth - 1 if entering else depth, REGION, str(arguments[0])[:MOST_TEXT])
    elif event == "ricerca.region.end":
        wanted = _function(REGION, str(arguments[0])[:MOST_TEXT])
        for at in range(len(stack.entries) - 1, 0, -1):
            entry = stack.entries[at]
            if entry[1] is not None and entry[0] < 0 and u32[(offsets[CONTEXTS] + entry[2] * 64) // 4 + CONTEXT_FUNCTION] == wanted:
                del stack.entries[at]
                break
    elif event == "os.system":
        top = stack.entries[-1]
        if top[1] is None and not top[3]:
            context = _context(stack, top[2], _function(CHILD, _command(arguments[0])), 0)
            if context:
                _count(context, 0, 0)
                top[2] = context
    elif event == "os.exec":
        close()
    elif depth and not stack.entries[depth][3]:
        caller = stack.entries[depth]
        if event == "os.posix_spawn" and caller[1].child:
            return
        kept = stack.entries[depth + 1 :]
        del stack.entries[depth + 1 :]
        line = _line_of_call(stack, _frame_of(stack, depth))
        stack.entries.extend(kept)
        context = _context(stack, caller[2], _function(CHILD, _command(arguments[1])), line)
        _count(context, 0, 0)
        if caller[1].child and event == "subprocess.Popen" and arguments[3] is not None:
            _lend(arguments[3], depth)


lent = None


def _lend(env, depth):
    """A child that gets an environment of its own: our variables go along, and are taken out when it runs."""
    global lent
    real = getattr(env, "_data", None) if type(env).__name__ == "_Environ" else env
    if lent is not None or type(real) is not dict or not ours:
        return
    lent = (depth, real, dict(real))
    as_bytes = real is not env
    entry = ours["PYTHONPATH"].split(os.pathsep)[0]
    before = env.get("PYTHONPATH")
    values = {**ours, "PYTHONPATH": entry if not before else entry + os.pathsep + os.fsdecode(before)}
    values.pop("RICERCA_PYTHONPATH", None)
    if before is not None:
        values["RICERCA_PYTHONPATH"] = os.fsdecode(before)
    real.update({os.fsencode(k): os.fsencode(v) for k, v in values.items()} if as_bytes else values)


def _give_back():
    global lent
    _depth, real, before = lent
    lent = None
    for key in list(real):
        name = os.fsdecode(key)
        if name.startswith("RICERCA_") or name == "PYTHONPATH":
            if key in before:
                real[key] = before[key]
            else:
                del real[key]


# ---- events


def _begins(code, frame):
    owner = frame.f_globals.get("__name__")
    return (code.co_name, owner) in (("<module>", "__main__"), ("_run_module_as_main", "runpy"))


def _begin(stack):
    global active
    entry = sys.modules.get("sitecustomize")
    if getattr(entry, "_make_way", None) is not None:
        del sys.modules["sitecustomize"]
    now = monotonic_ns()
    u64[HEAD_START_TICKS] = u64[HEAD_START_MONO_NS] = u64[HEAD_LAST_TICKS] = u64[HEAD_LAST_MONO_NS] = now
    u64[HEAD_START_UNIX_NS] = clock_gettime_ns(0)
    stack.last = now
    stack.cpu, stack.cpu_at = thread_time_ns(), now
    active = True


def _waiting_profile(frame, event, argument):
    if event == "call" and _begins(frame.f_code, frame):
        _begin(_own())
        _put(sys.setprofile, _on_profile)
        if follow_lines:
            _put(sys.settrace, _on_trace)
            info = codes.get(id(frame.f_code)) or _code(frame.f_code, frame)
            if info.chosen:
                frame.f_trace = _on_line_traced
        _on_profile(frame, event, argument)


def _on_profile(frame, event, argument):
    now = monotonic_ns()
    code = frame.f_code
    info = codes.get(id(code))
    stack = _own()
    if not active or stack is None or _held_up():
        return
    if info is _IGNORED:
        if code is _START_CODE and event in ("call", "return"):
            _book(stack, now)
            if event == "call":
                _enter(stack, _builtin_row(real_start), id(frame), None, _line_of_call(stack, frame.f_back), 0)
            else:
                _leave(stack, id(frame), True)
        return
    _book(stack, now)
    if event == "call":
        _enter_code(stack, code, frame)
    elif event == "return":
        entry = stack.entries[-1]
        if (
            sys.version_info < (3, 11)
            and argument is None
            and frame.f_lasti < 0
            and entry[0] == id(frame)
            and entry[1].resumable
            and not muted
        ):
            u64[(offsets[CONTEXTS] + entry[2] * 64) // 8 + CONTEXT_CALLS] -= 1
        _leave(stack, id(frame), False)
    elif event == "c_call":
        if len(stack.entries) > 1:
            row = _builtin_row(argument)
            if argument.__name__ == "_exit" and argument.__module__ == "posix":
                close()
            _enter(stack, row, id(frame), None, _line_of_call(stack, frame), 0)
    else:
        _leave(stack, id(frame), True)


def _on_trace(frame, _event, _argument):
    info = codes.get(id(frame.f_code)) or _code(frame.f_code, frame)
    return _on_line_traced if info is not _IGNORED and info.chosen else None


def _on_line_traced(frame, event, _argument):
    if event == "line" and active:
        _hit_line(frame, frame.f_lineno)
    return _on_line_traced


def _hit_line(frame, number):
    stack = _own()
    _book(stack, monotonic_ns())
    top = stack.entries[-1]
    if len(stack.entries) > 1 and top[1] is not None and not top[3] and abs(top[0]) == id(frame) and top[1].chosen:
        top[4] = _line(top[1].function, number)
        if top[4]:
            u64[(offsets[LINES] + top[4] * 32) // 8 + LINE_HITS] += 1


_waiting = False


def _on_enter(code, _offset, *_):
    global _waiting
    now = monotonic_ns()
    frame = _frame_at(1)
    if not active:
        if not _waiting or not _begins(code, frame):
            return
        _waiting = False
        _begin(_own())
    stack = _own()
    if stack is None or _held_up():
        return
    _book(stack, now)
    _enter_code(stack, code, frame)


def _on_leave(code, _offset, *_):
    now = monotonic_ns()
    stack = getattr(_local, "stack", None)
    if not active or stack is None or _held_up() or codes.get(id(code)) is _IGNORED:
        return
    _book(stack, now)
    _leave(stack, id(_frame_at(1)), False)


def _found(owner, name):
    """What a type, or one it inherits from, has under a name; without running anything of the program."""
    for above in _type_mro(owner):
        space = _type_dict(above)
        if name in space:
            return space[name]
    return None


def _runs_python(owner, name):
    found = _found(owner, name)
    return found is not None and type(found) is not _slot


NOT_COUNTED, FUNCTION, METHOD, OTHER, MAKER = range(5)


def _kind_of(function, argument):
    """What is called: nothing that is counted here, a builtin function or method, another callable, or a class that Python makes ready."""
    kind = type(function)
    if kind is _bound:
        return _kind_of(function.__func__, function)
    if kind is _python_function:
        return NOT_COUNTED
    if kind is _builtin or _builtin in _type_mro(kind):
        return FUNCTION
    if kind is _method:
        return NOT_COUNTED if argument is MISSING else METHOD
    if type in _type_mro(kind):
        made = type(_found(function, "__new__")) is staticmethod
        python = made or _runs_python(function, "__init__") or _runs_python(kind, "__call__")
        return MAKER if python else OTHER
    return NOT_COUNTED if _runs_python(kind, "__call__") else OTHER


def _own_text(function, name):
    descriptor = _found(type(function), name)
    value = descriptor.__get__(function) if type(descriptor) in (_getset, _member) else None
    return value if type(value) is str else ""


def _module_of(owner):
    if _type_flags(owner) & HEAP_TYPE:
        return _text(_type_dict(owner).get("__module__"))
    return _text(_type_module(owner)) or "builtins"


def _other_row(function):
    if type in _type_mro(type(function)):
        return _function(BUILTIN, (_type_qualname if _type_flags(function) & HEAP_TYPE else _type_name)(function), _module_of(function))
    name = _own_text(function, "__qualname__") or _own_text(function, "__name__")
    if name:
        return _function(BUILTIN, name, _own_text(function, "__module__") or _module_of(type(function)))
    owner = type(function)
    name = (_type_qualname if _type_flags(owner) & HEAP_TYPE else _type_name)(owner)
    return _function(BUILTIN, name + ".__call__", _module_of(owner))


def _row_of(kind, function, argument):
    if type(function) is _bound:
        function, argument = function.__func__, function.__self__
    if kind == METHOD:
        return _method_row(function.__name__, type(argument))
    return _builtin_row(function) if kind == FUNCTION else _other_row(function)


def _on_call(code, _offset, function, argument):
    now = monotonic_ns()
    stack = getattr(_local, "stack", None)
    if not active or stack is None or len(stack.entries) == 1 or codes.get(id(code)) is _IGNORED:
        return
    kind = _kind_of(function, argument)
    if kind == NOT_COUNTED or _held_up():
        return
    _book(stack, now)
    frame = _frame_at(1)
    row = _row_of(kind, function, argument)
    if kind == MAKER:
        caller = stack.entries[-1]
        _count(0 if caller[3] else _context(stack, caller[2], row, _line_of_call(stack, frame)), row, 0)
        return
    if kind == FUNCTION and function.__name__ == "_exit" and function.__module__ == "posix":
        close()
    _enter(stack, row, id(frame), None, _line_of_call(stack, frame), 0)


def _on_builtin_end(code, _offset, function, argument):
    now = monotonic_ns()
    stack = getattr(_local, "stack", None)
    if not active or stack is None or codes.get(id(code)) is _IGNORED or _kind_of(function, argument) in (NOT_COUNTED, MAKER):
        return
    _book(stack, now)
    _leave(stack, id(_frame_at(1)), True)


def _on_line(_code_object, number):
    if active and getattr(_local, "stack", None) is not None:
        _hit_line(_frame_at(1), number)


_tool = -1


def _put(place, hook):
    """Put a hook in, or take it out; the interpreter refuses while another thread is in the middle of the same, so again then."""
    while True:
        try:
            return place(hook)
        except RuntimeError as problem:
            if "while another" not in str(problem):  # somebody's own rule against it
                raise


def _install(now):
    """Put the hook in on this thread; with now, recording begins with the next event."""
    global _tool, _waiting, active
    active, _waiting = now, not now
    if not MONITORING:
        _put(sys.setprofile, _on_profile if now else _waiting_profile)
        return
    events = sys.monitoring.events
    for number in (3, 4):
        if sys.monitoring.get_tool(number) is None:
            _tool = number
            sys.monitoring.use_tool_id(number, "ricerca")
            break
    else:
        raise RuntimeError("no monitoring tool number is free")
    wired = {
        _on_enter: ("PY_START", "PY_RESUME", "PY_THROW"), _on_leave: ("PY_RETURN", "PY_YIELD", "PY_UNWIND"), _on_call: ("CALL",),
        _on_builtin_end: ("C_RETURN", "C_RAISE"), _on_line: ("LINE",),
    }  # fmt: skip
    wanted = 0
    for callback, names in wired.items():
        for name in names:
            sys.monitoring.register_callback(_tool, getattr(events, name), callback)
            if callback in (_on_enter, _on_leave, _on_call):
                wanted |= getattr(events, name)
    sys.monitoring.set_events(_tool, wanted)


def _remove():
    global active
    active = False
    if MONITORING:
        sys.monitoring.set_events(_tool, 0)
        sys.monitoring.free_tool_id(_tool)
    else:
        _put(sys.setprofile, None)


# ---- threads, forks, the end


def _start_thread(function, args, *more):
    """Stands in for the interpreter's own up to 3.11, where a hook is a matter of each thread."""
    return real_start(_run_thread, (function, args, *more))


def _run_thread(function, args, keywords=None):
    _new_stack()
    _put(sys.setprofile, _on_profile)
    if follow_lines:
        _put(sys.settrace, _on_trace)
    try:
        function(*args, **(keywords or {}))
    finally:
        _put(sys.setprofile, None)
        _end_thread()


def _end_thread():
    stack = getattr(_local, "stack", None)
    if stack is not None and active:
        _book(stack, monotonic_ns())
        del stack.entries[1:]
        u32[stack.row + THREAD_ENDED] = 1


def _after_fork():
    """Goes on in a file of the child's own, with the same names and contexts, all counts zero."""
    global fd, active
    if not active:
        return
    _lock._at_fork_reinit() if hasattr(_lock, "_at_fork_reinit") else None
    place = "{}.{}".format(path, os.getpid())
    try:
        handle = os.open(place, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
    except OSError:
        active = False
        return
    old, size = space, len(space)
    os.ftruncate(handle, size)
    fd = handle
    _map(size)
    for which, count in enumerate(counts):
        os.posix_fallocate(fd, offsets[which], max(allocated[which], 4096))
        end = offsets[which] + count * RECORD_BYTES[which]
        space[offsets[which] : end] = old[offsets[which] : end]
    space[:HEADER_BYTES] = old[:HEADER_BYTES]
    for index in range(1, counts[CONTEXTS]):
        at = (offsets[CONTEXTS] + index * 64) // 8
        for field in (CONTEXT_CALLS, CONTEXT_RESUMES, CONTEXT_SELF_TICKS, CONTEXT_WAITING_TICKS, CONTEXT_LONG_TICKS):
            u64[at + field] = 0
    for index in range(1, counts[FUNCTIONS]):
        at = (offsets[FUNCTIONS] + index * 64) // 8
        u64[at + FUNCTION_OVERFLOW_CALLS] = u64[at + FUNCTION_OVERFLOW_RESUMES] = 0
    for index in range(1, counts[LINES]):
        at = (offsets[LINES] + index * 32) // 8
        u64[at + LINE_HITS] = u64[at + LINE_SELF_TICKS] = u64[at + LINE_WAITING_TICKS] = 0
    now = monotonic_ns()
    u32[HEAD_PID], u32[HEAD_PARENT_PID] = os.getpid(), 0
    u64[HEAD_SETUP_NS] = 0
    u64[HEAD_START_TICKS] = u64[HEAD_START_MONO_NS] = u64[HEAD_LAST_TICKS] = u64[HEAD_LAST_MONO_NS] = now
    u64[HEAD_START_UNIX_NS] = clock_gettime_ns(0)
    stack = _own()
    for index in range(1, counts[THREADS]):
        u32[(offsets[THREADS] + index * 64) // 4 + THREAD_ENDED] = index != stack.index
    stack.last = now
    stack.cpu, stack.cpu_at = thread_time_ns(), now


def close():
    """The closing mark; what comes after it is still recorded."""
    if u32[HEAD_PID] == os.getpid():
        u64[HEAD_LAST_TICKS] = u64[HEAD_LAST_MONO_NS] = monotonic_ns()
        u32[HEAD_STATE] = 2
        if active and not MONITORING and sys.getprofile() is not _on_profile:
            u32[HEAD_TAKEN_HOOKS] += 1  # the program put a hook of its own in


def _calibrate():
    """What an event costs: tiny calls with and without the hook, in the tables that are emptied afterwards."""
    made = {}
    exec(
        "def leaf():\n    pass\ndef calls(times, leaf=leaf):\n    for _ in times: leaf()\n"
        "def builtins(times, call=callable):\n    for _ in times: call(None)\n"
        "def back(times, key=lambda value: 0):\n    sorted(times, key=key)\n",
        made,
    )
    times = [None] * 200
    found = []
    for name in ("calls", "back", "builtins"):
        plain = min(_timed(made[name], times) for _ in range(3))
        recorded = []
        for _ in range(3):
            _install(True)
            recorded.append(_timed(made[name], times))
            _remove()
        cost = max(min(recorded) - plain, 0.0)
        found += [cost * 0.5, cost * 0.5]
    struct.pack_into("<6d", space, HEAD_PYTHON_INSIDE_NS * 8, *found)


def _timed(call, times):
    start = monotonic_ns()
    call(times)
    return (monotonic_ns() - start) / len(times)


def _empty():
    """Forget what calibration left."""
    global root_function
    for which in range(len(counts)):
        end = offsets[which] + counts[which] * RECORD_BYTES[which]
        space[offsets[which] : end] = bytes(end - offsets[which])
        counts[which] = 1
        _write_row(which)
    for known in (strings, functions, contexts, lines, codes, builtins, waiting_rows):
        known.clear()
    _local.__dict__.pop("stack", None)
    _ignore_own()
    root_function = _function(THREAD, "<thread start>")


_IGNORED = Code()


def _ignore_own():
    for value in list(_own_space.values()):
        code = getattr(value, "__code__", None)
        if code is not None and getattr(value, "__globals__", None) is _own_space:
            _ignore(code)


def _ignore(code):
    codes[id(code)] = _IGNORED
    for inner in code.co_consts:
        if hasattr(inner, "co_code"):
            _ignore(inner)


def start(place, limit, line_patterns, inside, paused, _public_only=False):
    """Record this process into the existing empty file, from the program's first frame on."""
    global follow_lines, real_start
    import atexit

    began = monotonic_ns()
    _open(place, limit)
    _empty()
    _calibrate()
    _empty()
    patterns.extend(line_patterns)
    insides.extend(inside)
    follow_lines = bool(patterns)
    if follow_lines:
        _flag(FLAG_LINES)
    if sys.version_info >= (3, 14):
        _flag(FLAG_PUBLIC_ONLY)
    u32[HEAD_CONTROL] = 1 if paused else 0
    if patterns or insides:
        import fnmatch  # noqa: F401 - not while events are told
    os.register_at_fork(after_in_child=_after_fork)
    atexit.register(close)
    real_start = _thread.start_new_thread
    if not MONITORING:
        _thread.start_new_thread = _thread.start_new = _start_thread
        if "threading" in sys.modules:
            sys.modules["threading"]._start_new_thread = _start_thread
    gc.callbacks.append(_on_collection)
    sys.addaudithook(_on_audit)
    u64[HEAD_SETUP_NS] = monotonic_ns() - began
    space[:8] = MAGIC
    _own()
    _install(False)


_START_CODE = _start_thread.__code__
