/* What happens besides calls, as items in the tree: imports, garbage collections, regions that the
 * program names, and the programs that it starts. Seen by the interpreter's audit events and by the
 * collector's callbacks; nothing here lies on the hot path. */
#include "follow.h"
#include "starters.h"

#include <stdlib.h>
#include <unistd.h>

#define MOST_LEVELS 8u       /* how far below the top a frame that waits for a child is looked for */
#define MOST_TEXT 160
#define LENT_SEEN UINT32_MAX /* never a control: asks for attention at each event */

static recorder *watched;
static PyInterpreterState *home;

static PyObject *new_reference(PyObject *object)
{
    Py_INCREF(object);
    return object;
}

/* A new reference to a local variable of a frame that is running, or NULL without an error. */
static PyObject *local_of(const void *frame, const void *wanted, const char *name)
{
    PyObject *value = NULL;
#if PY_VERSION_HEX >= 0x030C0000
    (void)frame;
    PyFrameObject *object = PyThreadState_GetFrame(PyThreadState_Get());
    for (unsigned level = 0; object != NULL && level < MOST_LEVELS; level++) {
        PyCodeObject *code = PyFrame_GetCode(object);
        Py_DECREF(code);
        if ((const void *)code == wanted) {
            value = PyFrame_GetVarString(object, name);
            break;
        }
        PyFrameObject *back = PyFrame_GetBack(object);
        Py_DECREF(object);
        object = back;
    }
    Py_XDECREF(object);
#else
    (void)wanted;
    PyObject *locals = PyObject_GetAttrString((PyObject *)frame, "f_locals");
    if (locals != NULL) {
        value = PyMapping_GetItemString(locals, name);
        Py_DECREF(locals);
    }
#endif
    if (value == NULL) {
        PyErr_Clear();
    }
    return value;
}

/* Appends a text or a path; what else it may be is left out. */
static size_t append(char *buffer, size_t used, PyObject *part)
{
    PyObject *text = part != NULL ? PyOS_FSPath(part) : NULL;
    PyObject *bytes = NULL;
    if (text != NULL) {
        bytes = PyUnicode_Check(text) ? PyUnicode_AsEncodedString(text, "utf-8", "backslashreplace") : new_reference(text);
    }
    if (bytes != NULL) {
        const char *word = PyBytes_AS_STRING(bytes);
        for (size_t i = 0; word[i] != '\0' && used < MOST_TEXT; i++) {
            buffer[used++] = word[i] == '\n' ? ' ' : word[i];
        }
    }
    PyErr_Clear();
    Py_XDECREF(bytes);
    Py_XDECREF(text);
    return used;
}

/* Row of a command: its words, or its text. 0 where there is no room. */
static uint32_t command_row(recorder *self, PyObject *command)
{
    char buffer[MOST_TEXT + 4];
    size_t used = 0;
    if (PyList_Check(command) || PyTuple_Check(command)) {
        for (Py_ssize_t i = 0; i < PySequence_Fast_GET_SIZE(command) && used < MOST_TEXT; i++) {
            if (i > 0) {
                buffer[used++] = ' ';
            }
            used = append(buffer, used, PySequence_Fast_GET_ITEM(command, i));
        }
    } else {
        used = append(buffer, used, command);
    }
    if (used >= MOST_TEXT) {
        while (used > 0 && (uint8_t)buffer[used - 1] >= 0x80) {
            used--; /* not in the middle of a character */
        }
        memcpy(buffer + used, "\xE2\x80\xA6", 3);
        used += 3;
    }
    return used == 0 ? 0 : names_item(&self->known, KIND_CHILD, buffer, used);
}

