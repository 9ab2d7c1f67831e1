/* Events from the interpreter's monitoring interface (3.12 on), with C callables. */
#include "follow.h"
#include "monitoring.h"
#include "own_stack.h"

#if PY_VERSION_HEX >= 0x030C0000

static recorder *current;       /* the one recording of this process */
static PyObject *monitoring;    /* sys.monitoring */
static int tool = -1;
static int waiting;             /* for the program to begin */

static void follow_lines_of(PyCodeObject *code, const code_info *info);

SELDOM static code_info *new_code(recorder *self, stack *thread, PyCodeObject *code)
{
    code_info *info = names_code(&self->known, code, PyEval_GetGlobals());
    if (self->follow_lines) {
        follow_lines_of(code, info);
    }
    stack_skip(thread);
    return info;
}

/* The frame that runs, NULL where frames cannot be looked into. */
static inline const void *running(const recorder *self)
{
    return __builtin_expect(!self->public_only, 1) ? running_frame() : NULL;
}

/* Without frames an end is told by its code: the topmost entry of it ends. */
SELDOM static void leave_by_code(stack *thread, int builtin, const void *code, uint64_t now)
{
    stack_book(thread, now);
    for (uint32_t depth = thread->depth; depth > 0; depth--) {
        const stack_entry *entry = &thread->entries[depth];
        const code_info *info = builtin ? entry[-1].code : entry->code;
        if ((entry->code == NULL) == builtin && info != NULL && info->object == code && !((uintptr_t)entry->frame & SHARED_FRAME)) {
            while (thread->depth >= depth) {
                stack_pop(thread);
            }
            return;
        }
    }
}

static inline void leave(const recorder *self, stack *thread, int builtin, const void *code, uint64_t now)
{
    if (__builtin_expect(self->public_only, 0)) {
        leave_by_code(thread, builtin, code, now);
    } else {
        stack_leave(thread, running_frame(), builtin, now);
    }
}

/* The program begins with this code. */
SELDOM static int begins_now(PyCodeObject *code)
{
    if (!waiting || !begins_program(code, PyEval_GetGlobals()) || own_stack(current) == NULL) {
        return 0;
    }
    waiting = 0;
    begin_recording(current, own);
    return 1;
}

static inline void enter_body(PyObject *const *args, enum entry how)
{
    uint64_t now = clock_ticks();
    recorder *self = current;
    PyCodeObject *code = (PyCodeObject *)args[0];
    if (__builtin_expect(!awake(self, own, &now), 0)) {
        if (!begins_now(code)) {
            return;
        }
        now = clock_ticks();
    }
    stack *thread = own_stack(current);
    if (__builtin_expect(thread != NULL, 1)) {
        code_info *info = info_of(self, code);
        const void *frame = running(self);
        stack_book(thread, now);
        show_running(self, thread, frame == NULL ? NULL : caller_of(frame));
        enter_code(self, thread, frame, __builtin_expect(info != NULL, 1) ? info : new_code(self, thread, code), how);
        watch(self, &self->store.head->python_watched, now);
    }
}

/* PY_START: code, offset */
CALLBACK(on_start)
{
    enter_body(args, ENTRY_CALL);
    Py_RETURN_NONE;
}

/* PY_RESUME: code, offset */
CALLBACK(on_resume)
{
    enter_body(args, ENTRY_RESUME);
    Py_RETURN_NONE;
}

/* PY_THROW: code, offset, exception; also into a body that never began */
CALLBACK(on_throw)
{
    enter_body(args, current->public_only ? ENTRY_RESUME : ENTRY_ASK);
    Py_RETURN_NONE;
}

/* PY_RETURN, PY_YIELD, PY_UNWIND */
CALLBACK(on_leave)
{
    uint64_t now = clock_ticks();
    stack *thread = own;
    if (__builtin_expect(thread != NULL && awake(current, thread, &now), 1)) {
        leave(current, thread, 0, args[0], now);
    }
    Py_RETURN_NONE;
}

/* Row of what is called; it is not Python code. */
static inline uint32_t row_of(names *known, enum callable what, PyObject *callable, PyObject *argument)
{
    if (Py_IS_TYPE(callable, &PyMethod_Type)) {
        argument = PyMethod_GET_SELF(callable);
        callable = PyMethod_GET_FUNCTION(callable);
    }
    switch (what) {
    case CALLABLE_BUILTIN: return names_builtin(known, callable);
    case CALLABLE_METHOD: return names_method(known, callable, argument);
    default: return names_other(known, callable);
    }
}

static inline enum callable callable_of(PyObject *const *args)
{
    return names_callable(args[2], args[3] == current->missing ? NULL : args[3]);
}

/* CALL: code, offset, callable, first argument. Also told for Python functions, which are seen when they start. A class
 * that Python code makes ready is counted alone: what it does is told by that code. */
