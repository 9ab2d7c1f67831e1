#include "stack.h"

#include <stdlib.h>
#include <string.h>

#define FIRST_CAPACITY 64u

/* Of the thread in this row of the table; 0: there was no room for one. */
static stack *stack_of_row(arena *store, uint32_t row)
{
    stack *self = row == 0 ? NULL : calloc(1, sizeof *self);
    stack_entry *entries = self == NULL ? NULL : calloc(FIRST_CAPACITY, sizeof *entries);
    if (entries == NULL) {
        free(self);
        return NULL;
    }
    self->store = store;
    self->capacity = FIRST_CAPACITY;
    self->entries = entries;
    self->index = row;
    self->record = &store->threads[row];
    self->entries[0].context = self->record->root;
    return self;
}

stack *stack_new(arena *store, uint64_t native_id, uint32_t root_function)
{
    return stack_of_row(store, arena_thread(store, native_id, root_function));
}

stack *stack_again(arena *store, uint32_t row)
{
    stack *self = stack_of_row(store, row);
    if (self != NULL) {
        self->record->ended = 0;
        self->record->last_ticks = clock_ticks();
    }
    return self;
}

void stack_start_cpu_clock(stack *self)
{
    self->cpu_ns = thread_cpu_ns();
    self->cpu_ticks = clock_ticks();
}

void stack_end(stack *self) { stack_end_at(self, clock_ticks()); }

void stack_end_at(stack *self, uint64_t now)
{
    if (self->record->ended) {
        return;
    }
    stack_book(self, now);
    while (self->depth > 0) {
        stack_pop(self);
    }
    self->record->ended = 1;
}

void stack_free(stack *self)
{
    for (uint32_t i = 0; self->parked != NULL && i <= self->parked_mask; i++) {
        free(self->parked[i].entries);
    }
    free(self->parked);
    free(self->entries);
    free(self);
}

int stack_grow(stack *self)
{
    uint32_t capacity = self->capacity * 2;
    stack_entry *entries = realloc(self->entries, (size_t)capacity * sizeof *entries);
    if (entries == NULL) {
        return 0;
    }
    self->entries = entries;
    self->capacity = capacity;
    return 1;
}

void stack_leave_strange(stack *self, const void *frame, int builtin)
{
    for (int twice = 0; twice < 2; twice++) {
        for (uint32_t depth = self->depth; depth > 0; depth--) {
            if (self->entries[depth].frame == frame && (self->entries[depth].code == NULL) == builtin) {
                uint32_t strange = self->depth;
                while (strange > depth && frame_of(&self->entries[strange]) == frame) {
                    strange--;
                }
                if (strange > depth) { /* they may belong to a green thread that goes on later */
                    self->store->head->strange_stacks++;
                    stack_park(self, depth);
                }
                while (self->depth >= depth) {
                    stack_pop(self);
                }
                return;
            }
        }
        if (!stack_unpark(self, frame)) {
            return;
        }
    }
}

stack_entry *stack_insert(stack *self, uint32_t depth)
{
    if (self->depth + 1 >= self->capacity && !stack_grow(self)) {
        return NULL;
    }
    memmove(&self->entries[depth + 1], &self->entries[depth], (self->depth - depth + 1) * sizeof *self->entries);
    self->depth++;
    memset(&self->entries[depth], 0, sizeof *self->entries);
    return &self->entries[depth];
}

void stack_remove(stack *self, uint32_t depth)
{
    const stack_entry *left = &self->entries[depth];
    arena_span(self->store, left->context, self->index, left->start, self->record->last_ticks);
    memmove(&self->entries[depth], &self->entries[depth + 1], (self->depth - depth) * sizeof *self->entries);
    self->depth--;
    self->record->top = self->entries[self->depth].context;
}

/* How much of the time since the CPU clock was last read the thread did not run. Gaps too short to ask
 * about hold no waiting, so all of it belongs to this one. */
static uint64_t waited(stack *self, uint64_t now, uint64_t gap)
{
    uint64_t cpu_ns = thread_cpu_ns();
    double wall_ticks = now > self->cpu_ticks ? (double)(now - self->cpu_ticks) : 0.0;
    double waiting = wall_ticks - (double)(cpu_ns - self->cpu_ns) / self->store->ns_per_tick;
    self->cpu_ns = cpu_ns;
    self->cpu_ticks = now;
    if (now - self->store->head->last_ticks > (uint64_t)(1e7 / self->store->ns_per_tick)) {
        arena_beat(self->store);
    }
    return waiting <= 0 ? 0 : waiting > (double)gap ? gap : (uint64_t)waiting;
}

