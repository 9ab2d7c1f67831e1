/* The interpreter's monitoring interface (3.12 on), as far as hooks share it. */
#ifndef RICERCA_MONITORING_H
#define RICERCA_MONITORING_H

#define PY_SSIZE_T_CLEAN
#include <Python.h>

#if PY_VERSION_HEX >= 0x030C0000

typedef struct {
    const char *event;
    vectorcallfunc callback;
    int everywhere; /* 0: asked for by code, or it comes with another */
} wire;

/* A callback, called straight by the interpreter. */
#define CALLBACK(name)                                                                                \
    static PyObject *name(PyObject *Py_UNUSED(callback), PyObject *const *args, size_t Py_UNUSED(count), \
                          PyObject *Py_UNUSED(keywords))

/* sys.monitoring (borrowed), with a number for a tool taken; NULL with an error set. */
PyObject *monitoring_open(int *tool);
/* Registers all callbacks. The set of events that are wanted everywhere, or -1; by_code: the others. */
long monitoring_wire(PyObject *monitoring, int tool, const wire *wiring, int count, long *by_code);
/* Number of an event, or -1 with an error set. */
long monitoring_event(PyObject *monitoring, const char *name);
/* Switches these events on everywhere and all others off. 0, or -1. */
int monitoring_set(PyObject *monitoring, int tool, long events);
/* Switches these events on for one code object. */
void monitoring_set_local(PyObject *monitoring, int tool, PyCodeObject *code, long events);
/* Events off, number given back. */
void monitoring_close(PyObject *monitoring, int tool);

#endif
#endif
