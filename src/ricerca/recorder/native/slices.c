/* What happened when: slices of time and long calls. Both tables stay bounded: slices get longer, and only
 * longer calls leave a span. */
#include "arena.h"

#define FIRST_SLICE_NS 100000.0
#define FIRST_SPAN_NS 50000.0

/* Rows of this slice begin here. */
static void begin_slice(arena *self, uint32_t slice)
{
    self->slice = slice;
    self->slice_end = self->head->start_ticks + (slice + 1) * self->head->slice_ticks;
    self->slice_first = (uint32_t)self->tables[TABLE_SLICES].count;
}

void arena_start_slices(arena *self)
{
    header *head = self->head;
    self->tables[TABLE_SLICES].count = self->tables[TABLE_SPANS].count = 1;
    for (uint64_t i = 1; i < self->tables[TABLE_CONTEXTS].count; i++) {
        self->contexts[i].slice_row = 0;
    }
    head->slice_ticks = (uint64_t)(FIRST_SLICE_NS / self->ns_per_tick);
    head->span_ticks = self->span_least = (uint64_t)(FIRST_SPAN_NS / self->ns_per_tick);
    begin_slice(self, 0);
}

/* Puts neighbours among the slices together. Of the rows of a context that now lie in one slice the first
 * says where it began. Rows of one context are in the order of their slices. */
static void halve_slices(arena *self)
{
    table_row *row = &self->tables[TABLE_SLICES];
    uint64_t kept = 1;
    self->head->slice_ticks *= 2;
    for (uint64_t i = 1; i < row->count; i++) {
        slice_record moved = self->slices[i];
        context_record *context = &self->contexts[moved.context];
        moved.slice /= 2;
        const slice_record *before = &self->slices[context->slice_row];
        if (context->slice_row > 0 && context->slice_row < kept && before->context == moved.context
            && before->slice == moved.slice) {
            continue;
        }
        context->slice_row = (uint32_t)kept;
        self->slices[kept++] = moved;
    }
    row->count = kept;
}

/* Room for another row; where there is none the slices get coarser, and in the end no more are kept. */
static int slice_room(arena *self)
{
    table_row *row = &self->tables[TABLE_SLICES];
    while (row->count >= row->capacity && self->head->slice_ticks < UINT64_MAX / 4) {
        uint64_t before = row->count;
        halve_slices(self);
        begin_slice(self, self->slice / 2);
        if (row->count > before - before / 8) {
            break; /* the contexts alone are too many */
        }
    }
    if (arena_room(self, TABLE_SLICES, 1)) {
        return 1;
    }
    self->slice_first = 0;
    self->slice_end = UINT64_MAX;
    return 0;
}

static void add_slice_row(arena *self, uint32_t context, uint32_t slice, uint64_t self_ticks, uint64_t waiting_ticks)
{
    table_row *row = &self->tables[TABLE_SLICES];
    uint64_t width = self->head->slice_ticks;
    if (!slice_room(self)) {
        return;
    }
    slice = (uint32_t)(slice / (self->head->slice_ticks / width)); /* making room may have made them longer */
    slice_record fresh = {context, slice, self->contexts[context].calls, self_ticks, waiting_ticks};
    self->slices[row->count] = fresh;
    self->contexts[context].slice_row = (uint32_t)row->count;
    row->count++;
}

void arena_touch(arena *self, uint32_t context)
{
    add_slice_row(self, context, self->slice, self->contexts[context].self_ticks, self->contexts[context].waiting_ticks);
}

static uint64_t slice_at(const arena *self, uint64_t ticks)
{
    uint64_t start = self->head->start_ticks;
    return ticks > start ? (ticks - start) / self->head->slice_ticks : 0;
}

static void go_to_slice(arena *self, uint64_t now)
{
    if (self->slice_first == 0) {
        return;
    }
    while (slice_at(self, now) >= MOST_SLICES) {
        halve_slices(self);
    }
    begin_slice(self, (uint32_t)slice_at(self, now));
}

void arena_book_long(arena *self, uint32_t context, uint64_t last, uint64_t now, uint64_t self_ticks, uint64_t waiting_ticks)
{
    context_record *record = &self->contexts[context];
    if (now >= self->slice_end) {
        go_to_slice(self, now);
    }
    uint64_t gap = now > last ? now - last : 1;
    for (uint64_t slice = slice_at(self, last); slice <= self->slice && self->slice_first != 0; slice++) {
        uint64_t begin = self->head->start_ticks + slice * self->head->slice_ticks;
        double share = begin > last && begin < now ? (double)(begin - last) / (double)gap : 0.0;
        const slice_record *latest = &self->slices[record->slice_row];
        if (record->slice_row == 0 || latest->slice < slice) {
            add_slice_row(self, context, (uint32_t)slice, record->self_ticks + (uint64_t)(share * (double)self_ticks),
                          record->waiting_ticks + (uint64_t)(share * (double)waiting_ticks));
        }
    }
    record->self_ticks += self_ticks;
    record->waiting_ticks += waiting_ticks;
}

void arena_span(arena *self, uint32_t context, uint32_t thread, uint64_t start, uint64_t end)
{
    table_row *row = &self->tables[TABLE_SPANS];
    if (self->muted) {
        return;
    }
    while (row->count >= row->capacity && self->span_least < UINT64_MAX / 4) {
        uint64_t kept = 1;
        self->head->span_ticks = self->span_least = self->span_least * 2;
        for (uint64_t i = 1; i < row->count; i++) {
            if (self->spans[i].end_ticks - self->spans[i].start_ticks >= self->span_least) {
                self->spans[kept++] = self->spans[i];
            }
        }
        row->count = kept;
    }
    if (end - start < self->span_least || !arena_room(self, TABLE_SPANS, 1)) {
        return;
    }
    span_record fresh = {context, thread, start, end};
    self->spans[row->count] = fresh;
    row->count++;
}
