/* What the recorder has to look out for in a code object. */
#ifndef RICERCA_TRAITS_H
#define RICERCA_TRAITS_H

#define PY_SSIZE_T_CLEAN
#include <Python.h>

#include <stdint.h>

/* Its TRAIT_ bits; lookups gets how many per mille of the instructions in its loops look something up. */
uint32_t traits_of(PyCodeObject *code, uint16_t *lookups);
/* The same per mille for a function; 0 where that does not matter. */
double traits_lookup_share(PyObject *function);

#endif
