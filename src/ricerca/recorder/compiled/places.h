/* What a thread of a compiled program is recorded into, and how addresses become rows of its tables. */
#ifndef RICERCA_PLACES_H
#define RICERCA_PLACES_H

#include <dlfcn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../native/stack.h"

#define UNSEEN __attribute__((no_instrument_function))
#define FIRST_PLACES 1024u

/* Number of a function or call site, by its address. */
typedef struct {
    const void *address;
    uint32_t number;
} place;

typedef struct {
    const void *function, *site; /* site NULL: any */
} call_key;

typedef struct recording {
    arena store;
    stack *thread;
    place *places;
    uint32_t place_mask, place_count;
    call_key *keys;         /* by context: the addresses that it stands for, so that a call that was seen before asks no table */
    uint32_t key_count;
    uint32_t *recursion_sites; /* by function: the site that stands for all from which it calls itself, directly or through others */
    uint32_t recursion_count;
    uint32_t above;         /* the interpreter's context below which the entry on top of the stack lies; 0 without an interpreter */
    uint32_t file;          /* the offset and length of the name of the file met last */
    uint32_t file_bytes;
    const void *file_base;
    pid_t pid;
    struct recording *next; /* of those that no thread has now */
} recording;

static UNSEEN int more_places(recording *self)
{
    uint32_t mask = self->place_mask * 2 + 1;
    place *wider = calloc((size_t)mask + 1, sizeof *wider);
    if (wider == NULL) {
        return 0;
    }
    for (uint32_t i = 0; i <= self->place_mask; i++) {
        if (self->places[i].address != NULL) {
            uint32_t slot = (uint32_t)(((uintptr_t)self->places[i].address * 0x9E3779B97F4A7C15u) >> 32) & mask;
            while (wider[slot].address != NULL) {
                slot = (slot + 1) & mask;
            }
            wider[slot] = self->places[i];
        }
    }
    free(self->places);
    self->places = wider;
    self->place_mask = mask;
    return 1;
}

/* Writes down an address: the file that it lies in, and how far from the file's beginning. */
static UNSEEN uint32_t new_place(recording *self, const void *address, uint32_t kind)
{
    Dl_info found = {0};
    char name[32];
    arena *store = &self->store;
    if (kind == KIND_ABOVE) {
        function_record record = {0};
        record.kind = kind;
        record.name_bytes = (uint32_t)snprintf(name, sizeof name, "%zu", (size_t)(uintptr_t)address);
        record.name_offset = arena_string(store, name, record.name_bytes);
        return arena_function(store, &record);
    }
    if (dladdr(address, &found) == 0 || found.dli_fname == NULL) {
        found.dli_fname = "";
        found.dli_fbase = NULL;
    }
    if (self->file_base != found.dli_fbase || self->file_bytes == 0) {
        char whole[4096];
        const char *file = found.dli_fname;
        if (strchr(file, '/') == NULL || realpath(file, whole) == NULL) {
            ssize_t bytes = readlink("/proc/self/exe", whole, sizeof whole - 1);
            whole[bytes > 0 ? bytes : 0] = 0;
        }
        self->file_base = found.dli_fbase;
        self->file_bytes = (uint32_t)strlen(whole);
        self->file = arena_string(store, whole, self->file_bytes);
    }
    int bytes = snprintf(name, sizeof name, "0x%zx", (size_t)((const char *)address - (const char *)found.dli_fbase));
    function_record record = {0};
    record.kind = kind;
    record.name_offset = arena_string(store, name, (size_t)bytes);
    record.name_bytes = record.name_offset ? (uint32_t)bytes : 0;
    record.file_offset = self->file;
    record.file_bytes = self->file ? self->file_bytes : 0;
    return arena_function(store, &record);
}

