/* The yardstick: a hook of the same kind as the recorder's that does nothing at all; with READ_CLOCK it reads the
 * clock once an event, which no recorder can do without. */
#define PY_SSIZE_T_CLEAN
#include <Python.h>
#include <frameobject.h>
#include <time.h>
#if defined(__x86_64__)
#include <x86intrin.h>
#endif

static volatile unsigned long long last_ticks;

static inline void read_clock(void)
{
#if defined(READ_CLOCK) && defined(__x86_64__)
    last_ticks = __rdtsc();
#elif defined(READ_CLOCK)
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    last_ticks = (unsigned long long)now.tv_nsec;
#endif
}

#if PY_VERSION_HEX < 0x030C0000
static int nothing(PyObject *self, PyFrameObject *frame, int what, PyObject *arg)
{
    (void)self;
    (void)frame;
    (void)what;
    (void)arg;
    read_clock();
    return 0;
}

static PyObject *start(PyObject *module, PyObject *args)
{
    (void)module;
    (void)args;
    PyEval_SetProfile(nothing, NULL);
    Py_RETURN_NONE;
}
#else
static PyObject *nothing(PyObject *module, PyObject *const *args, Py_ssize_t count)
{
    (void)module;
    (void)args;
    (void)count;
    read_clock();
    Py_RETURN_NONE;
}

static PyMethodDef callback = {"nothing", (PyCFunction)(void (*)(void))nothing, METH_FASTCALL, NULL};

/* Every event that the recorder asks for, each with a callback that does nothing. */
static PyObject *start(PyObject *module, PyObject *args)
{
    static const char *const events[] = {"PY_START", "PY_RESUME", "PY_THROW", "PY_RETURN", "PY_YIELD",
                                         "PY_UNWIND", "CALL", "C_RETURN", "C_RAISE"};
    (void)module;
    (void)args;
    PyObject *monitoring = PySys_GetObject("monitoring");
    PyObject *names = PyObject_GetAttrString(monitoring, "events");
    long wanted = 0;
    Py_XDECREF(PyObject_CallMethod(monitoring, "use_tool_id", "is", 3, "empty"));
    for (int i = 0; i < 9; i++) {
        PyObject *number = PyObject_GetAttrString(names, events[i]);
        long event = PyLong_AsLong(number);
        PyObject *made = PyCFunction_New(&callback, NULL);
        Py_XDECREF(PyObject_CallMethod(monitoring, "register_callback", "ilO", 3, event, made));
        Py_DECREF(made);
        Py_DECREF(number);
        wanted |= i < 7 ? event : 0;
    }
    Py_DECREF(names);
    return PyObject_CallMethod(monitoring, "set_events", "il", 3, wanted);
}
#endif

static PyMethodDef methods[] = {
    {"start", start, METH_VARARGS, "start(...): installs the empty hook; all arguments are ignored."},
    {NULL, NULL, 0, NULL},
};

static PyModuleDef definition = {PyModuleDef_HEAD_INIT, "_native", "An empty hook.", -1, methods, NULL, NULL, NULL, NULL};

PyMODINIT_FUNC PyInit__native(void) { return PyModule_Create(&definition); }
