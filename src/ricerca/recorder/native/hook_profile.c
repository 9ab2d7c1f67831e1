/* One file, though a long one: whatever stands in for the profile hook of an interpreter up to 3.11 shares its state. */
/* Events from the interpreter's C-level profile hook (3.9 to 3.11), and from its trace hook for the
 * lines of chosen code. */
#include "follow.h"

#if PY_VERSION_HEX < 0x030C0000

#include <unistd.h>

#define CAPSULE "ricerca.stack"

static recorder *current; /* the one recording of this process */
static const PyMethodDef *thread_starters[2];

static int profile_event(PyObject *capsule, PyFrameObject *frame, int what, PyObject *arg);

/* A new reference, or NULL. */
static PyObject *globals_of(PyFrameObject *frame)
{
#if PY_VERSION_HEX >= 0x030B0000
    return PyFrame_GetGlobals(frame);
#else
    Py_INCREF(frame->f_globals);
    return frame->f_globals;
#endif
}

SELDOM static code_info *new_code(recorder *self, stack *thread, PyFrameObject *frame, PyCodeObject *code)
{
    PyObject *globals = globals_of(frame);
    code_info *info = names_code(&self->known, code, globals);
    Py_XDECREF(globals);
    stack_skip(thread);
    return info;
}

static inline code_info *info_of_frame(recorder *self, stack *thread, PyFrameObject *frame)
{
    PyCodeObject *code = code_of_running(frame);
    code_info *info = info_of(self, code);
    return __builtin_expect(info != NULL, 1) ? info : new_code(self, thread, frame, code);
}

#if PY_VERSION_HEX < 0x030B0000
/* Here an exception thrown into a body that never began looks like a start until it leaves again. */
static void undo_if_never_begun(recorder *self, stack *thread, PyFrameObject *frame, PyObject *result)
{
    const stack_entry *top = &thread->entries[thread->depth];
    if (result == NULL && !self->store.muted && frame->f_lasti < 0 && top->frame == frame && !top->overflow
        && top->code != NULL && (top->code->traits & TRAIT_RESUMABLE)) {
        self->store.contexts[top->context].calls--;
    }
}
#endif

static void leave_probe(stack *own);

static void capsule_gone(PyObject *capsule)
{
    stack *thread = PyCapsule_GetPointer(capsule, CAPSULE);
    if (thread != NULL) {
        leave_probe(thread);
        if (current != NULL && current->active) {
            if (thread->depth > 0 && Py_IsInitialized()) {
                current->store.head->flags |= FLAG_HOOK_TAKEN; /* the program put a hook of its own in */
            }
            stack_end(thread);
        }
        stack_free(thread);
    }
}

/* A new reference to a capsule with a fresh stack, or NULL with an error set. row: that of the same thread's stack
 * before, or 0. */
static PyObject *new_stack(recorder *self, uint64_t native_id, uint32_t row)
{
    stack *thread = row != 0 ? stack_again(&self->store, row) : stack_new(&self->store, native_id, self->thread_root);
    if (thread == NULL) {
        PyErr_NoMemory();
        return NULL;
    }
    PyObject *capsule = PyCapsule_New(thread, CAPSULE, capsule_gone);
    if (capsule == NULL) {
        stack_free(thread);
    }
    return capsule;
}

static void hook_thread(PyThreadState *thread, Py_tracefunc event, PyObject *capsule)
{
    PyObject *old = thread->c_profileobj;
    Py_INCREF(capsule);
    thread->c_profilefunc = event;
    thread->c_profileobj = capsule;
#if PY_VERSION_HEX >= 0x030B0000
    thread->cframe->use_tracing = 255;
#elif PY_VERSION_HEX >= 0x030A0000
    thread->cframe->use_tracing = 1;
#else
    thread->use_tracing = 1;
#endif
    Py_XDECREF(old);
}

static int line_event(PyObject *capsule, PyFrameObject *frame, int what, PyObject *arg);

static void hook_lines(PyThreadState *thread, PyObject *capsule)
{
#if PY_VERSION_HEX < 0x030A0000
    /* Here the interpreter counts the threads that are traced, and looks for lines only where there are any. */
    if (_PyEval_SetTrace(thread, line_event, capsule) != 0) {
        PyErr_Clear();
    }
#else
    Py_INCREF(capsule);
    PyObject *old = thread->c_traceobj;
    thread->c_tracefunc = line_event;
    thread->c_traceobj = capsule;
    Py_XDECREF(old);
#endif
}

