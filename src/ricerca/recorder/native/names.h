/* From the interpreter's objects to rows of the function table. */
#ifndef RICERCA_NAMES_H
#define RICERCA_NAMES_H

#define PY_SSIZE_T_CLEAN
#include <Python.h>

#include "stack.h"

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
    char **patterns;           /* which code a line run follows */
    int pattern_count;
    char **insides;            /* functions below which only is recorded; none: everything */
    int inside_count;
} names;

int names_open(names *self, arena *store);  /* 0, or -1 with a Python error set */
void names_close(names *self);

/* What is known of a code object, kept with it until it goes; its function is 0 when the table is full.
 * globals is borrowed and may be NULL. NULL when memory is short. */
code_info *names_code(names *self, PyCodeObject *code, PyObject *globals);
/* Fills info->lines. */
void names_lines(code_info *info, PyCodeObject *code);
uint32_t names_builtin(names *self, PyObject *function);
/* The same for a method of a builtin type that is called on object. */
uint32_t names_method(names *self, PyObject *descriptor, PyObject *object);
uint32_t names_thread_root(names *self);
void names_thread(names *self, thread_record *record);

#endif
