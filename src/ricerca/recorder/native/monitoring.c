#include "monitoring.h"

#include <stddef.h>

#if PY_VERSION_HEX >= 0x030C0000

enum { TOOL_FIRST = 3, TOOL_LAST = 4 }; /* the numbers that no kind of tool has a claim on */

/* Something to call and nothing more: the interpreter goes straight to the function. */
typedef struct {
    PyObject_HEAD
    vectorcallfunc call;
} callback_object;

static PyTypeObject callback_type = {
    PyVarObject_HEAD_INIT(NULL, 0)
    .tp_name = "ricerca.callback",
    .tp_basicsize = sizeof(callback_object),
    .tp_flags = Py_TPFLAGS_DEFAULT | Py_TPFLAGS_HAVE_VECTORCALL | Py_TPFLAGS_DISALLOW_INSTANTIATION,
    .tp_vectorcall_offset = offsetof(callback_object, call),
    .tp_call = PyVectorcall_Call,
};

static PyObject *new_callback(vectorcallfunc call)
{
    callback_object *made = PyType_Ready(&callback_type) == 0 ? PyObject_New(callback_object, &callback_type) : NULL;
    if (made != NULL) {
        made->call = call;
    }
    return (PyObject *)made;
}

long monitoring_event(PyObject *monitoring, const char *name)
{
    PyObject *events = PyObject_GetAttrString(monitoring, "events");
    PyObject *number = events == NULL ? NULL : PyObject_GetAttrString(events, name);
    long value = number == NULL ? -1 : PyLong_AsLong(number);
    Py_XDECREF(number);
    Py_XDECREF(events);
    return value;
}

PyObject *monitoring_open(int *tool)
{
    PyObject *monitoring = PySys_GetObject("monitoring");
    if (monitoring == NULL) {
        PyErr_SetString(PyExc_RuntimeError, "sys.monitoring is not there");
        return NULL;
    }
    for (int number = TOOL_FIRST; number <= TOOL_LAST; number++) {
        PyObject *taken = PyObject_CallMethod(monitoring, "use_tool_id", "is", number, "ricerca");
        if (taken != NULL) {
            Py_DECREF(taken);
            *tool = number;
            return monitoring;
        }
        PyErr_Clear();
    }
    PyErr_SetString(PyExc_RuntimeError, "no monitoring tool number is free");
    return NULL;
}

long monitoring_wire(PyObject *monitoring, int tool, const wire *wiring, int count, long *by_code)
{
    long everywhere = 0, others = 0;
    for (int i = 0; i < count; i++) {
        long event = monitoring_event(monitoring, wiring[i].event);
        PyObject *callback = new_callback(wiring[i].callback);
        PyObject *old = NULL;
        if (event >= 0 && callback != NULL) {
            old = PyObject_CallMethod(monitoring, "register_callback", "ilO", tool, event, callback);
        }
        Py_XDECREF(callback);
        if (old == NULL) {
            return -1;
        }
        Py_DECREF(old);
        *(wiring[i].everywhere ? &everywhere : &others) |= event;
    }
    if (by_code != NULL) {
        *by_code = others;
    }
    return everywhere;
}

int monitoring_set(PyObject *monitoring, int tool, long events)
{
    PyObject *done = PyObject_CallMethod(monitoring, "set_events", "il", tool, events);
    Py_XDECREF(done);
    return done == NULL ? -1 : 0;
}

void monitoring_set_local(PyObject *monitoring, int tool, PyCodeObject *code, long events)
{
    Py_XDECREF(PyObject_CallMethod(monitoring, "set_local_events", "iOl", tool, (PyObject *)code, events));
    PyErr_Clear();
}

void monitoring_close(PyObject *monitoring, int tool)
{
    if (monitoring_set(monitoring, tool, 0) != 0) {
        PyErr_Clear();
    }
    Py_XDECREF(PyObject_CallMethod(monitoring, "free_tool_id", "i", tool));
    PyErr_Clear();
}

#else
typedef int not_for_this_interpreter;
#endif