/* Whether a thread state is whole. On 3.11 one is put among the others, by a thread that does not hold the interpreter's
 * lock, before its parts are: hooked then, it would lose its hook, or there is nothing yet to hook. It hooks itself. */
static inline int is_made(const PyThreadState *thread)
{
#if PY_VERSION_HEX >= 0x030B0000
    return __atomic_load_n(&thread->_initialized, __ATOMIC_ACQUIRE);
#else
    return thread->interp != NULL;
#endif
}

/* A thread that was just started cannot run before we return: it gets its hook here, whoever started it. */
static void hook_new_threads(recorder *self)
{
    PyThreadState *thread = PyInterpreterState_ThreadHead(PyThreadState_Get()->interp);
    for (; thread != NULL; thread = PyThreadState_Next(thread)) {
        if (thread->c_profilefunc != NULL || !is_made(thread)) {
            continue;
        }
        PyObject *capsule = new_stack(self, 0, 0);
        if (capsule == NULL) {
            PyErr_Clear();
            return;
        }
        hook_thread(thread, profile_event, capsule);
        if (self->follow_lines) {
            hook_lines(thread, capsule);
        }
        Py_DECREF(capsule);
    }
}

/* ---- threads that are made outside of Python
 *
 * A hook is a matter of each thread, and nobody tells of a thread state that compiled code makes. But the
 * interpreter asks for memory of its size; then the next frames are begun by a function of ours, wherever that is,
 * until as many thread states were seen as were asked for. The rest of the time frames are begun as ever. Thread states
 * are numbered, so that one that came and went is known as well. */

#define LINK_NS 1000000000u /* no thread state comes of it any more: it was memory for something else */

#if PY_VERSION_HEX >= 0x030B0000
typedef struct _PyInterpreterFrame *frame_to_run;
#else
typedef PyFrameObject *frame_to_run;
#endif

static PyMemAllocatorEx raw_before;
static PyInterpreterState *our_interpreter;
static _PyFrameEvalFunction run_before;
static volatile uint64_t asked_ns;
static uint64_t asked; /* the number that the last thread state has when all that were asked for are made */
static uint64_t newest; /* the largest number that was seen */
static __thread uint32_t outside_row; /* of this thread, when it had a thread state before */

/* Hooks this thread on the thread itself. */
static void hook_here(recorder *self, PyThreadState *thread)
{
    PyObject *capsule = new_stack(self, (uint64_t)PyThread_get_thread_native_id(), outside_row);
    if (capsule == NULL) {
        PyErr_Clear();
        self->store.head->unseen_threads++;
        return;
    }
    outside_row = ((stack *)PyCapsule_GetPointer(capsule, CAPSULE))->index;
    hook_thread(thread, profile_event, capsule);
    if (self->follow_lines) {
        hook_lines(thread, capsule);
    }
    Py_DECREF(capsule);
}

static PyObject *run_frame(PyThreadState *thread, frame_to_run frame, int throwing)
{
    recorder *self = current;
    if (self != NULL && self->active && thread->interp == our_interpreter) {
        if (thread->c_profilefunc == NULL) {
            hook_here(self, thread);
        }
        PyThreadState *head = PyInterpreterState_ThreadHead(our_interpreter);
        uint64_t number = head != NULL && is_made(head) && head->id > thread->id ? head->id : thread->id;
        newest = number > newest ? number : newest;
        hook_new_threads(self);
    }
    int late = mono_ns() - asked_ns > LINK_NS;
    if (late) {
        __atomic_store_n(&asked, newest, __ATOMIC_SEQ_CST);
    }
    if (late || newest >= __atomic_load_n(&asked, __ATOMIC_SEQ_CST)) {
        _PyInterpreterState_SetEvalFrameFunc(our_interpreter, run_before);
        __atomic_thread_fence(__ATOMIC_SEQ_CST);
        if (newest < __atomic_load_n(&asked, __ATOMIC_SEQ_CST)) { /* another was asked for just then */
            _PyInterpreterState_SetEvalFrameFunc(our_interpreter, run_frame);
        }
    }
    return run_before(thread, frame, throwing);
}

static void look_out(size_t bytes)
{
    if (bytes == sizeof(PyThreadState) && current != NULL && current->active) {
        asked_ns = mono_ns();
        __atomic_add_fetch(&asked, 1, __ATOMIC_SEQ_CST);
        _PyInterpreterState_SetEvalFrameFunc(our_interpreter, run_frame);
    }
}

