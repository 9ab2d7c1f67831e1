/* From the interpreter's objects to rows of the function table. */
#ifndef RICERCA_NAMES_H
#define RICERCA_NAMES_H

#define PY_SSIZE_T_CLEAN
#include <Python.h>

#include "stack.h"

/* A function by what its code object tells of it on all interpreters. */
typedef struct {
    uint32_t first_line;
    char *name;
    char *file;
} code_key;

typedef struct {
    arena *store;
    uint32_t *string_slots;    /* interned strings: offset, length pairs */
    uint32_t string_mask, string_count;
    uint32_t *function_slots;  /* functions by content */
    uint32_t function_mask, function_count;
    struct builtin_slot {
        const void *method;    /* its PyMethodDef */
        uint64_t owner;        /* type it is bound to: address, or hash of the name of a heap type */
        uint32_t function;
    } *builtin_slots;
    uint32_t builtin_mask, builtin_count;
    Py_ssize_t extra_index;    /* where a code object keeps its code_info */
    int extra_direct;          /* and whether it can be had without asking the interpreter */
    char **patterns;           /* which code a line run follows */
    int pattern_count;
    char **insides;            /* functions below which only is recorded; none: everything */
    int inside_count;
    code_key *timed;           /* functions whose calls alone are timed; none: everything is recorded */
    int timed_count;
} names;

int names_open(names *self, arena *store);  /* 0, or -1 with a Python error set */
void names_close(names *self);

/* What is known of a code object, kept with it until it goes; its function is 0 when the table is full.
 * globals is borrowed and may be NULL. NULL when memory is short. */
code_info *names_code(names *self, PyCodeObject *code, PyObject *globals);
/* Fills info->lines. */
void names_lines(code_info *info, PyCodeObject *code);
/* What is not a function of the program, but has time and calls like one. */
uint32_t names_item(names *self, uint32_t kind, const char *bytes, size_t count);
uint32_t names_thread_root(names *self);
void names_thread(names *self, thread_record *record);

uint32_t names_new_builtin(names *self, const PyMethodDef *method, PyObject *module_name, PyTypeObject *type);

/* The type a builtin method is bound to; NULL for a function of a module, which names its module. */
static inline PyTypeObject *owner_of(PyObject *function)
{
    PyObject *bound = ((PyCFunctionObject *)function)->m_self;
    if (((PyCFunctionObject *)function)->m_module != NULL || bound == NULL || PyModule_CheckExact(bound)) {
        return NULL;
    }
    return PyType_Check(bound) ? (PyTypeObject *)bound : Py_TYPE(bound);
}

/* Heap types may die and their address be used again, so their name stands for them. */
static inline uint64_t owner_key(PyTypeObject *type)
{
    if (type == NULL) {
        return 0;
    }
    if (type->tp_flags & Py_TPFLAGS_HEAPTYPE) {
        return (uint64_t)PyObject_Hash(((PyHeapTypeObject *)type)->ht_qualname) | 1u;
    }
    return (uint64_t)(uintptr_t)type;
}

static inline uint32_t builtin_hash(const void *method, uint64_t owner)
{
    uint64_t key = ((uint64_t)(uintptr_t)method >> 4) * 0x9E3779B97F4A7C15u ^ owner * 0xC2B2AE3D27D4EB4Fu;
    return (uint32_t)(key >> 32);
}

/* A table of methods that was made while running may go, and its place be used again for one of another name. */
static inline uint64_t builtin_owner(const PyMethodDef *method, PyTypeObject *type)
{
    return owner_key(type) ^ (uint64_t)(uintptr_t)method->ml_name << 1;
}

/* The row that is known by these two, 0 where there is none yet. */
static inline uint32_t names_known_builtin(const names *self, const void *key, uint64_t owner)
{
    uint32_t slot = builtin_hash(key, owner) & self->builtin_mask;
    const struct builtin_slot *found;
    while ((found = &self->builtin_slots[slot])->function != 0) {
        if (found->method == key && found->owner == owner) {
            return found->function;
        }
        slot = (slot + 1) & self->builtin_mask;
    }
    return 0;
}

static inline uint32_t builtin_row(names *self, const PyMethodDef *method, PyObject *module_name, PyTypeObject *type)
{
    uint32_t row = names_known_builtin(self, method, builtin_owner(method, type));
    return __builtin_expect(row != 0, 1) ? row : names_new_builtin(self, method, module_name, type);
}

/* What is called, where the interpreter tells of calls of anything: a function of a builtin kind, something that begins
 * Python code of its own (told when that begins), or a class whose making does. */
enum callable { CALLABLE_BUILTIN, CALLABLE_METHOD, CALLABLE_OTHER, CALLABLE_PYTHON, CALLABLE_MAKER };

int callables_open(void); /* 0, or -1 */
/* argument is the first one, NULL where there is none. */
enum callable names_callable(PyObject *callable, PyObject *argument);
/* Row of anything that is neither function nor method of a builtin kind. */
uint32_t names_other(names *self, PyObject *callable);
/* Rows that are found by other keys than a method's. */
uint32_t names_new_named(names *self, const void *key, uint64_t owner, PyObject *name, PyObject *module, PyTypeObject *type);
uint32_t names_new_type(names *self, const void *key, uint64_t owner, PyTypeObject *type, const char *end);

/* Row of a builtin function or of a method that is bound already. */
static inline uint32_t names_builtin(names *self, PyObject *function)
{
    PyCFunctionObject *builtin = (PyCFunctionObject *)function;
    return builtin_row(self, builtin->m_ml, builtin->m_module, owner_of(function));
}

/* The same for a method of a builtin type that is called on object. */
static inline uint32_t names_method(names *self, PyObject *descriptor, PyObject *object)
{
    return builtin_row(self, ((PyMethodDescrObject *)descriptor)->d_method, NULL, Py_TYPE(object));
}

#endif