/* A gap that is long, or that ends in another slice than it began in; or nothing is counted now. */
void stack_book_long(stack *self, uint64_t last, uint64_t now)
{
    arena *store = self->store;
    stack_entry *top = &self->entries[self->depth];
    uint64_t gap = now > last ? now - last : 0;
    int is_long = gap >= store->brief_limit;
    if (store->muted) {
        return;
    }
    uint64_t waiting = gap > store->wait_ticks ? waited(self, now, gap) : 0;
    if (top->line != 0) {
        store->lines[top->line].self_ticks += gap;
        store->lines[top->line].waiting_ticks += waiting;
    }
    uint32_t child = waiting > 0 && self->waits_for != NULL ? self->waits_for(self) : 0;
    if (child != 0) {
        arena_book_long(store, child, last, now, waiting, waiting);
        store->contexts[child].long_ticks += waiting;
        gap -= waiting;
        waiting = 0;
    }
    store->contexts[top->context].long_ticks += is_long ? gap : 0;
    arena_book_long(store, top->context, last, now, gap, waiting);
}

/* ---- what is put aside */

#define FIRST_PARKED 16u
#define MOST_PARKED (1u << 16) /* more than that are of frames that are gone: a frame's place is used again */

static uint32_t place_of(const stack *self, const void *frame)
{
    return (uint32_t)(((uint64_t)(uintptr_t)frame >> 4) * 0x9E3779B97F4A7C15u >> 32) & self->parked_mask;
}

static parked *find_parked(const stack *self, const void *frame)
{
    uint32_t place = place_of(self, frame);
    while (self->parked[place].frame != NULL && self->parked[place].frame != frame) {
        place = (place + 1) & self->parked_mask;
    }
    return &self->parked[place];
}

/* Room for one more; where there are very many, all are forgotten. 0 without memory. */
static int parked_room(stack *self)
{
    uint32_t old_mask = self->parked_mask;
    parked *old = self->parked;
    if (old != NULL && (self->parked_count + 1) * 2 <= old_mask + 1) {
        return 1;
    }
    int forget = self->parked_count >= MOST_PARKED;
    uint32_t mask = old == NULL ? FIRST_PARKED - 1 : forget ? old_mask : old_mask * 2 + 1;
    parked *bigger = calloc((size_t)mask + 1, sizeof *bigger);
    if (bigger == NULL) {
        return 0;
    }
    self->parked = bigger;
    self->parked_mask = mask;
    self->parked_count = forget ? 0 : self->parked_count;
    for (uint32_t i = 0; old != NULL && i <= old_mask; i++) {
        if (forget) {
            free(old[i].entries);
        } else if (old[i].frame != NULL) {
            *find_parked(self, old[i].frame) = old[i];
        }
    }
    free(old);
    return 1;
}

/* Takes one out of the hash; those behind it move up, so that they are still found. */
static void take_out(stack *self, parked *found)
{
    uint32_t hole = (uint32_t)(found - self->parked), place = hole;
    for (;;) {
        place = (place + 1) & self->parked_mask;
        if (self->parked[place].frame == NULL) {
            break;
        }
        uint32_t wanted = place_of(self, self->parked[place].frame);
        if (((place - wanted) & self->parked_mask) >= ((place - hole) & self->parked_mask)) {
            self->parked[hole] = self->parked[place];
            hole = place;
        }
    }
    memset(&self->parked[hole], 0, sizeof *self->parked);
    self->parked_count--;
}

void stack_park(stack *self, uint32_t depth)
{
    uint32_t count = self->depth - depth;
    const void *frame = frame_of(&self->entries[self->depth]);
    stack_entry *entries = count > 0 ? malloc(((size_t)count + 1) * sizeof *entries) : NULL;
    if (entries != NULL && parked_room(self)) {
        entries[0] = self->entries[0];
        memcpy(entries + 1, self->entries + depth + 1, count * sizeof *entries);
        parked *place = find_parked(self, frame);
        self->parked_count += place->frame == NULL;
        free(place->entries);
        *place = (parked){frame, entries, count, count + 1};
    } else {
        free(entries);
    }
    self->depth = depth;
    self->record->top = self->entries[depth].context;
}

int stack_unpark(stack *self, const void *frame)
{
    parked *found = self->parked_count > 0 ? find_parked(self, frame) : NULL;
    if (found == NULL || found->frame == NULL) {
        return 0;
    }
    parked wanted = *found;
    take_out(self, found);
    while (self->capacity < wanted.depth + 2) {
        if (!stack_grow(self)) {
            free(wanted.entries);
            return 0;
        }
    }
    stack_park(self, 0);
    memcpy(self->entries + 1, wanted.entries + 1, wanted.depth * sizeof *self->entries);
    free(wanted.entries);
    self->depth = wanted.depth;
    self->record->top = self->entries[self->depth].context;
    return 1;
}
