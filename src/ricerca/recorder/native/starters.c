/* Programs that are started with an environment of their own: by the interpreter's functions that start programs, called by hand. */
#include "starters.h"

#include <stdlib.h>
#include <string.h>

#define MOST_ARGUMENTS 32

extern char **environ;

static recorder *recording;

static void set_variable(PyObject *variables, const char *name, size_t length, const char *value, int as_bytes)
{
    PyObject *key = as_bytes ? PyBytes_FromStringAndSize(name, (Py_ssize_t)length)
                             : PyUnicode_FromStringAndSize(name, (Py_ssize_t)length);
    PyObject *text = as_bytes ? PyBytes_FromString(value) : PyUnicode_DecodeFSDefault(value);
    if (key != NULL && text != NULL) {
        PyDict_SetItem(variables, key, text);
    }
    Py_XDECREF(key);
    Py_XDECREF(text);
}

/* The program's own PYTHONPATH for the child goes behind our folder and is kept for the child to find. */
static void set_path(PyObject *variables, int as_bytes)
{
    const char *ours = getenv(PATH);
    PyObject *key = as_bytes ? PyBytes_FromString(PATH) : PyUnicode_FromString(PATH);
    PyObject *before = key == NULL ? NULL : PyDict_GetItem(variables, key);
    char path[8192] = "";
    size_t used = 0;
    for (; ours != NULL && ours[used] != '\0' && ours[used] != ':' && used < 4000; used++) {
        path[used] = ours[used];
    }
    if (before != NULL) {
        PyObject *bytes = PyUnicode_Check(before) ? PyUnicode_EncodeFSDefault(before) : before;
        if (bytes != NULL && PyBytes_Check(bytes) && PyBytes_GET_SIZE(bytes) < 4000) {
            set_variable(variables, OWN_PATH, strlen(OWN_PATH), PyBytes_AS_STRING(bytes), as_bytes);
            if (PyBytes_GET_SIZE(bytes) > 0) { /* an empty one means none, but an empty part of one the working folder */
                path[used++] = ':';
                strcpy(path + used, PyBytes_AS_STRING(bytes));
            }
        }
        if (bytes != before) {
            Py_XDECREF(bytes);
        }
    }
    set_variable(variables, PATH, strlen(PATH), path, as_bytes);
    Py_XDECREF(key);
}

void starters_add_variables(PyObject *variables, int as_bytes)
{
    for (char **entry = environ; *entry != NULL; entry++) {
        const char *value = strchr(*entry, '=');
        if (value != NULL && strncmp(*entry, OURS, strlen(OURS)) == 0 && strncmp(*entry, OWN_PATH, (size_t)(value - *entry)) != 0) {
            set_variable(variables, *entry, (size_t)(value - *entry), value + 1, as_bytes);
        }
    }
    set_path(variables, as_bytes);
}

/* The functions that do it take the environment as their third argument: they get a copy with our variables in it. */

typedef PyObject *(*starter)(PyObject *, PyObject *const *, Py_ssize_t, PyObject *);

enum { EXECVE, POSIX_SPAWN, POSIX_SPAWNP, STARTERS };
static starter starters_before[STARTERS];

/* A new reference: the environment with our variables, or NULL where it is no dictionary. */
static PyObject *with_our_variables(PyObject *env)
{
    PyObject *key, *value, *data = NULL;
    Py_ssize_t place = 0;
    if (!PyDict_Check(env) && strcmp(Py_TYPE(env)->tp_name, "_Environ") == 0) {
        data = PyObject_GetAttrString(env, "_data"); /* what os.environ holds */
        env = data;
    }
    PyObject *copy = env != NULL && PyDict_Check(env) ? PyDict_Copy(env) : NULL;
    Py_XDECREF(data);
    if (copy == NULL) {
        PyErr_Clear();
        return NULL;
    }
    int as_bytes = PyDict_Next(copy, &place, &key, &value) && PyBytes_Check(key);
    starters_add_variables(copy, as_bytes);
    PyErr_Clear();
    return copy;
}

