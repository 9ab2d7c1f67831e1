/* One recording of one process: the arena, the names and the hook that feeds them. */
#ifndef RICERCA_RECORDER_H
#define RICERCA_RECORDER_H

#include "names.h"
#include "stack.h"

typedef struct {
    arena store;
    names known;
    uint32_t thread_root;    /* function number of every thread's root */
    int active;
    int forked;              /* this is a child that has not been followed yet */
    char *path;              /* of the first process's recording */
    int follow_lines;
    PyObject *missing;       /* what stands for an argument that is not there (3.12 on) */
} recorder;

/* The event source for this interpreter. Each returns 0, or -1 with a Python error set. */
int hook_install(recorder *self);              /* on the calling thread, waits for the program's start */
int hook_install_now(recorder *self);          /* on the calling thread, records from the next event */
void hook_remove(recorder *self);
const char *hook_name(void);

/* In a forked child, at its first event: goes on in a recording of its own. Whether it records now. */
int recorder_follow_fork(recorder *self, stack *own);

/* Cost of an event on this machine in this interpreter, written to the header. */
void calibrate(recorder *self);

#endif