/* Whether a builtin is one in which a child process is waited for, and not just anything that was held up. */
static int is_waiter(const recorder *self, uint32_t function)
{
    static const char *const waiters[] = {"waitpid", "poll", "select", "read", "readall", "readline", "readlines", "write"};
    const function_record *row = &self->store.functions[function];
    const char *name = (const char *)self->store.strings + row->name_offset;
    size_t begin = row->name_bytes;
    while (begin > 0 && name[begin - 1] != '.') {
        begin--;
    }
    for (size_t i = 0; i < sizeof waiters / sizeof waiters[0]; i++) {
        if (strlen(waiters[i]) == row->name_bytes - begin && memcmp(name + begin, waiters[i], row->name_bytes - begin) == 0) {
            return 1;
        }
    }
    return 0;
}

/* The thread waits: is it for a child process? Then for which one. */
static uint32_t waits_for(stack *thread)
{
    recorder *self = watched;
    const stack_entry *top = &thread->entries[thread->depth];
    uint32_t found = 0;
    if (top->code != NULL || top->overflow || !is_waiter(self, self->store.contexts[top->context].function)) {
        return 0;
    }
    for (uint32_t level = 0; level < MOST_LEVELS && level < thread->depth; level++) {
        const stack_entry *entry = &thread->entries[thread->depth - level];
        if (entry->code == NULL || !(entry->code->traits & TRAIT_CHILD)) {
            continue;
        }
        PyObject *type, *value, *trace;
        PyErr_Fetch(&type, &value, &trace);
        PyObject *child = local_of(frame_of(entry), entry->code->object, "self");
        PyObject *command = child == NULL ? NULL : PyObject_GetAttrString(child, "args");
        PyErr_Clear();
        if (command != NULL) {
            found = context_below(self, thread, top->context, command_row(self, command), 0);
        }
        Py_XDECREF(command);
        Py_XDECREF(child);
        PyErr_Restore(type, value, trace);
        break;
    }
    return found;
}

uint32_t items_import(recorder *self, stack *thread, const void *frame, const void *code, uint32_t parent, uint32_t line)
{
    char buffer[MOST_TEXT + 4] = "import ";
    PyObject *name = local_of(frame, code, "name");
    size_t used = name == NULL ? 7 : append(buffer, 7, name);
    Py_XDECREF(name);
    return used == 7 ? 0 : context_below(self, thread, parent, names_item(&self->known, KIND_IMPORT, buffer, used), line);
}

/* What a finalizer left open above the collection ends with it. */
static void end_collection(recorder *self, stack *thread, uint64_t now)
{
    stack_book(thread, now);
    for (uint32_t depth = thread->depth; depth > 0; depth--) {
        const stack_entry *entry = &thread->entries[depth];
        if (entry->code == NULL && self->store.functions[self->store.contexts[entry->context].function].kind == KIND_COLLECTION) {
            while (thread->depth >= depth) {
                stack_pop(thread);
            }
            return;
        }
    }
}

/* The collector's callback: phase, facts. */
static PyObject *on_collection(PyObject *module, PyObject *args)
{
    (void)module;
    recorder *self = watched;
    PyObject *phase = PyTuple_Size(args) > 0 ? PyTuple_GET_ITEM(args, 0) : NULL;
    stack *thread = self->active ? hook_stack() : NULL;
    if (phase == NULL || thread == NULL || thread->depth == 0 || !PyUnicode_Check(phase)) {
        Py_RETURN_NONE;
    }
    uint64_t now = clock_ticks();
    if (PyUnicode_CompareWithASCIIString(phase, "start") == 0) {
        stack_book(thread, now);
        uint32_t item = names_item(&self->known, KIND_COLLECTION, "garbage collection", 18);
        enter(self, thread, item, frame_of(&thread->entries[thread->depth]), NULL, ENTRY_CALL);
    } else {
        end_collection(self, thread, now);
    }
    Py_RETURN_NONE;
}

/* The entry of the Python function that runs, below whatever of ours or of the interpreter's is on top. */
static uint32_t running_depth(const stack *thread)
{
    uint32_t depth = thread->depth;
    while (depth > 0 && thread->entries[depth].code == NULL) {
        depth--;
    }
    return depth;
}

