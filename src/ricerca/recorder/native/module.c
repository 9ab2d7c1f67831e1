/* The extension module: start(...) and the closing mark at the very end. */
#ifndef _GNU_SOURCE
#define _GNU_SOURCE 1
#endif
#include "recorder.h"

#include <dlfcn.h>
#include <errno.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static recorder the_recorder;

static void close_at_exit(void)
{
    if (the_recorder.store.head != NULL) {
        hook_put_away(&the_recorder);
        arena_close(&the_recorder.store);
        the_recorder.active = 0;
    }
}

/* A forked child shares the mapping: it must not write into its parent's recording. */
static void leave_in_child(void)
{
    the_recorder.forked = the_recorder.active;
    the_recorder.active = 0;
}

int recorder_follow_fork(recorder *self, stack *own)
{
    char path[4096];
    self->forked = 0;
    if (snprintf(path, sizeof path, "%s.%d", self->path, (int)getpid()) >= (int)sizeof path
        || arena_follow_fork(&self->store, path) != 0) {
        return 0;
    }
    for (uint64_t i = 1; i < self->store.tables[TABLE_THREADS].count; i++) {
        self->store.threads[i].ended = i != own->index; /* only the thread that forked lives on */
    }
    own->record->start_ticks = own->record->last_ticks = self->store.head->start_ticks;
    stack_start_cpu_clock(own);
    self->active = 1;
    return 1;
}

/* Copies patterns (a sequence of str) as plain C strings. 0, or -1 with an error set. */
static int take_patterns(PyObject *patterns, char ***kept, int *kept_count)
{
    Py_ssize_t count = PySequence_Size(patterns);
    if (count <= 0) {
        return count < 0 ? -1 : 0;
    }
    *kept = calloc((size_t)count, sizeof(char *));
    if (*kept == NULL) {
        PyErr_NoMemory();
        return -1;
    }
    for (Py_ssize_t i = 0; i < count; i++) {
        PyObject *item = PySequence_GetItem(patterns, i);
        const char *text = item == NULL ? NULL : PyUnicode_AsUTF8(item);
        char *copy = text == NULL ? NULL : strdup(text);
        Py_XDECREF(item);
        if (copy == NULL) {
            return -1;
        }
        (*kept)[(*kept_count)++] = copy;
    }
    return 0;
}

/* Copies keys (a sequence of (first line, name, file)). 0, or -1 with an error set. */
static int take_keys(PyObject *keys, names *known)
{
    Py_ssize_t count = PySequence_Size(keys);
    if (count <= 0) {
        return count < 0 ? -1 : 0;
    }
    known->timed = calloc((size_t)count, sizeof *known->timed);
    if (known->timed == NULL) {
        PyErr_NoMemory();
        return -1;
    }
    for (Py_ssize_t i = 0; i < count; i++) {
        PyObject *item = PySequence_GetItem(keys, i);
        code_key *key = &known->timed[known->timed_count];
        const char *name, *file;
        int failed = item == NULL || !PyArg_ParseTuple(item, "Iss", &key->first_line, &name, &file)
            || (key->name = strdup(name)) == NULL || (key->file = strdup(file)) == NULL;
        Py_XDECREF(item);
        if (failed) {
            free(key->name);
            return -1;
        }
        known->timed_count++;
    }
    return 0;
}

/* The context that runs on this thread, for compiled code that is called from it; 0 for none. */
static uint32_t context_now(void)
{
    const recorder *self = &the_recorder;
    const stack *thread = self->active && !self->forked ? hook_stack_unlocked() : NULL;
    return thread == NULL || thread->depth == 0 ? 0 : thread->entries[thread->depth].context;
}

/* Compiled code with calls of its own may be recorded beside us: it asks what called it. */
static void meet_compiled_code(void)
{
    uint32_t (**asks)(void) = (uint32_t (**)(void))dlsym(RTLD_DEFAULT, "ricerca_context_above");
    if (asks != NULL) {
        *asks = context_now;
    }
}

static PyObject *start(PyObject *module, PyObject *args)
{
    (void)module;
    PyObject *path = NULL, *patterns = NULL, *insides = NULL, *timed = NULL;
    unsigned long long limit_bytes;
    int paused, public_only;
    recorder *self = &the_recorder;
    if (!PyArg_ParseTuple(args, "O&KOOpp|O", PyUnicode_FSConverter, &path, &limit_bytes, &patterns, &insides, &paused, &public_only,
                          &timed)) {
        return NULL;
    }
    if (self->store.head != NULL) {
        Py_DECREF(path);
        PyErr_SetString(PyExc_RuntimeError, "this process is being recorded already");
        return NULL;
    }
    uint64_t began = mono_ns();
    int failed = arena_open(&self->store, PyBytes_AS_STRING(path), 0, limit_bytes, PY_VERSION_HEX);
    if (failed) {
        errno = failed;
        PyErr_SetFromErrnoWithFilenameObject(PyExc_OSError, path);
        Py_DECREF(path);
        return NULL;
    }
    self->public_only = public_only;
    self->path = strdup(PyBytes_AS_STRING(path));
    Py_DECREF(path);
    if (self->path == NULL) {
        return PyErr_NoMemory();
    }
    names *known = &self->known;
    if (names_open(known, &self->store) != 0 || take_patterns(patterns, &known->patterns, &known->pattern_count) != 0
        || take_patterns(insides, &known->insides, &known->inside_count) != 0 || (timed != NULL && take_keys(timed, known) != 0)) {
        return NULL;
    }
    self->thread_root = names_thread_root(&self->known);
    int sparse = known->timed_count > 0;
    if (sparse) {
        calibrate_untimed(self);
        self->store.head->flags |= FLAG_TIMED_ONLY;
    } else {
        calibrate(self);
    }
    self->follow_lines = self->known.pattern_count > 0;
    self->probing = !self->follow_lines;
    if (self->follow_lines) {
        self->store.head->flags |= FLAG_LINES;
    }
    if (pthread_atfork(NULL, NULL, leave_in_child) != 0 || Py_AtExit(close_at_exit) != 0) {
        PyErr_SetString(PyExc_RuntimeError, "no room for another exit handler");
        return NULL;
    }
    self->store.head->control = paused ? CONTROL_PAUSE : CONTROL_GO;
    self->store.head->hook = HOOK_KIND;
    if (sparse ? sparse_install(self) != 0 : items_open(self) != 0 || hook_install(self) != 0) {
        return NULL;
    }
    self->store.head->flags |= self->public_only ? FLAG_PUBLIC_ONLY : 0;
    meet_compiled_code();
    self->store.head->setup_ns = mono_ns() - began;
    Py_RETURN_NONE;
}

static PyMethodDef methods[] = {
    {"start", start, METH_VARARGS,
     "start(path, limit_bytes, patterns, insides, paused, public_only, timed): records this process into the existing empty file path,\n"
     "from the program's first frame on. patterns choose the code whose lines are followed; with insides,\n"
     "only what happens while a function of such a name is active is recorded. public_only: does not look into\n"
     "the interpreter's frames. With timed, a sequence of (first line, name, file), only calls of these functions are\n"
     "timed and nothing else is watched."},
    {NULL, NULL, 0, NULL},
};

static PyModuleDef definition = {PyModuleDef_HEAD_INIT, "_native", "Ricerca's recorder.", -1, methods, NULL, NULL, NULL, NULL};

PyMODINIT_FUNC PyInit__native(void)
{
    PyObject *module = PyModule_Create(&definition);
    if (module != NULL) {
        PyModule_AddStringConstant(module, "hook", hook_name());
    }
    return module;
}
