/* The tables of a recording in one sparse memory-mapped file. Knows nothing of Python.
 * All functions are called under the interpreter's lock; readers may look on from another process. */
#ifndef RICERCA_ARENA_H
#define RICERCA_ARENA_H

#include <stddef.h>
#include <stdint.h>

#include "clock.h"
#include "layout.h"

/* Bits of a tick that must be zero for the work of an entry to be timed: one in 64. */
#define WATCH_BITS (0x3Fu << 5)

typedef struct {
    uint8_t *base;          /* the first page: header and directory */
    uint8_t *mapped[TABLE_COUNT]; /* each table by itself; it grows, and may move when it does */
    size_t mapped_bytes[TABLE_COUNT];
    char *path;             /* opened anew whenever room is needed: the program keeps all its descriptors */
    int fd;                 /* of a file without a path, else -1 */
    header *head;
    table_row *tables;
    function_record *functions;
    context_record *contexts;
    thread_record *threads;
    line_record *lines;
    slice_record *slices;
    span_record *spans;
    uint8_t *strings;
    uint32_t *slots;        /* hash of contexts, private memory; 0 = empty */
    uint32_t slot_mask;
    size_t follower_bytes;
    uint32_t *follower;     /* by context: the sibling that was found after it, where calls come in the same order again */
    uint32_t *line_slots;   /* hash of lines */
    uint32_t line_slot_mask;
    uint64_t brief_limit;   /* ticks; a shorter gap counts as brief */
    uint64_t work_limit;    /* ticks; work at an entry that took longer was held up, which is not its cost */
    uint64_t wait_ticks;    /* a gap longer than this asks the thread's CPU clock */
    double ns_per_tick;
    uint64_t slice_end;     /* tick at which the current slice is over */
    uint32_t slice;         /* its number */
    uint32_t slice_first;   /* rows of the current slice begin here; 0: no more slices are kept */
    uint64_t span_least;    /* ticks; shorter calls leave no span */
    uint32_t muted;         /* paused: the tree is followed, but nothing is counted */
    uint32_t control_seen;
} arena;

/* 0, or an errno. The file must exist and be empty; on failure nothing stays mapped. A file that cannot be
 * opened by its path again is kept open. */
int arena_open(arena *self, const char *path, int keep_open, uint64_t limit_bytes, uint32_t python_hex);
void arena_close(arena *self);
void arena_unmap(arena *self);
void arena_beat(arena *self);
/* In a forked child: goes on in a file of its own at path, with the same names and contexts, all counts
 * zero. 0, or an errno; then the mapping is still the parent's and must not be written to. */
int arena_follow_fork(arena *self, const char *path);

/* Makes room for count more records of a table; 0 when there is none. */
int arena_room(arena *self, int which, uint64_t count);

/* Each returns the new record's index, 0 when its table is full (index 0 is a placeholder). */
uint32_t arena_string(arena *self, const char *text, size_t bytes);
uint32_t arena_function(arena *self, const function_record *record);
uint32_t arena_thread(arena *self, uint64_t native_id, uint32_t root_function);
uint32_t arena_new_context(arena *self, uint32_t parent, uint32_t function, uint32_t line);
/* The same from the room that is kept for when there is no more. */
uint32_t arena_last_context(arena *self, uint32_t parent, uint32_t function, uint32_t line);
uint32_t arena_line(arena *self, uint32_t function, uint32_t line);

/* Slices begin anew at the header's start. */
void arena_start_slices(arena *self);
/* Before the first change of a context in the current slice. */
void arena_touch(arena *self, uint32_t context);
/* Books time that passed from last to now, in whichever slices it passed. */
void arena_book_long(arena *self, uint32_t context, uint64_t last, uint64_t now, uint64_t self_ticks, uint64_t waiting_ticks);
void arena_span(arena *self, uint32_t context, uint32_t thread, uint64_t start, uint64_t end);

static inline void arena_touching(arena *self, uint32_t context)
{
    if (__builtin_expect(self->contexts[context].slice_row < self->slice_first, 0)) {
        arena_touch(self, context);
    }
}

static inline uint32_t context_hash(uint32_t parent, uint32_t function, uint32_t line)
{
    uint64_t key = ((uint64_t)parent << 32 | function) * 0x9E3779B97F4A7C15u;
    key ^= (uint64_t)line * 0xC2B2AE3D27D4EB4Fu;
    return (uint32_t)(key >> 32) ^ (uint32_t)key;
}

static inline int is_child(const arena *self, uint32_t context, uint32_t parent, uint32_t function, uint32_t line)
{
    const context_record *record = &self->contexts[context];
    return record->function == function && record->line == line && record->parent == parent;
}

/* The child of parent for this callee and call site, or 0 where there is none yet. */
static inline uint32_t arena_find_context(const arena *self, uint32_t parent, uint32_t function, uint32_t line)
{
    uint32_t last = self->contexts[parent].hint;
    if (is_child(self, last, parent, function, line)) {
        return last;
    }
    uint32_t child = self->follower[last];
    if (is_child(self, child, parent, function, line)) {
        self->contexts[parent].hint = child;
        return child;
    }
    uint32_t slot = context_hash(parent, function, line) & self->slot_mask;
    while ((child = self->slots[slot]) != 0) {
        if (is_child(self, child, parent, function, line)) {
            self->contexts[parent].hint = self->follower[last] = child;
            return child;
        }
        slot = (slot + 1) & self->slot_mask;
    }
    return 0;
}

#endif
