/* Only calls of chosen functions are timed; all other code runs as if nobody watched. From 3.12 on by events of the
 * chosen code objects alone. Before, every frame is begun by a function of ours (PEP 523), which costs each call a
 * little: calibrate_untimed tells how much. What the handlers themselves take counts to nobody. */
#define PY_SSIZE_T_CLEAN
#include <Python.h> /* first: it says what is asked of the system's headers */

#include "follow.h"
#include "monitoring.h"
#include "own_stack.h"

static recorder *current; /* the one recording of this process */
static int waiting;       /* for the program to begin */

/* ---- what runs */

/* The frame that called this one, NULL where nothing did. Frames are the interpreter's own from 3.11 on. */
static inline const void *frame_above(const void *frame)
{
#if PY_VERSION_HEX >= 0x030C0000 || PY_VERSION_HEX < 0x030B0000
    return caller_of(frame);
#else
    return ((const void *const *)frame)[FRAME_PREVIOUS];
#endif
}

/* The nearest caller that is timed is not the one on top of the stack: somebody has switched to other frames on this
 * thread, as green threads do, or an end was not told. */
SELDOM static void find_timed(recorder *self, stack *thread, const void *caller)
{
    self->store.head->strange_stacks++;
    for (const void *at = caller; at != NULL; at = frame_above(at)) {
        if (bring_to_top(thread, at)) {
            return;
        }
    }
    stack_park(thread, 0);
}

/* Before a timed function is entered from this frame: the entry on top is that of a caller, near or far. A chain of
 * callers too long to be walked at each call is taken to be right. */
static void show_timed(recorder *self, stack *thread, const void *caller)
{
    const void *top = thread->depth > 0 ? frame_of(&thread->entries[thread->depth]) : NULL;
    const void *at = caller;
    if (top == NULL && thread->parked_count == 0) {
        return;
    }
    for (uint32_t back = 0; back < MOST_BACK; back++, at = frame_above(at)) {
        if (at == top) {
            return;
        }
        if (at == NULL) {
            find_timed(self, thread, caller);
            return;
        }
    }
}

static void enter_timed(recorder *self, stack *thread, const void *frame, const void *caller, code_info *info, enum entry how, uint64_t now)
{
    stack_book(thread, now);
    show_timed(self, thread, caller);
    const stack_entry *above = &thread->entries[thread->depth];
    uint32_t context = above->overflow ? 0 : context_below(self, thread, above->context, info->function, 0);
    count(self, context, info->function, how);
    stack_push(thread, frame, context, info);
    stack_skip(thread);
    thread->entries[thread->depth].start = thread->record->last_ticks;
}

static void leave_timed(stack *thread, const void *frame, uint64_t now)
{
    stack_leave(thread, frame, 0, now);
    stack_skip(thread);
}

/* Code that is met for the first time; the program may begin with it. */
SELDOM static code_info *first_time(PyCodeObject *code, PyObject *globals)
{
    recorder *self = current;
    PyObject *kind, *error, *trace; /* an exception that is about to be thrown into the code */
    PyErr_Fetch(&kind, &error, &trace);
    code_info *info = names_code(&self->known, code, globals);
    if (waiting && begins_program(code, globals) && own_stack(self) != NULL) {
        waiting = 0;
        if (info != NULL) {
            info->traits |= TRAIT_TIMED;
        }
        begin_recording(self, own);
    }
    if (own != NULL) {
        stack_skip(own);
    }
    PyErr_Restore(kind, error, trace);
    return info;
}

#if PY_VERSION_HEX >= 0x030C0000

static PyObject *monitoring, *disable;
static int tool = -1;
static long of_chosen_code; /* events that are switched on for it alone */

static PyObject *not_again(void)
{
    Py_INCREF(disable);
    return disable;
}

SELDOM static void switch_events_on(PyCodeObject *code, code_info *info)
{
    info->traits |= TRAIT_EVENTS;
    monitoring_set_local(monitoring, tool, code, of_chosen_code);
}

static void enter_body(code_info *info, enum entry how)
{
    uint64_t now = clock_ticks();
    recorder *self = current;
    stack *thread = own_stack(self);
    if (thread != NULL && awake(self, thread, &now)) {
        const void *frame = running_frame();
        enter_timed(self, thread, frame, caller_of(frame), info, how == ENTRY_ASK ? entry_of(frame, info) : how, now);
    }
}