static void *raw_malloc(void *ctx, size_t bytes)
{
    (void)ctx;
    look_out(bytes);
    return raw_before.malloc(raw_before.ctx, bytes);
}

static void *raw_calloc(void *ctx, size_t count, size_t bytes)
{
    (void)ctx;
    look_out(count * bytes);
    return raw_before.calloc(raw_before.ctx, count, bytes);
}

static void *raw_realloc(void *ctx, void *place, size_t bytes)
{
    (void)ctx;
    return raw_before.realloc(raw_before.ctx, place, bytes);
}

static void raw_free(void *ctx, void *place)
{
    (void)ctx;
    raw_before.free(raw_before.ctx, place);
}

static void look_out_for_threads(void)
{
    PyMemAllocatorEx ours = {NULL, raw_malloc, raw_calloc, raw_realloc, raw_free};
    our_interpreter = PyThreadState_Get()->interp;
    PyThreadState *head = PyInterpreterState_ThreadHead(our_interpreter);
    asked = newest = head != NULL ? head->id : 0;
    run_before = _PyInterpreterState_GetEvalFrameFunc(our_interpreter);
    PyMem_GetAllocator(PYMEM_DOMAIN_RAW, &raw_before);
    PyMem_SetAllocator(PYMEM_DOMAIN_RAW, &ours);
}

/* ---- hooks of the program's own
 *
 * While the program has a hook of its own in, it alone gets the events. When it takes it out again, ours goes on.
 * Meanwhile, and for whoever asks, it looks as if there were none of ours. */

static PyCFunction set_before, get_before, get_trace_before;
static __thread PyObject *ours_meanwhile;

static __thread Py_tracefunc theirs;

/* Without ours nobody would have told their hook that sys.setprofile returns. */
static int first_event(PyObject *object, PyFrameObject *frame, int what, PyObject *arg)
{
    Py_tracefunc event = theirs;
    PyThreadState_Get()->c_profilefunc = event;
    return what == PyTrace_C_RETURN ? 0 : event(object, frame, what, arg);
}

static PyObject *set_profile(PyObject *module, PyObject *function)
{
    recorder *self = current;
    PyThreadState *thread = PyThreadState_Get();
    int was_ours = thread->c_profilefunc == profile_event;
    if (was_ours) {
        PyObject *before = ours_meanwhile;
        Py_INCREF(thread->c_profileobj);
        ours_meanwhile = thread->c_profileobj;
        Py_XDECREF(before);
    }
    PyObject *done = set_before(module, function);
    stack *own = ours_meanwhile == NULL ? NULL : PyCapsule_GetPointer(ours_meanwhile, CAPSULE);
    if (own == NULL || !self->active || self->store.head->pid != (uint32_t)getpid()) {
        return done;
    }
    if (thread->c_profilefunc == NULL) {
        if (!was_ours) {
            stack_skip(own); /* nobody knows what it was spent on */
        }
        hook_thread(thread, profile_event, ours_meanwhile);
        Py_CLEAR(ours_meanwhile);
    } else if (was_ours) {
        stack_book(own, clock_ticks());
        self->store.head->taken_hooks++;
        theirs = thread->c_profilefunc;
        thread->c_profilefunc = first_event;
    }
    return done;
}

static PyObject *get_profile(PyObject *module, PyObject *none)
{
    Py_tracefunc in = PyThreadState_Get()->c_profilefunc;
    if (in == profile_event) {
        Py_RETURN_NONE;
    }
    return get_before(module, none);
}

static PyObject *get_trace(PyObject *module, PyObject *none)
{
    if (PyThreadState_Get()->c_tracefunc == line_event) {
        Py_RETURN_NONE;
    }
    return get_trace_before(module, none);
}

static void stand_in(const char *name, int flags, PyCFunction ours, PyCFunction *before)
{
    PyObject *function = PySys_GetObject(name);
    if (function != NULL && PyCFunction_Check(function) && ((PyCFunctionObject *)function)->m_ml->ml_flags == flags) {
        *before = ((PyCFunctionObject *)function)->m_ml->ml_meth;
        ((PyCFunctionObject *)function)->m_ml->ml_meth = ours;
    }
}

static void stand_in_for_hooks(void)
{
    stand_in("setprofile", METH_O, set_profile, &set_before);
    stand_in("getprofile", METH_NOARGS, get_profile, &get_before);
    stand_in("gettrace", METH_NOARGS, get_trace, &get_trace_before);
}

static inline int starts_threads(PyObject *function)
{
    const PyMethodDef *method = ((PyCFunctionObject *)function)->m_ml;
    return method == thread_starters[0] || method == thread_starters[1];
}

