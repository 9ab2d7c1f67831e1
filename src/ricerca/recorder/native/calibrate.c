/* What one event costs, measured with the real hook on a private arena: tiny calls with and without
 * it. The part between the two clock readings of a call is booked on the callee (inside), the rest
 * falls on the caller (outside). Up to 3.11 a hook also slows every instruction, called or not: a
 * loop without calls tells by how much. */
#include "recorder.h"
#include "traits.h"

#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#define CALLS 300
#define FEW_CALLS 10
#define ROUNDS 21 /* many short ones: both loops of a round meet the same machine */
#define MOST_ROUNDS 101 /* for what matters most */
#define WARM_NS 3000000u /* a processor that just came here runs the first moments slower */
#define MOST_FACTOR 8.0
#define ARENA_BYTES (2u * 1024u * 1024u)

static const char SOURCE[] =
    "def leaf():\n    pass\n"
    "def python_loop(times, leaf=leaf):\n    for _ in times: leaf()\n"
    "class Point:\n    def __init__(self):\n        self.x = 1.5\n        self.y = 2.5\n"
    "base, items = 0.5, (1.0, 2.0)\n"
    "def bytecode_loop(times):\n    total, count = 0.0, len(times)\n    while count:\n        count -= 1\n        total += count * 0.5\n"
    "def lookup_loop(times, point=Point()):\n    best = 9.0\n"
    "    for _ in times:\n        best = point.x + best * 0.5\n        if best > base:\n            point.y = items[1]\n"
    "def names_loop(times):\n    exec(names_body, {'times': times})\n"
    "names_body = compile('a = 3\\nb = 0\\nfor i in times:\\n    b = b + a\\n    if b > 9:\\n        b = 0\\n', '<calibration>', 'exec')\n"
    "def answer(value):\n    return 0\n"
    "def callback_loop(times):\n    sorted(times, key=answer)\n"
    "def fall(depth):\n    return depth and fall(depth - 1)\n"
    "def deep_loop(times):\n    fall(len(times) - 1)\n"
    "def adder(n):\n    return lambda x: x + n\n"
    "def adders_loop(times):\n    for i in times: adder(i)(i)\n"
    "def given(times):\n    for i in times: yield i\n"
    "def resume_loop(times):\n    for _ in given(times): pass\n"
    "def builtin_loop(times, call=callable):\n    for _ in times: call(None)\n";

typedef struct {
    double plain_ns;
    double recorded_ns;
    double self_ns; /* what the recorder booked on the callee */
    double work_ns; /* of the hook itself at an entry */
} cost;

static int public_only; /* as the recording will be */

static double timed(PyObject *loop, PyObject *times)
{
    uint64_t start = mono_ns();
    PyObject *result = PyObject_CallOneArg(loop, times);
    uint64_t end = mono_ns();
    if (result == NULL) {
        PyErr_Clear();
        return -1.0;
    }
    Py_DECREF(result);
    return (double)(end - start) / CALLS;
}

static void warm_up(PyObject *loop, PyObject *times)
{
    uint64_t start = mono_ns();
    while (mono_ns() - start < WARM_NS && timed(loop, times) >= 0) {
    }
}

/* Self time per call of the busiest context from index first on: the callee of the loop. */
static double booked_ns(const arena *store, uint64_t first)
{
    const context_record *best = &store->contexts[0];
    for (uint64_t i = first; i < store->tables[TABLE_CONTEXTS].count; i++) {
        if (store->contexts[i].calls > best->calls) {
            best = &store->contexts[i];
        }
    }
    return best->calls > 0 ? (double)best->self_ticks * store->ns_per_tick / (double)best->calls : 0.0;
}

static int by_value(const void *a, const void *b)
{
    double left = *(const double *)a, right = *(const double *)b;
    return (left > right) - (left < right);
}

/* The middle of each figure: the program will not run at the machine's best speed either. */
static cost middle_of(const cost *rounds, int count)
{
    double plain[MOST_ROUNDS], recorded[MOST_ROUNDS], own[MOST_ROUNDS];
    for (int i = 0; i < count; i++) {
        plain[i] = rounds[i].plain_ns;
        recorded[i] = rounds[i].recorded_ns;
        own[i] = rounds[i].self_ns;
    }
    qsort(plain, (size_t)count, sizeof(double), by_value);
    qsort(recorded, (size_t)count, sizeof(double), by_value);
    qsort(own, (size_t)count, sizeof(double), by_value);
    cost middle = {.plain_ns = plain[count / 2], .recorded_ns = recorded[count / 2], .self_ns = own[count / 2]};
    return middle;
}