/* PY_START: code, offset. Told once for code that was not chosen. */
CALLBACK(on_start)
{
    PyCodeObject *code = (PyCodeObject *)args[0];
    code_info *info = info_of(current, code);
    if (info == NULL) {
        info = first_time(code, PyEval_GetGlobals());
    }
    if (info == NULL || !(info->traits & TRAIT_TIMED)) {
        return not_again();
    }
    if (!(info->traits & TRAIT_EVENTS)) {
        switch_events_on(code, info);
    }
    enter_body(info, ENTRY_CALL);
    Py_RETURN_NONE;
}

static void enter_again(PyCodeObject *code, enum entry how)
{
    code_info *info = info_of(current, code);
    if (info != NULL && (info->traits & TRAIT_TIMED)) {
        enter_body(info, how);
    }
}

/* PY_RESUME: code, offset */
CALLBACK(on_resume)
{
    enter_again((PyCodeObject *)args[0], ENTRY_RESUME);
    Py_RETURN_NONE;
}

/* PY_THROW: code, offset, exception; told for all code, also for a body that never began */
CALLBACK(on_throw)
{
    enter_again((PyCodeObject *)args[0], ENTRY_ASK);
    Py_RETURN_NONE;
}

/* PY_RETURN, PY_YIELD of chosen code; PY_UNWIND of all code */
CALLBACK(on_leave)
{
    const code_info *info = info_of(current, (PyCodeObject *)args[0]);
    if (info != NULL && (info->traits & TRAIT_TIMED)) {
        uint64_t now = clock_ticks();
        if (own != NULL && awake(current, own, &now)) {
            leave_timed(own, running_frame(), now);
        }
    }
    Py_RETURN_NONE;
}

static const wire WIRING[] = {
    {"PY_START", on_start, 1}, {"PY_RESUME", on_resume, 0}, {"PY_THROW", on_throw, 1},
    {"PY_RETURN", on_leave, 0}, {"PY_YIELD", on_leave, 0}, {"PY_UNWIND", on_leave, 1},
};

static int install(recorder *self)
{
    current = self;
    frames_check();
    if (!frames_direct) {
        PyErr_SetString(PyExc_RuntimeError, "this interpreter lays frames out differently");
        return -1;
    }
    monitoring = monitoring_open(&tool);
    if (monitoring == NULL || own_stack_open() != 0) {
        return -1;
    }
    disable = PyObject_GetAttrString(monitoring, "DISABLE");
    long everywhere = disable == NULL ? -1
        : monitoring_wire(monitoring, tool, WIRING, (int)(sizeof WIRING / sizeof WIRING[0]), &of_chosen_code);
    Py_XDECREF(disable); /* sys.monitoring keeps it */
    return everywhere < 0 ? -1 : monitoring_set(monitoring, tool, everywhere);
}

void sparse_remove(recorder *self)
{
    monitoring_close(monitoring, tool);
    self->active = 0;
    own_stack_drop();
}

#else

#include <pthread.h>

#if PY_VERSION_HEX >= 0x030B0000
typedef struct _PyInterpreterFrame *frame_to_run;
enum { FRAME_GLOBALS = 1 };
#else
typedef PyFrameObject *frame_to_run;
#endif

/* With a function of ours in between, each Python call takes room on the C stack, which runs out where it would not
 * otherwise. Before that, frames are begun as ever until the call that lay so deep has returned. */
#define MOST_STACK_BYTES (1024u * 1024u)
#define STACK_SHARE 8u

static PyInterpreterState *interpreter;
static _PyFrameEvalFunction run_before;
static __thread const char *stack_floor __attribute__((tls_model("initial-exec"))); /* NULL: not known yet */

static PyCodeObject *code_of(frame_to_run frame)
{
#if PY_VERSION_HEX >= 0x030B0000
    return (PyCodeObject *)((const void *const *)frame)[FRAME_CODE];
#else
    return frame->f_code;
#endif
}

static PyObject *globals_of(frame_to_run frame)
{
#if PY_VERSION_HEX >= 0x030B0000
    return (PyObject *)((const void *const *)frame)[FRAME_GLOBALS];
#else
    return frame->f_globals;
#endif
}

static const void *caller_of_new(PyThreadState *thread, frame_to_run frame)
{
#if PY_VERSION_HEX >= 0x030B0000
    (void)frame;
    return thread->cframe->current_frame;
#else
    (void)thread;
    return frame->f_back;
#endif
}