#if PY_VERSION_HEX >= 0x030B0000
/* 3.11 runs bytecode several times slower while any hook is in. Where much time passes between two events
 * it must be known whether that was bytecode, or one instruction at work in C: a few times per function its
 * lines are timed for a while. Short ones are bytecode. */
#define PROBE_CALLS 6u
#define PROBE_LINES 400u

static struct {
    PyThreadState *thread;
    PyFrameObject *frame;
    stack *own;
    code_info *info;
    uint64_t last;
    uint32_t left;
} probe;

static void end_probe(void)
{
    code_info *info = probe.info;
    uint64_t seen = info->light_ticks + info->heavy_ticks;
    probe.thread->c_tracefunc = NULL;
    probe.frame = NULL;
    if (seen > 0 && info->function != 0) {
        current->store.functions[info->function].light = (uint16_t)(info->light_ticks * 1000u / seen);
    }
}

static int probe_event(PyObject *none, PyFrameObject *frame, int what, PyObject *arg)
{
    (void)none;
    (void)arg;
    if (frame != probe.frame) {
        return 0;
    }
    if (what == PyTrace_LINE) {
        uint64_t last = probe.last > probe.own->record->last_ticks ? probe.last : probe.own->record->last_ticks;
        uint64_t now = clock_ticks(), gap = now > last ? now - last : 0;
        if (gap < current->store.brief_limit) {
            probe.info->light_ticks += gap;
        } else if (gap < 1000 * current->store.brief_limit || probe.info->light_ticks == 0) {
            probe.info->heavy_ticks += gap; /* a line that was held up says nothing */
        }
        probe.last = clock_ticks();
        probe.left--;
    }
    if (probe.left == 0 || what == PyTrace_RETURN) {
        end_probe();
    }
    return 0;
}

static void begin_probe(recorder *self, stack *own, PyFrameObject *frame, code_info *info)
{
    PyThreadState *thread = PyThreadState_Get();
    if (!self->probing || probe.frame != NULL || thread->c_tracefunc != NULL) {
        return;
    }
    info->probes++;
    probe.thread = thread;
    probe.frame = frame;
    probe.own = own;
    probe.info = info;
    probe.last = clock_ticks();
    probe.left = PROBE_LINES;
    thread->c_tracefunc = probe_event;
}
#endif

static int profile_event(PyObject *capsule, PyFrameObject *frame, int what, PyObject *arg)
{
    uint64_t now = clock_ticks();
    stack *thread = ((stack **)capsule)[2]; /* PyCapsule's pointer, see check_capsule_layout */
    recorder *self = current;
    code_info *info;
    if (__builtin_expect(!awake(self, thread, &now), 0)) {
        return 0;
    }
    switch (what) {
    case PyTrace_CALL:
        stack_book(thread, now);
        show_running(self, thread, caller_of(frame));
        enter_code(self, thread, frame, (info = info_of_frame(self, thread, frame)), ENTRY_ASK);
        watch(self, &self->store.head->python_watched, now);
#if PY_VERSION_HEX >= 0x030B0000
        if (__builtin_expect(info != NULL && (info->traits & TRAIT_BARE_LOOP) && info->probes < PROBE_CALLS, 0)) {
            begin_probe(self, thread, frame, info);
        }
#endif
        break;
    case PyTrace_RETURN:
#if PY_VERSION_HEX < 0x030B0000
        undo_if_never_begun(self, thread, frame, arg);
#endif
        stack_leave(thread, frame, 0, now);
        break;
    case PyTrace_C_CALL:
        stack_book(thread, now);
        if (thread->depth != 0 || thread->parked_count != 0) {
            show_caller(self, thread, frame);
        }
        if (thread->depth != 0 && PyCFunction_Check(arg)) {
            enter(self, thread, names_builtin(&self->known, arg), frame, NULL, ENTRY_CALL);
            watch(self, &self->store.head->builtin_watched, now);
        }
        break;
    case PyTrace_C_RETURN:
    case PyTrace_C_EXCEPTION:
        stack_leave(thread, frame, 1, now);
        if (__builtin_expect(starts_threads(arg), 0)) {
            hook_new_threads(self);
        }
        break;
    default:
        break;
    }
    return 0;
}