/* A region lies in the function that entered it: the caller of __enter__ where there is one. */
static uint32_t region_depth(recorder *self, const stack *thread)
{
    static const char enter[] = "__enter__";
    const size_t length = sizeof enter - 1;
    uint32_t depth = running_depth(thread);
    if (depth > 1 && thread->entries[depth - 1].code != NULL) {
        const function_record *row = &self->store.functions[thread->entries[depth].code->function];
        const char *end = (const char *)self->store.strings + row->name_offset + row->name_bytes;
        return row->name_bytes >= length && memcmp(end - length, enter, length) == 0 ? depth - 1 : depth;
    }
    return depth;
}

static void begin_region(recorder *self, stack *thread, PyObject *name)
{
    char buffer[MOST_TEXT + 4];
    size_t used = append(buffer, 0, name);
    uint32_t depth = region_depth(self, thread);
    if (used == 0 || depth == 0 || thread->entries[depth].overflow) {
        return;
    }
    stack_book(thread, clock_ticks());
    stack_entry *below = &thread->entries[depth];
    uint32_t item = names_item(&self->known, KIND_REGION, buffer, used);
    uint32_t context = context_below(self, thread, below->context, item, line_of_call(below));
    stack_entry *entry = context == 0 ? NULL : stack_insert(thread, depth + 1);
    if (entry != NULL) {
        below = &thread->entries[depth];
        count(self, context, item, ENTRY_CALL);
        entry->frame = (const void *)((uintptr_t)below->frame | SHARED_FRAME);
        entry->code = below->code;
        entry->context = context;
        entry->start = thread->record->last_ticks;
    }
}

static void end_region(recorder *self, stack *thread, PyObject *name)
{
    char buffer[MOST_TEXT + 4];
    size_t used = append(buffer, 0, name);
    uint32_t item = used == 0 ? 0 : names_item(&self->known, KIND_REGION, buffer, used);
    for (uint32_t depth = thread->depth; depth > 0 && item != 0; depth--) {
        const stack_entry *entry = &thread->entries[depth];
        if (entry->code != NULL && !entry->overflow && self->store.contexts[entry->context].function == item) {
            stack_book(thread, clock_ticks());
            stack_remove(thread, depth);
            return;
        }
    }
}

/* The variables of an environment that is given to a child, and whether their names and values are bytes. */
static PyObject *variables_of(PyObject *env, int *as_bytes)
{
    *as_bytes = 0;
    if (PyDict_CheckExact(env)) {
        return new_reference(env);
    }
    PyObject *data = strcmp(Py_TYPE(env)->tp_name, "_Environ") == 0 ? PyObject_GetAttrString(env, "_data") : NULL;
    *as_bytes = 1;
    if (data != NULL && !PyDict_CheckExact(data)) {
        Py_CLEAR(data);
    }
    return data;
}

/* A child that gets an environment of its own: our variables go along, and are taken out again when it runs. */
static void lend(recorder *self, stack *thread, uint32_t depth, PyObject *env)
{
    int as_bytes;
    if (self->lent != NULL || getenv("RICERCA_RECORDING") == NULL) {
        return;
    }
    PyObject *variables = variables_of(env, &as_bytes);
    PyObject *before = variables == NULL ? NULL : PyDict_Copy(variables);
    if (before == NULL) {
        Py_XDECREF(variables);
        return;
    }
    starters_add_variables(variables, as_bytes);
    self->lent = variables;
    self->lent_before = before;
    self->lent_by = thread;
    self->lent_depth = depth;
    self->store.control_seen = LENT_SEEN;
}

