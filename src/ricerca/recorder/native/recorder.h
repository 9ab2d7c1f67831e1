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
    int public_only;         /* an interpreter newer than the tested ones: its frames are not looked into */
    int probing;             /* whether loops without calls are looked at closely (3.11) */
    PyObject *missing;       /* what stands for an argument that is not there (3.12 on) */
    PyObject *lent;          /* an environment that holds our variables while a child is started, or NULL */
    PyObject *lent_before;   /* what these variables were in it */
    stack *lent_by;
    uint32_t lent_depth;
} recorder;

#if PY_VERSION_HEX >= 0x030C0000
#define HOOK_KIND HOOK_MONITORING
#else
#define HOOK_KIND HOOK_PROFILE
#endif

/* The event source for this interpreter. Each returns 0, or -1 with a Python error set. */
int hook_install(recorder *self);              /* on the calling thread, waits for the program's start */
int hook_install_now(recorder *self);          /* on the calling thread, records from the next event */
void hook_remove(recorder *self);
const char *hook_name(void);

/* The same where only chosen functions are timed; see sparse.c. */
int sparse_install(recorder *self);
int sparse_install_now(recorder *self);
void sparse_remove(recorder *self);

/* In a forked child, at its first event: goes on in a recording of its own. Whether it records now. */
int recorder_follow_fork(recorder *self, stack *own);

/* Under the interpreter's lock: books the ends of threads that are gone. */
void hook_put_away(recorder *self);

/* The calling thread's shadow stack, NULL where it has none. */
stack *hook_stack(void);
/* The same without the interpreter's lock. */
stack *hook_stack_unlocked(void);

/* The rest of what happens besides calls: imports, collections, regions, children. 0, or -1 with an error set. */
int items_open(recorder *self);
/* Context of the import that begins with this frame, which is entered next; 0 where there is no room. */
uint32_t items_import(recorder *self, stack *thread, const void *frame, const void *code, uint32_t parent, uint32_t line);
/* Something asks for attention: the person, or an environment that is to be given back. Whether to record. */
int items_attend(recorder *self, stack *thread);

/* Cost of an event on this machine in this interpreter, written to the header. */
void calibrate(recorder *self);
/* What a call costs that is not timed, where only chosen functions are. */
void calibrate_untimed(recorder *self);

#endif