static int passes_on(void)
{
    return recording != NULL && recording->lent == NULL && (recording->active || recording->forked) && getenv(OURS "RECORDING") != NULL;
}

static PyObject *start_with_variables(int which, PyObject *module, PyObject *const *args, Py_ssize_t count, PyObject *names)
{
    PyObject *ours[MOST_ARGUMENTS];
    Py_ssize_t all = count + (names == NULL ? 0 : PyTuple_GET_SIZE(names));
    PyObject *env = count >= 3 && all <= MOST_ARGUMENTS && passes_on() ? with_our_variables(args[2]) : NULL;
    if (env == NULL) {
        return starters_before[which](module, args, count, names);
    }
    memcpy(ours, args, (size_t)all * sizeof *ours);
    ours[2] = env;
    PyObject *result = starters_before[which](module, ours, count, names);
    Py_DECREF(env);
    return result;
}

#define STARTER(name, which)                                                                          \
    static PyObject *name(PyObject *module, PyObject *const *args, Py_ssize_t count, PyObject *names) \
    {                                                                                                 \
        return start_with_variables(which, module, args, count, names);                               \
    }
STARTER(our_execve, EXECVE)
STARTER(our_posix_spawn, POSIX_SPAWN)
STARTER(our_posix_spawnp, POSIX_SPAWNP)

/* A new reference to a list of NAME=VALUE with our variables in it, or NULL where it is none or has them already. */
static PyObject *list_with_our_variables(PyObject *list)
{
    PyObject *variables = PyList_Check(list) || PyTuple_Check(list) ? PyDict_New() : NULL, *key, *value;
    PyObject *found = variables == NULL ? NULL : PyList_New(0);
    for (Py_ssize_t i = 0; found != NULL && i < PySequence_Fast_GET_SIZE(list); i++) {
        PyObject *entry = PySequence_Fast_GET_ITEM(list, i);
        const char *text = PyBytes_Check(entry) ? PyBytes_AS_STRING(entry) : "";
        const char *sign = strchr(text, '=');
        if (sign == NULL || strncmp(text, OURS "RECORDING=", strlen(OURS "RECORDING=")) == 0) {
            Py_CLEAR(found);
            break;
        }
        set_variable(variables, text, (size_t)(sign - text), sign + 1, 1);
    }
    if (found != NULL) {
        starters_add_variables(variables, 1);
        for (Py_ssize_t place = 0; PyDict_Next(variables, &place, &key, &value);) {
            PyObject *entry = PyBytes_FromFormat("%s=%s", PyBytes_AS_STRING(key), PyBytes_AS_STRING(value));
            if (entry == NULL || PyList_Append(found, entry) != 0) {
                PyErr_Clear();
            }
            Py_XDECREF(entry);
        }
    }
    PyErr_Clear();
    Py_XDECREF(variables);
    return found;
}

#define FORK_EXEC_ENV 5 /* which of its arguments is the environment */
static PyCFunction fork_exec_before;

static PyObject *our_fork_exec(PyObject *module, PyObject *args)
{
    PyObject *env = PyTuple_GET_SIZE(args) > FORK_EXEC_ENV && passes_on() ? list_with_our_variables(PyTuple_GET_ITEM(args, FORK_EXEC_ENV)) : NULL;
    PyObject *ours = env == NULL ? NULL : PyTuple_New(PyTuple_GET_SIZE(args));
    if (ours == NULL) {
        Py_XDECREF(env);
        return fork_exec_before(module, args);
    }
    for (Py_ssize_t i = 0; i < PyTuple_GET_SIZE(args); i++) {
        PyObject *item = i == FORK_EXEC_ENV ? env : PyTuple_GET_ITEM(args, i);
        Py_INCREF(item);
        PyTuple_SET_ITEM(ours, i, item);
    }
    PyObject *result = fork_exec_before(module, ours);
    Py_DECREF(ours);
    Py_DECREF(env);
    return result;
}

typedef PyObject *(*fast_starter)(PyObject *, PyObject *const *, Py_ssize_t);

