/* A thread's shadow stack where the interpreter does not keep it for us: from 3.12 on, and in sparse runs. */
#ifndef RICERCA_OWN_STACK_H
#define RICERCA_OWN_STACK_H

#include "recorder.h"

extern __thread stack *own __attribute__((tls_model("initial-exec"))); /* NULL before a thread's first event */

/* Once before the first stack. 0, or -1 with a Python error set. */
int own_stack_open(void);
/* A stack for this thread; NULL without memory or room. */
stack *own_stack_new(recorder *self);
/* On the thread that is recorded no longer. */
void own_stack_drop(void);

static inline stack *own_stack(recorder *self) { return __builtin_expect(own != NULL, 1) ? own : own_stack_new(self); }

#endif
