/* The yardstick: a hook of the same kind as the recorder's that does nothing at all. */
#define PY_SSIZE_T_CLEAN
#include <Python.h>
#include <frameobject.h>

static int nothing(PyObject *self, PyFrameObject *frame, int what, PyObject *arg)
{
    (void)self;
    (void)frame;
    (void)what;
    (void)arg;
    return 0;
}

static PyObject *start(PyObject *module, PyObject *args)
{
    (void)module;
    (void)args;
    PyEval_SetProfile(nothing, NULL);
    Py_RETURN_NONE;
}

static PyMethodDef methods[] = {
    {"start", start, METH_VARARGS, "start(...): installs the empty hook; all arguments are ignored."},
    {NULL, NULL, 0, NULL},
};

static PyModuleDef definition = {PyModuleDef_HEAD_INIT, "_native", "An empty hook.", -1, methods, NULL, NULL, NULL, NULL};

PyMODINIT_FUNC PyInit__native(void) { return PyModule_Create(&definition); }
