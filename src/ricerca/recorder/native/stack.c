#include "stack.h"

#include <stdlib.h>
#include <string.h>

#define FIRST_CAPACITY 256u

stack *stack_new(arena *store, uint64_t native_id, uint32_t root_function)
{
    stack *self = calloc(1, sizeof *self);
    if (self == NULL) {
        return NULL;
    }
    self->store = store;
    self->capacity = FIRST_CAPACITY;
    self->entries = calloc(self->capacity, sizeof *self->entries);
    self->index = self->entries == NULL ? 0 : arena_thread(store, native_id, root_function);
    if (self->index == 0) {
        free(self->entries);
        free(self);
        return NULL;
    }
    self->record = &store->threads[self->index];
    self->entries[0].context = self->record->root;
    return self;
}

void stack_start_cpu_clock(stack *self)
{
    self->cpu_ns = thread_cpu_ns();
    self->cpu_ticks = clock_ticks();
}

void stack_end(stack *self)
{
    if (self->record->ended) {
        return;
    }
    stack_book(self, clock_ticks());
    while (self->depth > 0) {
        stack_pop(self);
    }
    self->record->ended = 1;
}

void stack_free(stack *self)
{
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