static PyObject *our_fast_fork_exec(PyObject *module, PyObject *const *args, Py_ssize_t count)
{
    fast_starter before = (fast_starter)(void (*)(void))fork_exec_before;
    PyObject *ours[MOST_ARGUMENTS];
    PyObject *env = count > FORK_EXEC_ENV && count <= MOST_ARGUMENTS && passes_on() ? list_with_our_variables(args[FORK_EXEC_ENV]) : NULL;
    if (env == NULL) {
        return before(module, args, count);
    }
    memcpy(ours, args, (size_t)count * sizeof *ours);
    ours[FORK_EXEC_ENV] = env;
    PyObject *result = before(module, ours, count);
    Py_DECREF(env);
    return result;
}

/* The table entry of a function of a module, NULL without an error where there is none. */
static PyMethodDef *entry_of_function(PyObject *module, const char *name)
{
    PyObject *function = module == NULL ? NULL : PyObject_GetAttrString(module, name);
    PyMethodDef *found = function != NULL && PyCFunction_CheckExact(function) ? ((PyCFunctionObject *)function)->m_ml : NULL;
    Py_XDECREF(function); /* the module keeps it */
    PyErr_Clear();
    return found;
}

static void stand_in_for_fork_exec(void)
{
    PyObject *modules = PyImport_GetModuleDict();
    int known = modules != NULL && PyDict_GetItemString(modules, "_posixsubprocess") != NULL;
    PyObject *module = PyImport_ImportModule("_posixsubprocess");
    PyMethodDef *entry = entry_of_function(module, "fork_exec");
    if (entry != NULL && (entry->ml_flags == METH_VARARGS || entry->ml_flags == METH_FASTCALL)) {
        fork_exec_before = entry->ml_meth;
        entry->ml_meth = entry->ml_flags == METH_VARARGS ? our_fork_exec : (PyCFunction)(void (*)(void))our_fast_fork_exec;
    }
    if (!known && module != NULL) {
        PyDict_DelItemString(modules, "_posixsubprocess");
    }
    PyErr_Clear();
    Py_XDECREF(module);
}

/* A builtin's hash is made from the C function that stands behind it: sets that hold those which now have ours are filled anew. */
static void fill_sets_anew(PyObject *modules)
{
    static const char *const sets[] = {"supports_fd", "supports_dir_fd", "supports_effective_ids", "supports_follow_symlinks"};
    PyObject *module = PyDict_GetItemString(modules, "os");
    for (size_t i = 0; module != NULL && i < sizeof sets / sizeof sets[0]; i++) {
        PyObject *set = PyObject_GetAttrString(module, sets[i]);
        PyObject *all = set != NULL && Py_IS_TYPE(set, &PySet_Type) ? PySequence_List(set) : NULL;
        if (all != NULL && PySet_Clear(set) == 0) {
            for (Py_ssize_t k = 0; k < PyList_GET_SIZE(all); k++) {
                PySet_Add(set, PyList_GET_ITEM(all, k));
            }
        }
        PyErr_Clear();
        Py_XDECREF(all);
        Py_XDECREF(set);
    }
}

void starters_open(recorder *self)
{
    static const char *const names[STARTERS] = {"execve", "posix_spawn", "posix_spawnp"};
    static const starter ours[STARTERS] = {our_execve, our_posix_spawn, our_posix_spawnp};
    recording = self;
    PyObject *modules = PyImport_GetModuleDict();
    PyObject *module = modules == NULL ? NULL : PyDict_GetItemString(modules, "posix");
    for (int i = 0; i < STARTERS; i++) {
        PyMethodDef *entry = entry_of_function(module, names[i]);
        if (entry != NULL && entry->ml_flags == (METH_FASTCALL | METH_KEYWORDS)) {
            starters_before[i] = (starter)(void (*)(void))entry->ml_meth;
            entry->ml_meth = (PyCFunction)(void (*)(void))ours[i];
        }
    }
    if (modules != NULL) {
        fill_sets_anew(modules);
    }
    stand_in_for_fork_exec();
}