static int line_event(PyObject *capsule, PyFrameObject *frame, int what, PyObject *arg)
{
    (void)arg;
    stack *thread = ((stack **)capsule)[2];
    recorder *self = current;
    if (!self->active) {
        return 0;
    }
    if (what == PyTrace_CALL) {
        const code_info *info = info_of_frame(self, thread, frame);
        if (info != NULL && !self->store.functions[info->function].chosen
            && PyObject_SetAttrString((PyObject *)frame, "f_trace_lines", Py_False) != 0) {
            PyErr_Clear();
        }
    } else if (what == PyTrace_LINE) {
        uint64_t now = clock_ticks();
        stack_entry *top = &thread->entries[thread->depth];
        stack_book(thread, now);
        if (thread->depth == 0 || top->code == NULL || top->overflow || frame_of(top) != frame) {
            return 0;
        }
        uint32_t function = top->code->function;
        if (self->store.functions[function].chosen) { /* the first frame is met when it runs already */
            top->line = arena_line(&self->store, function, (uint32_t)PyFrame_GetLineNumber(frame));
            self->store.lines[top->line].hits++;
        }
    }
    return 0;
}

static int waiting_event(PyObject *capsule, PyFrameObject *frame, int what, PyObject *arg)
{
    if (what != PyTrace_CALL) {
        return 0;
    }
    PyCodeObject *code = PyFrame_GetCode(frame);
    PyObject *globals = globals_of(frame);
    int begins = begins_program(code, globals);
    Py_XDECREF(globals);
    Py_DECREF(code);
    if (!begins) {
        return 0;
    }
    recorder *self = current;
    PyThreadState *thread = PyThreadState_Get();
    begin_recording(self, PyCapsule_GetPointer(capsule, CAPSULE));
    hook_thread(thread, profile_event, capsule);
    if (self->follow_lines) {
        hook_lines(thread, capsule);
    }
    hook_new_threads(self);
    return profile_event(capsule, frame, what, arg);
}

/* The hot path reads a capsule's pointer where CPython keeps it; any other layout is refused. */
static int check_capsule_layout(PyObject *capsule)
{
    if (((void **)capsule)[2] != PyCapsule_GetPointer(capsule, CAPSULE)) {
        PyErr_SetString(PyExc_RuntimeError, "this interpreter lays capsules out differently");
        return -1;
    }
    return 0;
}

static int find_thread_starters(void)
{
    static const char *const starters[] = {"start_new_thread", "start_new"};
    PyObject *module = PyImport_ImportModule("_thread");
    if (module == NULL) {
        return -1;
    }
    for (int i = 0; i < 2; i++) {
        PyObject *function = PyObject_GetAttrString(module, starters[i]);
        if (function != NULL && PyCFunction_Check(function)) {
            thread_starters[i] = ((PyCFunctionObject *)function)->m_ml;
        }
        Py_XDECREF(function);
        PyErr_Clear();
    }
    Py_DECREF(module);
    return 0;
}

static int install(recorder *self, Py_tracefunc event)
{
    if (find_thread_starters() != 0) {
        return -1;
    }
    current = self;
    frames_check();
    PyObject *capsule = new_stack(self, (uint64_t)PyThread_get_thread_native_id(), 0);
    if (capsule == NULL || check_capsule_layout(capsule) != 0) {
        Py_XDECREF(capsule);
        return -1;
    }
    hook_thread(PyThreadState_Get(), event, capsule);
    Py_DECREF(capsule);
    return 0;
}

/* A thread that ends takes its probe along. */
static void leave_probe(stack *own)
{
#if PY_VERSION_HEX >= 0x030B0000
    if (probe.own == own) {
        probe.frame = NULL;
    }
#else
    (void)own;
#endif
}

int hook_install(recorder *self)
{
    if (install(self, waiting_event) != 0) {
        return -1;
    }
    look_out_for_threads();
    stand_in_for_hooks();
    return 0;
}

int hook_install_now(recorder *self)
{
    self->active = 1;
    return install(self, profile_event);
}

static stack *stack_of_state(const PyThreadState *thread)
{
    int ours = thread != NULL && thread->c_profilefunc == profile_event && thread->c_profileobj != NULL;
    return ours ? PyCapsule_GetPointer(thread->c_profileobj, CAPSULE) : NULL;
}

stack *hook_stack(void) { return stack_of_state(PyThreadState_Get()); }
stack *hook_stack_unlocked(void) { return stack_of_state(PyGILState_GetThisThreadState()); }

void hook_remove(recorder *self)
{
    PyEval_SetProfile(NULL, NULL);
    self->active = 0;
}

const char *hook_name(void) { return "profile"; }

#else
typedef int not_for_this_interpreter;
#endif
