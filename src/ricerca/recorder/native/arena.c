/* One file, though a long one: laying out, growing, forking and closing the tables all work on the same mapping. */
#ifndef _GNU_SOURCE
#define _GNU_SOURCE 1
#endif
#include "arena.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#define CHUNK_BYTES (64u * 1024u)
#define WAIT_NS 20000.0
#define BRIEF_NS 4000.0
#define MOST_WORK_NS 400.0
#define CLOCK_MEASURE_NS 200000u
#define LEAST_LIMIT_BYTES (1024u * 1024u)
#define MOST_SPANS 16384u
#define MOST_THREADS 65536u
#define LAST_SHARE 8u /* of the contexts is kept for calls whose chain finds no room */

static const char *const TABLE_NAMES[TABLE_COUNT] = {"strings", "functions", "threads", "lines", "contexts", "slices", "spans"};
static const uint32_t FULL_FLAGS[TABLE_COUNT] = {
    FLAG_STRINGS_FULL, FLAG_FUNCTIONS_FULL, FLAG_THREADS_FULL, FLAG_LINES_FULL, FLAG_CONTEXTS_FULL, FLAG_SLICES_FULL,
    FLAG_SPANS_FULL};
static const uint64_t RECORD_BYTES[TABLE_COUNT] = {
    1, sizeof(function_record), sizeof(thread_record), sizeof(line_record), sizeof(context_record),
    sizeof(slice_record), sizeof(span_record)};

_Static_assert(sizeof(context_record) == 64, "a context is one cache line");

static uint64_t page_up(uint64_t bytes) { return (bytes + 4095u) & ~(uint64_t)4095u; }

static void point_at(arena *self, int which)
{
    uint8_t *place = self->mapped[which];
    switch (which) {
    case TABLE_STRINGS: self->strings = place; break;
    case TABLE_FUNCTIONS: self->functions = (function_record *)place; break;
    case TABLE_THREADS: self->threads = (thread_record *)place; break;
    case TABLE_LINES: self->lines = (line_record *)place; break;
    case TABLE_CONTEXTS: self->contexts = (context_record *)place; break;
    case TABLE_SLICES: self->slices = (slice_record *)place; break;
    default: self->spans = (span_record *)place; break;
    }
}

static int take_room(const arena *self, uint64_t offset, uint64_t bytes)
{
    int fd = self->fd >= 0 ? self->fd : open(self->path, O_RDWR | O_CLOEXEC), failed;
    if (fd < 0) {
        return errno;
    }
    do {
        failed = posix_fallocate(fd, (off_t)offset, (off_t)bytes);
    } while (failed == EINTR);
    if (fd != self->fd) {
        close(fd);
    }
    return failed;
}

/* Room on the disk before the pages are touched: a full disk must be an answer here, not a signal later. */
static int reserve(arena *self, uint64_t offset, uint64_t bytes)
{
    if (self->head->allocated_bytes + bytes > self->head->limit_bytes) {
        self->head->flags |= FLAG_LIMIT_REACHED;
        return ENOSPC;
    }
    int failed = take_room(self, offset, bytes);
    if (failed) {
        self->head->flags |= FLAG_DISK_FULL;
    } else {
        self->head->allocated_bytes += bytes;
    }
    return failed;
}

/* Maps at least so many bytes of a table, more than that where it is large already. */
static int widen_mapping(arena *self, int which, uint64_t needed)
{
    const table_row *row = &self->tables[which];
    uint64_t most = page_up(row->capacity * row->record_bytes);
    uint64_t bytes = page_up(self->mapped_bytes[which] + self->mapped_bytes[which] / 2);
    bytes = bytes > most ? most : bytes < needed ? needed : bytes;
    if (needed <= self->mapped_bytes[which]) {
        return 1;
    }
    void *place = mremap(self->mapped[which], self->mapped_bytes[which], bytes, MREMAP_MAYMOVE);
    if (place == MAP_FAILED) {
        self->head->flags |= FLAG_MEMORY_FULL;
        return 0;
    }
    self->mapped[which] = place;
    self->mapped_bytes[which] = bytes;
    point_at(self, which);
    return 1;
}