static inline UNSEEN uint32_t number_of(recording *self, const void *address, uint32_t kind)
{
    uint32_t slot = (uint32_t)(((uintptr_t)address * 0x9E3779B97F4A7C15u) >> 32) & self->place_mask;
    const place *known;
    while ((known = &self->places[slot])->address != NULL) {
        if (known->address == address) {
            return known->number;
        }
        slot = (slot + 1) & self->place_mask;
    }
    uint32_t number = new_place(self, address, kind);
    if (number != 0 && (self->place_count * 2 < self->place_mask || more_places(self))) {
        slot = (uint32_t)(((uintptr_t)address * 0x9E3779B97F4A7C15u) >> 32) & self->place_mask;
        while (self->places[slot].address != NULL) {
            slot = (slot + 1) & self->place_mask;
        }
        self->places[slot].address = address;
        self->places[slot].number = number;
        self->place_count++;
    }
    stack_skip(self->thread);
    return number;
}

static UNSEEN void keep_key(recording *self, uint32_t context, const void *function, const void *site)
{
    if (context >= self->key_count) {
        uint32_t count = context * 2 + 256;
        call_key *wider = realloc(self->keys, count * sizeof *wider);
        if (wider == NULL) {
            return;
        }
        memset(wider + self->key_count, 0, (count - self->key_count) * sizeof *wider);
        self->keys = wider;
        self->key_count = count;
    }
    self->keys[context].function = function;
    self->keys[context].site = site;
}

static inline UNSEEN int is_known(const recording *self, uint32_t context, uint32_t parent, const void *function, const void *site)
{
    return context < self->key_count && self->keys[context].function == function
        && (self->keys[context].site == site || self->keys[context].site == NULL) && self->store.contexts[context].parent == parent;
}

/* The context of a call that was seen before just here: of the callee found last, or of the one that came after it then. */
static inline UNSEEN uint32_t seen_before(recording *self, uint32_t parent, const void *function, const void *site)
{
    uint32_t last = self->store.contexts[parent].hint, next;
    if (is_known(self, last, parent, function, site)) {
        return last;
    }
    next = self->store.follower[last];
    if (is_known(self, next, parent, function, site)) {
        self->store.contexts[parent].hint = next;
        return next;
    }
    return 0;
}

/* Whether a function is the one of a context or of one above it. */
static UNSEEN int is_above(const recording *self, uint32_t context, uint32_t function)
{
    for (; context != 0; context = self->store.contexts[context].parent) {
        if (self->store.contexts[context].function == function) {
            return 1;
        }
    }
    return 0;
}

/* A function that calls itself from two places would have as many contexts as there are ways down: with one site for all
 * there is one for each level. */
static UNSEEN uint32_t recursion_site(recording *self, uint32_t function, const void *site)
{
    if (function >= self->recursion_count) {
        uint32_t count = function * 2 + 64;
        uint32_t *wider = realloc(self->recursion_sites, count * sizeof *wider);
        if (wider == NULL) {
            return 0;
        }
        memset(wider + self->recursion_count, 0, (count - self->recursion_count) * sizeof *wider);
        self->recursion_sites = wider;
        self->recursion_count = count;
    }
    if (self->recursion_sites[function] == 0) {
        self->recursion_sites[function] = number_of(self, site, KIND_SITE);
    }
    return self->recursion_sites[function];
}

static UNSEEN __attribute__((noinline)) uint32_t look_up(recording *self, uint32_t parent, uint32_t callee, const void *function, const void *site,
                                                        int inlined)
{
    int recursive = is_above(self, parent, callee);
    uint32_t line = recursive ? recursion_site(self, callee, site) : inlined ? 0 : number_of(self, site, KIND_SITE);
    uint32_t context = callee == 0 ? 0 : arena_find_context(&self->store, parent, callee, line);
    if (context == 0 && callee != 0) {
        context = arena_new_context(&self->store, parent, callee, line);
        stack_skip(self->thread);
    }
    if (context != 0) {
        keep_key(self, context, function, recursive ? NULL : site);
    }
    return context;
}

#endif