/* One pair of loops, without and with the hook. Each time the hook is put in, a new thread root and so
 * new contexts begin. */
static int trial_round(recorder *trial, PyObject *loop, PyObject *times, cost *found)
{
    PyObject *few = PySequence_GetSlice(times, 0, FEW_CALLS);
    if (few == NULL) {
        PyErr_Clear();
        return -1;
    }
    uint64_t first = trial->store.tables[TABLE_CONTEXTS].count;
    timed(loop, few); /* as it will be with the hook */
    double plain = timed(loop, times);
    if (hook_install_now(trial) != 0) {
        PyErr_Clear();
        Py_DECREF(few);
        return -1;
    }
    timed(loop, few); /* the code is made ready for the hook when it next runs */
    double recorded = timed(loop, times);
    hook_remove(trial);
    Py_DECREF(few);
    found->plain_ns = plain;
    found->recorded_ns = recorded;
    found->self_ns = booked_ns(&trial->store, first);
    return 0;
}

/* Of the hook itself at an entry, as it is watched in the program too. */
static double work_ns(const arena *store)
{
    const header *head = store->head;
    uint64_t times = head->python_watched.times + head->builtin_watched.times;
    uint64_t ticks = head->python_watched.ticks + head->builtin_watched.ticks;
    return times > 0 ? (double)ticks * store->ns_per_tick / (double)times : 0.0;
}

static int measure(PyObject *loop, PyObject *times, int count, cost *found)
{
    char path[64];
    recorder trial;
    memset(&trial, 0, sizeof trial);
    trial.public_only = public_only;
    int memory = memfd_create("calibration", MFD_CLOEXEC);
    if (memory < 0) {
        return -1;
    }
    snprintf(path, sizeof path, "/proc/self/fd/%d", memory);
    int failed = arena_open(&trial.store, path, 1, ARENA_BYTES, PY_VERSION_HEX);
    close(memory);
    if (failed) {
        return -1;
    }
    cost rounds[MOST_ROUNDS];
    timed(loop, times); /* until its code is settled */
    if (names_open(&trial.known, &trial.store) == 0) {
        trial.thread_root = names_thread_root(&trial.known);
        for (int i = 0; i < count && !failed; i++) {
            failed = trial_round(&trial, loop, times, &rounds[i]);
        }
        if (!failed) {
            *found = middle_of(rounds, count);
            found->work_ns = work_ns(&trial.store);
        }
        names_close(&trial.known);
    } else {
        PyErr_Clear();
        failed = -1;
    }
    arena_unmap(&trial.store);
    return failed;
}

/* Recorded time = plain time, bytecode in it stretched, + fixed cost. own_share of a plain call passes
 * within the callee. */
static void share_cost(const cost *found, double caller_factor, double own_factor, double own_share, double *inside,
                       double *outside)
{
    double own = found->plain_ns * own_share * own_factor;
    double total = found->recorded_ns - found->plain_ns * (1.0 - own_share) * caller_factor - own;
    total = total > 0 ? total : 0;
    *inside = found->self_ns - own;
    *inside = *inside < 0 ? 0 : *inside > total ? total : *inside;
    *outside = total - *inside;
}

static double factor_of(PyObject *loop, PyObject *times)
{
    cost found;
    if (measure(loop, times, ROUNDS, &found) != 0 || found.plain_ns <= 0 || found.recorded_ns <= found.plain_ns) {
        return 1.0;
    }
    double factor = found.recorded_ns / found.plain_ns;
    return factor < MOST_FACTOR ? factor : MOST_FACTOR;
}

