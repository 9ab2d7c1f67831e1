/* What else can be called than functions: classes, partial objects, ufuncs, functions of extension languages. */
#include "names.h"

#include <string.h>

#if PY_VERSION_HEX >= 0x030C0000

/* How a class looks whose __init__, __new__ or __call__ is Python code. */
static struct {
    initproc init;
    newfunc new;
    ternaryfunc call;
} python_slots;

static PyObject *name_word, *qualname_word, *module_word;

static PyObject *kept_word(const char *text) { return PyUnicode_InternFromString(text); }

int callables_open(void)
{
    static const char source[] = "class C:\n def __init__(self): pass\n def __new__(cls): pass\n def __call__(self): pass\n";
    PyObject *space = PyDict_New(), *done = NULL;
    if (name_word == NULL) {
        name_word = kept_word("__name__");
        qualname_word = kept_word("__qualname__");
        module_word = kept_word("__module__");
    }
    if (space != NULL && PyDict_SetItemString(space, "__builtins__", PyEval_GetBuiltins()) == 0) {
        done = PyRun_String(source, Py_file_input, space, space);
    }
    PyTypeObject *type = done == NULL ? NULL : (PyTypeObject *)PyDict_GetItemString(space, "C");
    if (type != NULL) {
        python_slots.init = type->tp_init;
        python_slots.new = type->tp_new;
        python_slots.call = type->tp_call;
    }
    Py_XDECREF(done);
    Py_XDECREF(space);
    return type == NULL || name_word == NULL || qualname_word == NULL || module_word == NULL ? -1 : 0;
}

enum callable names_callable(PyObject *callable, PyObject *argument)
{
    PyTypeObject *type = Py_TYPE(callable);
    if (type == &PyMethod_Type) {
        return names_callable(PyMethod_GET_FUNCTION(callable), callable);
    }
    if (type == &PyFunction_Type) {
        return CALLABLE_PYTHON;
    }
    if (PyCFunction_CheckExact(callable) || type == &PyCMethod_Type) {
        return CALLABLE_BUILTIN;
    }
    if (type == &PyMethodDescr_Type) {
        return argument == NULL ? CALLABLE_PYTHON : CALLABLE_METHOD; /* without an object it is an error */
    }
    if (PyType_Check(callable)) {
        const PyTypeObject *made = (PyTypeObject *)callable;
        int python = made->tp_init == python_slots.init || made->tp_new == python_slots.new || type->tp_call == python_slots.call;
        return python ? CALLABLE_MAKER : CALLABLE_OTHER;
    }
    return type->tp_call == python_slots.call ? CALLABLE_PYTHON : CALLABLE_OTHER;
}

/* Whether an attribute of this name is C code of the type's own, so that asking for it runs nothing of the program. */
static int is_plain_attribute(PyTypeObject *type, PyObject *name)
{
    PyObject *found = _PyType_Lookup(type, name); /* borrowed */
    return found != NULL && (Py_IS_TYPE(found, &PyGetSetDescr_Type) || Py_IS_TYPE(found, &PyMemberDescr_Type));
}

/* A new reference to such an attribute of an object where it is a text, or NULL without an error. */
static PyObject *text_of(PyObject *object, PyObject *name)
{
    if (!is_plain_attribute(Py_TYPE(object), name)) {
        return NULL;
    }
    PyObject *text = PyObject_GetAttr(object, name);
    if (text != NULL && !PyUnicode_Check(text)) {
        Py_CLEAR(text);
    }
    PyErr_Clear();
    return text;
}

/* By its own name where its kind bears names, as functions of extension languages do. */
static uint32_t named_row(names *self, PyObject *callable, PyObject *name)
{
    PyTypeObject *type = Py_TYPE(callable);
    PyObject *module = text_of(callable, module_word);
    uint64_t owner = (uint64_t)PyObject_Hash(name) * 3u ^ (module == NULL ? 0 : (uint64_t)PyObject_Hash(module) * 7u);
    uint32_t row = names_known_builtin(self, type, owner | 1u);
    if (row == 0) {
        row = names_new_named(self, type, owner | 1u, name, module, module == NULL ? type : NULL);
    }
    Py_XDECREF(module);
    return row;
}

static uint32_t type_row(names *self, PyTypeObject *type, const char *end)
{
    uint64_t owner = owner_key(type);
    uint32_t row = names_known_builtin(self, end, owner);
    return row != 0 ? row : names_new_type(self, end, owner, type, end);
}

uint32_t names_other(names *self, PyObject *callable)
{
    static const char made[] = "", called[] = ".__call__";
    if (Py_IS_TYPE(callable, &PyMethod_Type)) {
        callable = PyMethod_GET_FUNCTION(callable);
    }
    if (PyType_Check(callable)) {
        return type_row(self, (PyTypeObject *)callable, made);
    }
    PyObject *name = text_of(callable, qualname_word);
    if (name == NULL) {
        name = text_of(callable, name_word);
    }
    uint32_t row = name == NULL ? type_row(self, Py_TYPE(callable), called) : named_row(self, callable, name);
    Py_XDECREF(name);
    return row;
}

#else
typedef int not_for_this_interpreter;
#endif