/* Whether a frame begins, goes on, or (3.11) only makes the object that it will be run by. */
static enum entry how_it_begins(frame_to_run frame, PyCodeObject *code, const code_info *info, int throwing)
{
    if (!(info->traits & TRAIT_RESUMABLE)) {
        return ENTRY_CALL;
    }
#if PY_VERSION_HEX >= 0x030B0000
    long at = (const char *)((const void *const *)frame)[FRAME_INSTRUCTION] - (const char *)code->co_code_adaptive;
    if (at < 0) {
        return ENTRY_ASK;
    }
    return at > info->first_offset ? ENTRY_RESUME : throwing ? ENTRY_NEITHER : ENTRY_CALL;
#else
    (void)code;
    return frame->f_lasti >= 0 ? ENTRY_RESUME : throwing ? ENTRY_NEITHER : ENTRY_CALL;
#endif
}

SELDOM static void find_floor(const char *here)
{
    pthread_attr_t about;
    void *lowest = NULL;
    size_t bytes = 0;
    if (pthread_getattr_np(pthread_self(), &about) == 0) {
        pthread_attr_getstack(&about, &lowest, &bytes);
        pthread_attr_destroy(&about);
    }
    size_t most = bytes / STACK_SHARE < MOST_STACK_BYTES ? bytes / STACK_SHARE : MOST_STACK_BYTES;
    stack_floor = bytes == 0 ? here - MOST_STACK_BYTES / 8 : (const char *)lowest + bytes - most;
}

static PyObject *run_frame(PyThreadState *thread, frame_to_run frame, int throwing);

SELDOM static PyObject *run_too_deep(PyThreadState *thread, frame_to_run frame, int throwing)
{
    current->store.head->deep_calls++;
    _PyInterpreterState_SetEvalFrameFunc(interpreter, run_before);
    PyObject *result = run_before(thread, frame, throwing);
    if (current != NULL) {
        _PyInterpreterState_SetEvalFrameFunc(interpreter, run_frame);
    }
    return result;
}

static __attribute__((noinline)) PyObject *run_timed(PyThreadState *thread, frame_to_run frame, int throwing, PyCodeObject *code,
                                                     code_info *info)
{
    uint64_t now = clock_ticks();
    recorder *self = current;
    enum entry how = how_it_begins(frame, code, info, throwing);
    stack *timed = own_stack(self);
    if (timed == NULL || how == ENTRY_ASK || !awake(self, timed, &now)) {
        return run_before(thread, frame, throwing);
    }
    PyObject *kind, *error, *trace;
    PyErr_Fetch(&kind, &error, &trace);
    enter_timed(self, timed, frame, caller_of_new(thread, frame), info, how, now);
    PyErr_Restore(kind, error, trace);
    PyObject *result = run_before(thread, frame, throwing);
    now = clock_ticks();
    timed = own; /* a fork goes on in a file of its own */
    if (timed != NULL && current != NULL && awake(self, timed, &now)) {
        leave_timed(timed, frame, now);
    }
    return result;
}

static PyObject *run_frame(PyThreadState *thread, frame_to_run frame, int throwing)
{
    const char *here = __builtin_frame_address(0);
    if (__builtin_expect(here < stack_floor || stack_floor == NULL, 0)) {
        if (stack_floor == NULL) {
            find_floor(here);
        }
        if (here < stack_floor && thread->interp == interpreter) {
            return run_too_deep(thread, frame, throwing);
        }
    }
    PyCodeObject *code = code_of(frame);
    code_info *info = info_of(current, code);
    if (__builtin_expect(info == NULL, 0)) {
        if (thread->interp != interpreter) {
            return run_before(thread, frame, throwing);
        }
        info = first_time(code, globals_of(frame));
    }
    if (__builtin_expect(info != NULL && (info->traits & TRAIT_TIMED), 0) && thread->interp == interpreter) {
        return run_timed(thread, frame, throwing, code, info);
    }
    return run_before(thread, frame, throwing);
}

static int install(recorder *self)
{
    frames_check();
#if PY_VERSION_HEX >= 0x030B0000
    if (!frames_direct) {
        PyErr_SetString(PyExc_RuntimeError, "this interpreter lays frames out differently");
        return -1;
    }
#endif
    if (own_stack_open() != 0) {
        return -1;
    }
    current = self;
    interpreter = PyThreadState_Get()->interp;
    run_before = _PyInterpreterState_GetEvalFrameFunc(interpreter);
    _PyInterpreterState_SetEvalFrameFunc(interpreter, run_frame);
    return 0;
}

void sparse_remove(recorder *self)
{
    _PyInterpreterState_SetEvalFrameFunc(interpreter, run_before);
    self->active = 0;
    own_stack_drop();
}

#endif

int sparse_install(recorder *self)
{
    waiting = 1;
    return install(self);
}

int sparse_install_now(recorder *self)
{
    waiting = 0;
    self->active = 1;
    return install(self);
}
