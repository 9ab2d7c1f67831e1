/* The shadow stack of one thread: what is running, and the booking of time on it. Knows nothing of
 * Python; the event hooks drive it. */
#ifndef RICERCA_STACK_H
#define RICERCA_STACK_H

#include "arena.h"

/* Where the lines of a code object lie: lines[offset / 2] for a bytecode offset. */
typedef struct {
    const void *object;     /* the code object itself */
    uint32_t function;
    int32_t first_offset;   /* of the instruction at which a fresh body begins */
    uint32_t traits;        /* what to look out for, most code has none */
    uint32_t unit_count;
    uint32_t probes;        /* how often its loops were looked at closely, and what was found */
    uint64_t light_ticks, heavy_ticks;
    uint32_t *lines;        /* NULL until the code first calls something */
} code_info;

enum {
    TRAIT_RESUMABLE = 1,    /* a generator or coroutine */
    TRAIT_IMPORT = 2,       /* the interpreter's own, that imports the module it is given the name of */
    TRAIT_CHILD = 4,        /* a method of an object that stands for a child process */
    TRAIT_SPAWN = 8,        /* the one of them that starts it */
    TRAIT_TIMED = 64,       /* chosen to be timed where only chosen functions are */
    TRAIT_EVENTS = 128,     /* and its own events are switched on */
    TRAIT_BARE_LOOP = 32,   /* loops without calls: long stretches of bytecode that tell nothing */
    TRAIT_INSIDE = 16,      /* recording begins here when only part of the run is wanted */
};

/* The frame of an entry tells it apart. An entry that shares its frame with the one below has bit 0 set
 * there: it goes when that one goes. */
#define SHARED_FRAME 1u

typedef struct {
    const void *frame;      /* identity of the frame; for a builtin, that of its caller; NULL where it cannot be had */
    code_info *code;        /* NULL for a builtin */
    uint64_t start;
    uint32_t context;
    uint32_t line;          /* line record that runs now, 0 outside line runs */
    uint32_t overflow;      /* the time goes to the parent: there was no room */
    int32_t offset;         /* of its latest call, where frames cannot be looked into */
} stack_entry;

/* The entries of a green thread that does not run now, or of what was found cut off; see stack_park. */
typedef struct parked {
    const void *frame;      /* of the entry on top */
    stack_entry *entries;
    uint32_t depth, capacity;
} parked;

typedef struct stack {
    arena *store;
    thread_record *record;
    stack_entry *entries;   /* entries[0] is the thread's root */
    uint32_t depth;         /* index of the running entry */
    uint32_t capacity;
    uint32_t unseen;        /* entered while the stack itself could not grow */
    uint32_t index;         /* in the thread table */
    uint32_t name_tries;
    uint32_t parked_count, parked_mask;
    parked *parked;         /* hash by frame; NULL until a stack is parked for the first time */
    struct stack *next;     /* of the threads that have ended and wait to be put away */
    uint64_t cpu_ns;        /* thread CPU clock when last asked, and the tick of that moment */
    uint64_t cpu_ticks;
    uint32_t (*waits_for)(struct stack *); /* context of the child process it waits for, 0 for none; may be NULL */
} stack;

/* A new thread's stack, or NULL without memory or room. */
stack *stack_new(arena *store, uint64_t native_id, uint32_t root_function);
/* A stack for a thread that had one before, which has ended: the same row goes on. NULL without memory. */
stack *stack_again(arena *store, uint32_t row);
/* On the thread itself, at its first event: a thread is announced by the one that starts it. */
void stack_start_cpu_clock(stack *self);
void stack_end_at(stack *self, uint64_t now); /* books what is open and marks the thread as ended */
void stack_end(stack *self);   /* now */
void stack_free(stack *self);
int stack_grow(stack *self);
void stack_book_long(stack *self, uint64_t last, uint64_t now);
/* Puts an entry in below the depth-th, or takes that one out; those above it keep running. */
stack_entry *stack_insert(stack *self, uint32_t depth);
void stack_remove(stack *self, uint32_t depth);

/* Puts the entries above the depth-th aside, to be found again by the frame on top of them: somebody else has
 * switched to another stack of frames on the same thread. With depth 0 nothing is left but the root. */
void stack_park(stack *self, uint32_t depth);
/* Goes on with the entries that were put aside under this frame. Whether there were any. */
int stack_unpark(stack *self, const void *frame);

static inline const void *frame_of(const stack_entry *entry)
{
    return (const void *)((uintptr_t)entry->frame & ~(uintptr_t)SHARED_FRAME);
}

/* Books the time since the last event on what was running. */
static inline void stack_book(stack *self, uint64_t now)
{
    thread_record *record = self->record;
    uint64_t last = record->last_ticks;
    uint64_t gap = now > last ? now - last : 0;
    record->last_ticks = now;
    if (__builtin_expect(self->depth == 0, 0)) {
        return; /* nothing of the program is running */
    }
    if (__builtin_expect(gap >= self->store->brief_limit || now >= self->store->slice_end, 0)) {
        stack_book_long(self, last, now);
        return;
    }
    const stack_entry *top = &self->entries[self->depth];
    arena_touching(self->store, top->context);
    self->store->contexts[top->context].self_ticks += gap;
    if (__builtin_expect(top->line != 0, 0)) {
        self->store->lines[top->line].self_ticks += gap;
    }
}

/* Slow work of the recorder's own comes to an end: it counts to nobody. */
static inline void stack_skip(stack *self) { self->record->last_ticks = clock_ticks(); }

/* Pushes context (0: no room, the time stays with the parent). Returns the new entry or NULL. */
static inline stack_entry *stack_push(stack *self, const void *frame, uint32_t context, code_info *code)
{
    if (__builtin_expect(self->depth + 1 >= self->capacity, 0) && !stack_grow(self)) {
        self->unseen++;
        return NULL;
    }
    uint32_t parent = self->entries[self->depth].context;
    stack_entry *entry = &self->entries[++self->depth];
    entry->frame = frame;
    entry->overflow = context == 0;
    entry->context = context == 0 ? parent : context;
    entry->line = 0;
    entry->start = self->record->last_ticks;
    entry->code = code;
    entry->offset = 0;
    self->record->top = entry->context;
    return entry;
}

static inline void stack_pop(stack *self)
{
    uint32_t depth = self->depth - 1;
    const stack_entry *left = &self->entries[depth + 1];
    if (__builtin_expect(self->record->last_ticks - left->start >= self->store->span_least, 0) && !left->overflow) {
        arena_span(self->store, left->context, self->index, left->start, self->record->last_ticks);
    }
    self->depth = depth;
    self->record->top = self->entries[depth].context;
}

/* Leaves the entry of this frame where it is not the one on top; unknown frames are ignored. */
void stack_leave_strange(stack *self, const void *frame, int builtin);

/* Leaves the entry of this frame and whatever is still open above it. */
static inline void stack_leave(stack *self, const void *frame, int builtin, uint64_t now)
{
    if (__builtin_expect(self->unseen != 0, 0)) {
        self->unseen--;
        return;
    }
    stack_book(self, now);
    const stack_entry *top = &self->entries[self->depth];
    if (__builtin_expect(self->depth > 0 && top->frame == frame && (top->code == NULL) == builtin, 1)) {
        stack_pop(self);
    } else {
        stack_leave_strange(self, frame, builtin);
    }
}

#endif