static int widen_followers(arena *self, uint64_t contexts)
{
    size_t needed = contexts * sizeof *self->follower;
    if (needed <= self->follower_bytes) {
        return 1;
    }
    size_t bytes = page_up(needed + needed / 2);
    void *place = mremap(self->follower, self->follower_bytes, bytes, MREMAP_MAYMOVE);
    if (place == MAP_FAILED) {
        self->head->flags |= FLAG_MEMORY_FULL;
        return 0;
    }
    self->follower = place;
    self->follower_bytes = bytes;
    return 1;
}

int arena_room(arena *self, int which, uint64_t count)
{
    table_row *row = &self->tables[which];
    uint64_t needed = (row->count + count) * row->record_bytes;
    if (__builtin_expect(row->count + count > row->capacity, 0)) {
        self->head->flags |= FULL_FLAGS[which] | (which < TABLE_SLICES ? FLAG_LIMIT_REACHED : 0);
        return 0;
    }
    while (__builtin_expect(needed > row->allocated_bytes, 0)) {
        /* Steps grow with the table, so that a large one asks the file system seldom. */
        uint64_t step = page_up(row->allocated_bytes / 4 + CHUNK_BYTES);
        uint64_t left = page_up(row->capacity * row->record_bytes) - row->allocated_bytes;
        if (step > left) {
            step = left;
        }
        if (!widen_mapping(self, which, row->allocated_bytes + step)
            || (which == TABLE_CONTEXTS && !widen_followers(self, (row->allocated_bytes + step) / row->record_bytes + 1))
            || reserve(self, row->offset_bytes + row->allocated_bytes, step) != 0) {
            self->head->flags |= FULL_FLAGS[which];
            return 0;
        }
        row->allocated_bytes += step;
    }
    return 1;
}

static uint64_t usable_bytes(uint64_t limit_bytes)
{
    struct rlimit allowed;
    if (getrlimit(RLIMIT_FSIZE, &allowed) == 0 && allowed.rlim_cur != RLIM_INFINITY
        && allowed.rlim_cur < limit_bytes) {
        return allowed.rlim_cur;
    }
    return limit_bytes;
}

/* Shares the limit out among the tables: contexts get what the others leave. */
static void share_out(uint64_t limit_bytes, uint64_t capacities[TABLE_COUNT])
{
    capacities[TABLE_STRINGS] = limit_bytes / 16;
    capacities[TABLE_FUNCTIONS] = limit_bytes / 16 / sizeof(function_record);
    capacities[TABLE_THREADS] = limit_bytes / 128 / sizeof(thread_record);
    if (capacities[TABLE_THREADS] > MOST_THREADS) {
        capacities[TABLE_THREADS] = MOST_THREADS; /* all mapped at once: stacks hold on to their row */
    }
    if (capacities[TABLE_STRINGS] > UINT32_MAX) {
        capacities[TABLE_STRINGS] = UINT32_MAX;
    }
    capacities[TABLE_LINES] = limit_bytes / 32 / sizeof(line_record);
    capacities[TABLE_SLICES] = limit_bytes / 8 / sizeof(slice_record);
    if (capacities[TABLE_SLICES] > UINT32_MAX / 2) {
        capacities[TABLE_SLICES] = UINT32_MAX / 2;
    }
    capacities[TABLE_SPANS] = limit_bytes / 64 / sizeof(span_record);
    if (capacities[TABLE_SPANS] > MOST_SPANS) {
        capacities[TABLE_SPANS] = MOST_SPANS;
    }
    capacities[TABLE_CONTEXTS] = (limit_bytes - limit_bytes / 3) / sizeof(context_record);
    if (capacities[TABLE_CONTEXTS] > UINT32_MAX / 2) {
        capacities[TABLE_CONTEXTS] = UINT32_MAX / 2;
    }
}

