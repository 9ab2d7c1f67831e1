/* Programs that are started with an environment of their own get our variables in it, to be recorded too. */
#ifndef RICERCA_STARTERS_H
#define RICERCA_STARTERS_H

#include "recorder.h"

#define OURS "RICERCA_"      /* how the names of our variables begin */
#define PATH "PYTHONPATH"
#define OWN_PATH "RICERCA_PYTHONPATH"

/* Stands in for the interpreter's functions that start programs. */
void starters_open(recorder *self);
/* Puts our variables into a dictionary of str or bytes. */
void starters_add_variables(PyObject *variables, int as_bytes);

#endif