static void give_back(recorder *self)
{
    PyObject *variables = self->lent, *before = self->lent_before, *key, *value;
    PyObject *type, *problem, *trace;
    PyErr_Fetch(&type, &problem, &trace);
    self->lent = self->lent_before = NULL;
    PyObject *keys = PyDict_Keys(variables);
    for (Py_ssize_t i = 0; keys != NULL && i < PyList_GET_SIZE(keys); i++) {
        key = PyList_GET_ITEM(keys, i);
        PyObject *bytes = PyUnicode_Check(key) ? PyUnicode_EncodeFSDefault(key) : new_reference(key);
        const char *name = bytes != NULL && PyBytes_Check(bytes) ? PyBytes_AS_STRING(bytes) : "";
        if (strncmp(name, OURS, strlen(OURS)) == 0 || strcmp(name, PATH) == 0) {
            value = PyDict_GetItem(before, key);
            if (value != NULL) {
                PyDict_SetItem(variables, key, value);
            } else {
                PyDict_DelItem(variables, key);
            }
        }
        Py_XDECREF(bytes);
    }
    PyErr_Clear();
    Py_XDECREF(keys);
    Py_DECREF(variables);
    Py_DECREF(before);
    PyErr_Restore(type, problem, trace);
}

static void child_starts(recorder *self, stack *thread, PyObject *command, PyObject *env)
{
    uint32_t depth = running_depth(thread);
    const stack_entry *caller = &thread->entries[depth];
    uint32_t item = command_row(self, command);
    thread->waits_for = waits_for;
    if (depth == 0 || caller->overflow || item == 0 || (env == NULL && (caller->code->traits & TRAIT_CHILD))) {
        return;
    }
    stack_book(thread, clock_ticks());
    uint32_t context = context_below(self, thread, caller->context, item, line_of_call(caller));
    count(self, context, item, ENTRY_CALL);
    if (env != NULL && env != Py_None && caller->code->traits & TRAIT_SPAWN) {
        lend(self, thread, depth, env);
    }
}

/* The builtin that is under way does nothing but run this command: its time is the command's. */
static void shell_runs(recorder *self, stack *thread, PyObject *command)
{
    stack_entry *top = &thread->entries[thread->depth];
    if (top->code != NULL || top->overflow || thread->depth == 0) {
        return;
    }
    stack_book(thread, clock_ticks());
    uint32_t item = command_row(self, command);
    uint32_t context = context_below(self, thread, top->context, item, 0);
    if (context != 0) {
        count(self, context, item, ENTRY_CALL);
        top->context = thread->record->top = context;
    }
}

/* Whether an event comes from an interpreter that is not the one recorded. From 3.13 on none tells that it is made when
 * compiled code makes it; but whatever it opens, and its end, is told here from within it. They are numbered in turn. */
static int is_elsewhere(recorder *self)
{
#if PY_VERSION_HEX >= 0x030D0000
    PyThreadState *thread = PyThreadState_GetUnchecked();
#else
    PyThreadState *thread = _PyThreadState_UncheckedGet();
#endif
    PyInterpreterState *here = thread == NULL ? home : PyThreadState_GetInterpreter(thread);
    if (here == home) {
        return 0;
    }
#if PY_VERSION_HEX >= 0x030D0000
    uint32_t *unseen = &self->store.head->unseen_interpreters, before = __atomic_load_n(unseen, __ATOMIC_RELAXED);
    uint32_t number = (uint32_t)(PyInterpreterState_GetID(here) - PyInterpreterState_GetID(home));
    while (number > before && !__atomic_compare_exchange_n(unseen, &before, number, 0, __ATOMIC_RELAXED, __ATOMIC_RELAXED)) {
    }
#else
    (void)self;
#endif
    return 1;
}

