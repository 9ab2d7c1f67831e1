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
    stack_pop_to(self, 0);
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

/* A long gap: asks how much of the time since the CPU clock was last read the thread did not run.
 * Gaps too short to ask about hold no waiting, so all of it belongs to this one. */
void stack_wait(stack *self, uint64_t now, uint64_t gap_ticks)
{
    uint64_t cpu_ns = thread_cpu_ns();
    double wall_ticks = now > self->cpu_ticks ? (double)(now - self->cpu_ticks) : 0.0;
    double cpu_ticks = (double)(cpu_ns - self->cpu_ns) / self->store->ns_per_tick;
    double waiting = wall_ticks - cpu_ticks;
    self->cpu_ns = cpu_ns;
    self->cpu_ticks = now;
    if (waiting > (double)gap_ticks) {
        waiting = (double)gap_ticks;
    }
    if (waiting > 0) {
        const stack_entry *top = &self->entries[self->depth];
        self->store->contexts[top->context].waiting_ticks += (uint64_t)waiting;
        if (top->line != 0) {
            self->store->lines[top->line].waiting_ticks += (uint64_t)waiting;
        }
    }
    if (now - self->store->head->last_ticks > (uint64_t)(1e7 / self->store->ns_per_tick)) {
        arena_beat(self->store);
    }
}