/* Private memory, all zero; what is never touched takes none. */
static void *slots_of(uint64_t count)
{
    void *slots = mmap(NULL, count * sizeof(uint32_t), PROT_READ | PROT_WRITE,
                       MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    return slots == MAP_FAILED ? NULL : slots;
}

static void lay_out(arena *self, const uint64_t capacities[TABLE_COUNT])
{
    uint64_t offset = HEADER_BYTES;
    for (int i = 0; i < TABLE_COUNT; i++) {
        table_row *row = &self->tables[i];
        memset(row, 0, sizeof *row);
        strncpy(row->name, TABLE_NAMES[i], sizeof row->name - 1);
        row->offset_bytes = offset;
        row->record_bytes = RECORD_BYTES[i];
        row->capacity = capacities[i];
        offset += page_up(capacities[i] * RECORD_BYTES[i]);
    }
}

/* The first piece of each table. 0, or an errno. */
static int map_tables(arena *self, int fd)
{
    for (int i = 0; i < TABLE_COUNT; i++) {
        const table_row *row = &self->tables[i];
        uint64_t most = page_up(row->capacity * row->record_bytes);
        uint64_t bytes = i == TABLE_THREADS || most < CHUNK_BYTES ? most : CHUNK_BYTES;
        void *place = mmap(NULL, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, fd, (off_t)row->offset_bytes);
        if (place == MAP_FAILED) {
            return errno;
        }
        self->mapped[i] = place;
        self->mapped_bytes[i] = bytes;
        point_at(self, i);
    }
    return 0;
}

static void start_header(arena *self, uint64_t file_bytes, uint64_t limit_bytes, uint32_t python_hex)
{
    header *head = self->head;
    head->format = RICERCA_FORMAT;
    head->endian = RICERCA_ENDIAN;
    head->file_bytes = file_bytes;
    head->limit_bytes = limit_bytes;
    head->allocated_bytes = HEADER_BYTES;
    head->pid = (uint32_t)getpid();
    head->parent_pid = (uint32_t)getppid();
    head->python_hex = python_hex;
    head->table_count = TABLE_COUNT;
    self->ns_per_tick = clock_choose(CLOCK_MEASURE_NS);
    self->wait_ticks = (uint64_t)(WAIT_NS / self->ns_per_tick);
    self->brief_limit = (uint64_t)(BRIEF_NS / self->ns_per_tick);
    self->work_limit = (uint64_t)(MOST_WORK_NS / self->ns_per_tick);
    head->clock = clock_kind;
    head->ns_per_tick = self->ns_per_tick;
    head->start_unix_ns = timespec_ns(CLOCK_REALTIME);
    head->start_mono_ns = mono_ns();
    head->start_ticks = clock_ticks();
    head->last_mono_ns = head->start_mono_ns;
    head->last_ticks = head->start_ticks;
    head->state = STATE_RECORDING;
}

/* Makes the file as long as it may become and maps its beginning. 0, or an errno. */
static int begin_file(arena *self, int fd, uint64_t limit_bytes, uint32_t python_hex)
{
    uint64_t capacities[TABLE_COUNT], bytes = HEADER_BYTES;
    share_out(limit_bytes, capacities);
    for (int i = 0; i < TABLE_COUNT; i++) {
        bytes += page_up(capacities[i] * RECORD_BYTES[i]);
    }
    if (limit_bytes < LEAST_LIMIT_BYTES) {
        return EFBIG;
    }
    if (posix_fallocate(fd, 0, HEADER_BYTES) != 0) {
        return ENOSPC;
    }
    if (ftruncate(fd, (off_t)bytes) != 0) {
        return errno;
    }
    uint8_t *base = mmap(NULL, HEADER_BYTES, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    if (base == MAP_FAILED) {
        return errno;
    }
    self->base = base;
    self->head = (header *)base;
    self->tables = (table_row *)(base + DIRECTORY_OFFSET);
    lay_out(self, capacities);
    start_header(self, bytes, limit_bytes, python_hex);
    return map_tables(self, fd);
}

int arena_open(arena *self, const char *path, int keep_open, uint64_t limit_bytes, uint32_t python_hex)
{
    memset(self, 0, sizeof *self);
    self->fd = -1;
    int fd = open(path, O_RDWR | O_CLOEXEC);
    if (fd < 0) {
        return errno;
    }
    int failed = begin_file(self, fd, usable_bytes(limit_bytes), python_hex);
    if (keep_open) {
        self->fd = fd;
    } else {
        self->path = strdup(path);
        close(fd);
    }
    self->slot_mask = (1u << 14) - 1;
    self->slots = slots_of((uint64_t)self->slot_mask + 1);
    self->follower_bytes = CHUNK_BYTES;
    self->follower = slots_of(CHUNK_BYTES / sizeof *self->follower);
    self->line_slot_mask = (1u << 12) - 1;
    self->line_slots = slots_of((uint64_t)self->line_slot_mask + 1);
    if (!failed && (self->slots == NULL || self->follower == NULL || self->line_slots == NULL || (!keep_open && self->path == NULL))) {
        failed = ENOMEM;
    }
    for (int i = 0; i < TABLE_COUNT && !failed; i++) {
        failed = arena_room(self, i, 1) ? 0 : ENOSPC;
        self->tables[i].count = 1; /* the placeholder */
    }
    if (failed) {
        arena_unmap(self);
        return failed;
    }
    arena_start_slices(self);
    memcpy(self->head->magic, RICERCA_MAGIC, sizeof RICERCA_MAGIC);
    return 0;
}

static void unmap(void *place, size_t bytes)
{
    if (place != NULL) {
        munmap(place, bytes);
    }
}

void arena_unmap(arena *self)
{
    for (int i = 0; i < TABLE_COUNT; i++) {
        unmap(self->mapped[i], self->mapped_bytes[i]);
    }
    unmap(self->base, HEADER_BYTES);
    unmap(self->follower, self->follower_bytes);
    unmap(self->slots, ((size_t)self->slot_mask + 1) * sizeof *self->slots);
    unmap(self->line_slots, ((size_t)self->line_slot_mask + 1) * sizeof *self->line_slots);
    if (self->fd >= 0) {
        close(self->fd);
    }
    free(self->path);
    memset(self, 0, sizeof *self);
    self->fd = -1;
}

void arena_beat(arena *self)
{
    self->head->last_ticks = clock_ticks();
    self->head->last_mono_ns = mono_ns();
}

void arena_close(arena *self)
{
    if (self->head == NULL || self->head->pid != (uint32_t)getpid()) {
        return;
    }
    arena_beat(self);
    self->head->state = STATE_CLOSED;
}

static int write_at(int fd, const uint8_t *bytes, uint64_t count, uint64_t offset)
{
    while (count > 0) {
        ssize_t done = pwrite(fd, bytes, count, (off_t)offset);
        if (done < 0 && errno != EINTR) {
            return errno;
        }
        if (done > 0) {
            bytes += done;
            offset += (uint64_t)done;
            count -= (uint64_t)done;
        }
    }
    return 0;
}

/* Copies what the header says at one moment: the parent goes on writing meanwhile, and rows that it adds
 * later must not come along, or they would be found but not counted. */
static int copy_tables(const arena *self, int fd)
{
    uint8_t snapshot[HEADER_BYTES];
    memcpy(snapshot, self->base, HEADER_BYTES);
    uint64_t file_bytes = ((header *)snapshot)->file_bytes;
    int failed = ftruncate(fd, (off_t)file_bytes) != 0 ? errno : write_at(fd, snapshot, HEADER_BYTES, 0);
    for (int i = 0; i < TABLE_COUNT && !failed; i++) {
        table_row row;
        memcpy(&row, snapshot + DIRECTORY_OFFSET + (size_t)i * sizeof row, sizeof row);
        failed = posix_fallocate(fd, (off_t)row.offset_bytes, (off_t)row.allocated_bytes);
        if (!failed) {
            failed = write_at(fd, self->mapped[i], row.count * row.record_bytes, row.offset_bytes);
        }
    }
    return failed;
}

static void zero_counts(arena *self)
{
    memset(&self->head->python_watched, 0, sizeof(work_record));
    memset(&self->head->builtin_watched, 0, sizeof(work_record));
    for (uint64_t i = 1; i < self->tables[TABLE_CONTEXTS].count; i++) {
        context_record *record = &self->contexts[i];
        record->calls = record->resumes = record->self_ticks = record->waiting_ticks = record->long_ticks = 0;
        record->hint = 0;
    }
    for (uint64_t i = 1; i < self->tables[TABLE_FUNCTIONS].count; i++) {
        self->functions[i].overflow_calls = self->functions[i].overflow_resumes = 0;
    }
    for (uint64_t i = 1; i < self->tables[TABLE_LINES].count; i++) {
        self->lines[i].hits = self->lines[i].self_ticks = self->lines[i].waiting_ticks = 0;
    }
}

/* Puts another file in the place of the one that is mapped. 0, or an errno; then some of it may be replaced. */
static int map_instead(arena *self, int fd)
{
    int failed = mmap(self->base, HEADER_BYTES, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_FIXED, fd, 0) == MAP_FAILED;
    for (int i = 0; i < TABLE_COUNT && !failed; i++) {
        failed = mmap(self->mapped[i], self->mapped_bytes[i], PROT_READ | PROT_WRITE, MAP_SHARED | MAP_FIXED, fd,
                      (off_t)self->tables[i].offset_bytes) == MAP_FAILED;
    }
    return failed ? errno : 0;
}

int arena_follow_fork(arena *self, const char *path)
{
    char *own_path = strdup(path);
    int fd = own_path == NULL ? -1 : open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
    if (fd < 0) {
        free(own_path);
        return errno;
    }
    int failed = copy_tables(self, fd);
    if (!failed) {
        failed = map_instead(self, fd);
    }
    close(fd);
    if (failed) {
        unlink(path);
        free(own_path);
        return failed;
    }
    free(self->path);
    self->path = own_path;
    zero_counts(self);
    self->head->pid = (uint32_t)getpid();
    self->head->parent_pid = 0;
    self->head->setup_ns = 0;
    self->head->unseen_threads = self->head->unseen_interpreters = self->head->taken_hooks = self->head->strange_stacks = 0;
    arena_beat(self);
    self->head->start_ticks = self->head->last_ticks;
    self->head->start_mono_ns = self->head->last_mono_ns;
    self->head->start_unix_ns = timespec_ns(CLOCK_REALTIME);
    arena_start_slices(self);
    return 0;
}

uint32_t arena_string(arena *self, const char *text, size_t bytes)
{
    table_row *row = &self->tables[TABLE_STRINGS];
    if (bytes == 0 || !arena_room(self, TABLE_STRINGS, bytes)) {
        return 0;
    }
    uint32_t offset = (uint32_t)row->count;
    memcpy(self->strings + offset, text, bytes);
    row->count += bytes;
    return offset;
}

uint32_t arena_function(arena *self, const function_record *record)
{
    table_row *row = &self->tables[TABLE_FUNCTIONS];
    if (!arena_room(self, TABLE_FUNCTIONS, 1)) {
        return 0;
    }
    uint32_t index = (uint32_t)row->count;
    self->functions[index] = *record;
    row->count++;
    return index;
}

/* Puts index into slots; key_of gives the hash of a record already there. */
static void slot_in(uint32_t *slots, uint32_t mask, uint32_t hash, uint32_t index)
{
    uint32_t slot = hash & mask;
    while (slots[slot] != 0) {
        slot = (slot + 1) & mask;
    }
    slots[slot] = index;
}

static uint32_t hash_of_context(const arena *self, uint32_t index)
{
    const context_record *record = &self->contexts[index];
    return context_hash(record->parent, record->function, record->line);
}

static uint32_t hash_of_line(const arena *self, uint32_t index)
{
    return context_hash(self->lines[index].function, self->lines[index].line, 0);
}

/* Doubles a hash; when memory is short the old one stays and merely gets fuller. */
static void grow(const arena *self, uint32_t **slots, uint32_t *mask, uint64_t count,
                 uint32_t (*hash)(const arena *, uint32_t))
{
    uint64_t size = ((uint64_t)*mask + 1) * 2;
    if (size > (uint64_t)1 << 31) {
        return;
    }
    uint32_t *bigger = slots_of(size);
    if (bigger == NULL) {
        return;
    }
    for (uint64_t i = 1; i < count; i++) {
        slot_in(bigger, (uint32_t)(size - 1), hash(self, (uint32_t)i), (uint32_t)i);
    }
    munmap(*slots, ((uint64_t)*mask + 1) * sizeof(uint32_t));
    *slots = bigger;
    *mask = (uint32_t)(size - 1);
}

static int crowded(uint64_t count, uint32_t mask) { return count * 2 > (uint64_t)mask; }
static int bursting(uint64_t count, uint32_t mask) { return count * 10 > (uint64_t)mask * 9; }

uint32_t arena_new_context(arena *self, uint32_t parent, uint32_t function, uint32_t line)
{
    const table_row *row = &self->tables[TABLE_CONTEXTS];
    if (row->count >= row->capacity - row->capacity / LAST_SHARE) {
        self->head->flags |= FLAG_CONTEXTS_FULL | FLAG_LIMIT_REACHED;
        return 0;
    }
    return arena_last_context(self, parent, function, line);
}

uint32_t arena_last_context(arena *self, uint32_t parent, uint32_t function, uint32_t line)
{
    table_row *row = &self->tables[TABLE_CONTEXTS];
    if (crowded(row->count, self->slot_mask)) {
        grow(self, &self->slots, &self->slot_mask, row->count, hash_of_context);
    }
    if (bursting(row->count, self->slot_mask) || !arena_room(self, TABLE_CONTEXTS, 1)) {
        self->head->flags |= FLAG_CONTEXTS_FULL;
        return 0;
    }
    uint32_t index = (uint32_t)row->count;
    context_record *record = &self->contexts[index];
    record->parent = parent;
    record->function = function;
    record->line = line;
    record->thread = self->contexts[parent].thread;
    row->count++;
    slot_in(self->slots, self->slot_mask, context_hash(parent, function, line), index);
    if (parent != 0) {
        self->follower[self->contexts[parent].hint] = index;
        self->contexts[parent].hint = index;
    }
    return index;
}

uint32_t arena_thread(arena *self, uint64_t native_id, uint32_t root_function)
{
    table_row *row = &self->tables[TABLE_THREADS];
    if (!arena_room(self, TABLE_THREADS, 1)) {
        return 0;
    }
    uint32_t index = (uint32_t)row->count;
    /* Each root's line is its thread's number: two threads never share a root. */
    uint32_t root = arena_new_context(self, 0, root_function, index);
    if (root == 0) {
        return 0;
    }
    self->contexts[root].thread = index;
    thread_record *record = &self->threads[index];
    memset(record, 0, sizeof *record);
    record->native_id = native_id;
    record->root = root;
    record->top = root;
    record->start_ticks = clock_ticks();
    record->last_ticks = record->start_ticks;
    row->count++;
    return index;
}

uint32_t arena_line(arena *self, uint32_t function, uint32_t line)
{
    table_row *row = &self->tables[TABLE_LINES];
    uint32_t hash = context_hash(function, line, 0), index;
    uint32_t slot = hash & self->line_slot_mask;
    while ((index = self->line_slots[slot]) != 0) {
        if (self->lines[index].function == function && self->lines[index].line == line) {
            return index;
        }
        slot = (slot + 1) & self->line_slot_mask;
    }
    if (crowded(row->count, self->line_slot_mask)) {
        grow(self, &self->line_slots, &self->line_slot_mask, row->count, hash_of_line);
    }
    if (bursting(row->count, self->line_slot_mask) || !arena_room(self, TABLE_LINES, 1)) {
        return 0;
    }
    index = (uint32_t)row->count;
    self->lines[index].function = function;
    self->lines[index].line = line;
    row->count++;
    slot_in(self->line_slots, self->line_slot_mask, hash, index);
    return index;
}