static void calibrate_loops(recorder *self, PyObject *space, PyObject *times)
{
    header *head = self->store.head;
    PyObject *bytecode = PyDict_GetItemString(space, "bytecode_loop");
    PyObject *lookups = PyDict_GetItemString(space, "lookup_loop");
    PyObject *python = PyDict_GetItemString(space, "python_loop");
    PyObject *builtin = PyDict_GetItemString(space, "builtin_loop");
    PyObject *callback = PyDict_GetItemString(space, "callback_loop");
    PyObject *by_name = PyDict_GetItemString(space, "names_loop");
    cost found;
    head->bytecode_factor = head->names_factor = head->lookup_factor = 1.0;
    if (bytecode == NULL || lookups == NULL || python == NULL || builtin == NULL || callback == NULL || by_name == NULL) {
        return;
    }
    warm_up(bytecode, times);
    head->bytecode_factor = factor_of(bytecode, times);
    head->names_factor = factor_of(by_name, times);
    head->lookup_factor = factor_of(lookups, times);
    head->lookup_share = traits_lookup_share(lookups);
    double factor = head->bytecode_factor;
    if (measure(python, times, MOST_ROUNDS, &found) == 0) {
        share_cost(&found, factor, factor, 0.2, &head->python_inside_ns, &head->python_outside_ns);
        head->python_work_ns = found.work_ns;
    }
    /* What calls back, and a builtin's own time, are not bytecode and so not stretched. */
    if (measure(callback, times, ROUNDS, &found) == 0) {
        share_cost(&found, 1.0, factor, 0.3, &head->callback_inside_ns, &head->callback_outside_ns);
    }
    if (measure(builtin, times, ROUNDS, &found) == 0) {
        share_cost(&found, factor, 1.0, 0.25, &head->builtin_inside_ns, &head->builtin_outside_ns);
        head->builtin_work_ns = found.work_ns;
    }
}

/* Calls with and without what begins every frame, in turn; both as they are when the code has got used to it. */
static double cost_of_untimed(recorder *self, PyObject *loop, PyObject *times)
{
    double plain[ROUNDS], beside[ROUNDS];
    for (int i = 0; i < ROUNDS; i++) {
        timed(loop, times);
        plain[i] = timed(loop, times);
        if (sparse_install_now(self) != 0) {
            PyErr_Clear();
            return 0;
        }
        timed(loop, times);
        beside[i] = timed(loop, times);
        sparse_remove(self);
    }
    qsort(plain, ROUNDS, sizeof(double), by_value);
    qsort(beside, ROUNDS, sizeof(double), by_value);
    double more = beside[ROUNDS / 2] - plain[ROUNDS / 2];
    return more > 0 ? more : 0;
}

static void compare_untimed(recorder *self, PyObject *space, PyObject *times)
{
    PyObject *flat = PyDict_GetItemString(space, "python_loop"), *deep = PyDict_GetItemString(space, "deep_loop");
    PyObject *adders = PyDict_GetItemString(space, "adders_loop"), *resume = PyDict_GetItemString(space, "resume_loop");
    header *head = self->store.head;
    warm_up(flat, times);
    /* The same function again and again, and two a time that are new: what programs do lies between them. */
    head->unwatched_call_ns = (cost_of_untimed(self, flat, times) + cost_of_untimed(self, adders, times) / 2) / 2;
    head->unwatched_deep_ns = cost_of_untimed(self, deep, times);
    head->unwatched_resume_ns = cost_of_untimed(self, resume, times);
}

static void calibrate_with(recorder *self, void (*loops)(recorder *, PyObject *, PyObject *), int calls)
{
    public_only = self->public_only;
    PyObject *space = PyDict_New();
    PyObject *times = PyObject_CallFunction((PyObject *)&PyRange_Type, "i", calls); /* as most loops in programs have it */
    PyObject *result = NULL;
    if (space == NULL || times == NULL) {
        goto done;
    }
    if (PyDict_SetItemString(space, "__builtins__", PyEval_GetBuiltins()) != 0) {
        goto done;
    }
    result = PyRun_String(SOURCE, Py_file_input, space, space);
    if (result != NULL) {
        loops(self, space, times);
    }
done:
    PyErr_Clear();
    Py_XDECREF(result);
    Py_XDECREF(times);
    Py_XDECREF(space);
}

void calibrate(recorder *self) { calibrate_with(self, calibrate_loops, CALLS); }

/* From 3.12 on such a call costs nothing. */
void calibrate_untimed(recorder *self)
{
    if (PY_VERSION_HEX < 0x030C0000) {
        calibrate_with(self, compare_untimed, CALLS);
    }
}