CALLBACK(on_call)
{
    if (__builtin_expect(current->public_only, 0) && own != NULL) {
        stack_entry *top = &own->entries[own->depth];
        if (top->code != NULL && top->code->object == args[0]) {
            top->offset = (int32_t)PyLong_AsLong(args[1]);
        }
    }
    enum callable what = callable_of(args);
    if (what == CALLABLE_PYTHON) {
        Py_RETURN_NONE;
    }
    uint64_t now = clock_ticks();
    recorder *self = current;
    stack *thread = own;
    if (thread == NULL || !awake(self, thread, &now) || (thread->depth == 0 && thread->parked_count == 0)) {
        Py_RETURN_NONE;
    }
    const void *frame = running(self);
    stack_book(thread, now);
    show_caller(self, thread, frame);
    if (thread->depth == 0) {
        Py_RETURN_NONE;
    }
    uint32_t function = row_of(&self->known, what, args[2], args[3]);
    if (what == CALLABLE_MAKER) {
        const stack_entry *caller = &thread->entries[thread->depth];
        count(self, caller->overflow ? 0 : context_below(self, thread, caller->context, function, line_of_call(caller)), function, ENTRY_CALL);
        Py_RETURN_NONE;
    }
    enter(self, thread, function, frame, NULL, ENTRY_CALL);
    watch(self, &self->store.head->builtin_watched, now);
    Py_RETURN_NONE;
}

/* C_RETURN, C_RAISE */
CALLBACK(on_builtin_end)
{
    enum callable what = callable_of(args);
    if (what == CALLABLE_PYTHON || what == CALLABLE_MAKER) {
        Py_RETURN_NONE;
    }
    uint64_t now = clock_ticks();
    stack *thread = own;
    if (thread != NULL && awake(current, thread, &now)) {
        leave(current, thread, 1, args[0], now);
    }
    Py_RETURN_NONE;
}

/* LINE: code, line; told only for chosen code. */
CALLBACK(on_line)
{
    uint64_t now = clock_ticks();
    recorder *self = current;
    if (!self->active || own == NULL || own->depth == 0) {
        Py_RETURN_NONE;
    }
    stack_entry *top = &own->entries[own->depth];
    stack_book(own, now);
    if (top->code != NULL && !top->overflow && (self->public_only ? top->code->object == (void *)args[0] : frame_of(top) == running_frame())) {
        top->line = arena_line(&self->store, top->code->function, (uint32_t)PyLong_AsLong(args[1]));
        self->store.lines[top->line].hits++;
    }
    Py_RETURN_NONE;
}

static const wire WIRING[] = {
    {"PY_START", on_start, 1}, {"PY_RESUME", on_resume, 1}, {"PY_THROW", on_throw, 1},
    {"PY_RETURN", on_leave, 1}, {"PY_YIELD", on_leave, 1}, {"PY_UNWIND", on_leave, 1},
    {"CALL", on_call, 1}, {"C_RETURN", on_builtin_end, 0}, {"C_RAISE", on_builtin_end, 0}, {"LINE", on_line, 0},
};
#define WIRE_COUNT ((int)(sizeof WIRING / sizeof WIRING[0]))

static void follow_lines_of(PyCodeObject *code, const code_info *info)
{
    long line = monitoring_event(monitoring, "LINE");
    if (info == NULL || !current->store.functions[info->function].chosen || line < 0) {
        PyErr_Clear();
        return;
    }
    monitoring_set_local(monitoring, tool, code, line);
}

static int install(recorder *self)
{
    current = self;
    frames_check();
    if (own_stack_open() != 0 || callables_open() != 0) {
        return -1;
    }
    self->public_only = self->public_only || !frames_direct || PY_VERSION_HEX >= 0x030E0000;
    monitoring = monitoring_open(&tool);
    if (monitoring == NULL) {
        return -1;
    }
    PyObject *missing = PyObject_GetAttrString(monitoring, "MISSING");
    self->missing = missing;
    Py_XDECREF(missing); /* sys.monitoring keeps it */
    if (missing == NULL) {
        return -1;
    }
    long events = monitoring_wire(monitoring, tool, WIRING, WIRE_COUNT, NULL);
    return events < 0 || own_stack_new(self) == NULL ? -1 : monitoring_set(monitoring, tool, events);
}

int hook_install(recorder *self)
{
    waiting = 1;
    return install(self);
}

int hook_install_now(recorder *self)
{
    self->active = 1;
    return install(self);
}

stack *hook_stack(void) { return own; }
stack *hook_stack_unlocked(void) { return own; }

void hook_remove(recorder *self)
{
    monitoring_close(monitoring, tool);
    self->active = 0;
    own_stack_drop();
}

const char *hook_name(void) { return "monitoring"; }

#else
typedef int not_for_this_interpreter;
#endif