static int on_audit(const char *event, PyObject *args, void *data)
{
    recorder *self = data;
    if ((event[0] != 's' && event[0] != 'o' && event[0] != 'r' && event[0] != 'c') || !self->active || is_elsewhere(self)
        || !PyTuple_Check(args)) {
        return 0;
    }
    PyObject *type, *value, *trace;
    stack *thread = hook_stack();
    Py_ssize_t count = PyTuple_GET_SIZE(args);
    if (thread == NULL || thread->depth == 0) {
        return 0;
    }
    PyErr_Fetch(&type, &value, &trace);
    const void *frame = self->public_only ? NULL : frame_running_now();
    if (frame != NULL) {
        show_running(self, thread, frame);
    }
    if (strcmp(event, "cpython.PyInterpreterState_New") == 0) {
        self->store.head->unseen_interpreters++;
    } else if (strcmp(event, "ricerca.region") == 0 && count == 1) {
        begin_region(self, thread, PyTuple_GET_ITEM(args, 0));
    } else if (strcmp(event, "ricerca.region.end") == 0 && count == 1) {
        end_region(self, thread, PyTuple_GET_ITEM(args, 0));
    } else if (strcmp(event, "subprocess.Popen") == 0 && count >= 4) {
        child_starts(self, thread, PyTuple_GET_ITEM(args, 1), PyTuple_GET_ITEM(args, 3));
    } else if (strcmp(event, "os.posix_spawn") == 0 && count >= 2) {
        child_starts(self, thread, PyTuple_GET_ITEM(args, 1), NULL);
    } else if (strcmp(event, "os.system") == 0 && count == 1) {
        shell_runs(self, thread, PyTuple_GET_ITEM(args, 0));
    } else if (strcmp(event, "os.exec") == 0) {
        arena_close(&self->store);
    }
    PyErr_Restore(type, value, trace);
    return 0;
}

static void pause_here(recorder *self, stack *thread)
{
    if (thread != NULL) {
        stack_book(thread, clock_ticks());
    }
    self->store.muted = 1;
    self->store.slice_end = 0; /* every gap goes the long way now, where it is dropped */
    self->store.head->flags |= FLAG_PAUSED;
}

static void go_on(recorder *self, stack *thread)
{
    uint64_t now = clock_ticks();
    for (uint64_t i = 1; i < self->store.tables[TABLE_THREADS].count; i++) {
        self->store.threads[i].last_ticks = now;
    }
    if (thread != NULL) {
        stack_start_cpu_clock(thread);
    }
    self->store.muted = 0;
    self->store.slice_end = self->store.slice_first == 0 ? UINT64_MAX : now;
}

int items_attend(recorder *self, stack *thread)
{
    uint32_t control = self->store.head->control;
    if (self->lent != NULL && thread == self->lent_by && thread->depth < self->lent_depth) {
        give_back(self);
    }
    if (control == CONTROL_PAUSE && !self->store.muted) {
        pause_here(self, thread);
    } else if (control == CONTROL_GO && self->store.muted) {
        go_on(self, thread);
    } else if (control == CONTROL_FINISH) {
        if (thread != NULL && !self->store.muted) {
            stack_book(thread, clock_ticks());
        }
        self->store.head->flags |= FLAG_FINISHED;
        arena_close(&self->store);
        self->active = 0;
    }
    self->store.control_seen = self->lent != NULL ? LENT_SEEN : control;
    return self->active;
}

static PyMethodDef collection_callback = {"on_collection", on_collection, METH_VARARGS, NULL};

int items_open(recorder *self)
{
    watched = self;
    home = PyThreadState_GetInterpreter(PyThreadState_Get());
    PyObject *modules = PyImport_GetModuleDict();
    int known = modules != NULL && PyDict_GetItemString(modules, "gc") != NULL;
    PyObject *collector = PyImport_ImportModule("gc");
    PyObject *callbacks = collector == NULL ? NULL : PyObject_GetAttrString(collector, "callbacks");
    PyObject *ours = PyCFunction_New(&collection_callback, NULL);
    int failed = callbacks == NULL || ours == NULL || PyList_Append(callbacks, ours) != 0;
    if (!known && collector != NULL) {
        PyDict_DelItemString(modules, "gc");
    }
    Py_XDECREF(ours);
    Py_XDECREF(callbacks);
    Py_XDECREF(collector);
    starters_open(self);
    return failed || PySys_AddAuditHook(on_audit, self) != 0 ? -1 : 0;
}
