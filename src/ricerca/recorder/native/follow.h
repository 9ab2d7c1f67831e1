/* From events to the shadow stack: what all hooks share. */
#ifndef RICERCA_FOLLOW_H
#define RICERCA_FOLLOW_H

#include <string.h>

#include "frames.h"
#include "recorder.h"

#define NAME_TRIES 64u
#define SELDOM __attribute__((noinline, cold, unused)) /* kept out of the hot path's way */

/* What is known of a code object, NULL when it was never met. */
static inline code_info *info_of(const recorder *self, PyCodeObject *code)
{
    void *known = NULL;
    if (__builtin_expect(self->known.extra_direct, 1)) {
        const code_extras *extras = code->co_extra;
        return extras == NULL || extras->count <= self->known.extra_index ? NULL : extras->values[self->known.extra_index];
    }
    code_get_extra((PyObject *)code, self->known.extra_index, &known);
    return known;
}

/* Whether the lines of a code object can be told; once, when it first calls something. */
SELDOM static int find_lines(code_info *info)
{
    if (info->object != NULL) {
        names_lines(info, (PyCodeObject *)info->object);
    }
    return info->lines != NULL;
}

/* The line of a caller from which it makes the call that is under way, 0 where that is not known. */
static inline uint32_t line_of_call(const stack_entry *caller)
{
    code_info *info = caller->code;
    if (__builtin_expect(info == NULL || (info->lines == NULL && !find_lines(info)), 0)) {
        return 0;
    }
    int offset = frame_of(caller) == NULL ? caller->offset : frame_offset(frame_of(caller), info->object);
    uint32_t unit = (uint32_t)offset / 2;
    return __builtin_expect(unit < info->unit_count, 1) ? info->lines[unit] : 0;
}

/* Whether to record now; a forked child is followed at its first event, and the clock read again. */
static inline int awake(recorder *self, stack *thread, uint64_t *now)
{
    if (__builtin_expect(self->active, 1)) {
        if (__builtin_expect(self->store.head->control == self->store.control_seen, 1)) {
            return 1;
        }
        return items_attend(self, thread);
    }
    if (!self->forked || thread == NULL || !recorder_follow_fork(self, thread)) {
        return 0;
    }
    *now = clock_ticks();
    return 1;
}

/* The interpreter ends without any more word when os._exit is called: its closing mark is made before. */
static void close_before_exit(recorder *self, uint32_t function)
{
    const function_record *record = &self->store.functions[function];
    if (record->kind == KIND_BUILTIN && record->name_bytes == 5
        && memcmp(self->store.strings + record->name_offset, "_exit", 5) == 0) {
        arena_close(&self->store);
    }
}

/* The chain of calls finds no room: below an item of the thread's own there is one context for each function, so that
 * its time counts to it and not to what happened to be open. 0 where there is no room even for that. */
static uint32_t context_without_chain(recorder *self, const stack *thread, uint32_t function)
{
    static const char name[] = "<no room for the chain of calls>";
    arena *store = &self->store;
    uint32_t item = names_item(&self->known, KIND_THREAD, name, sizeof name - 1), root = thread->record->root;
    uint32_t below = item == 0 ? 0 : arena_find_context(store, root, item, 0);
    below = item == 0 || below != 0 ? below : arena_last_context(store, root, item, 0);
    uint32_t found = below == 0 ? 0 : arena_find_context(store, below, function, 0);
    return below == 0 || found != 0 ? found : arena_last_context(store, below, function, 0);
}

SELDOM static uint32_t new_context(recorder *self, stack *thread, uint32_t parent, uint32_t function, uint32_t line)
{
    close_before_exit(self, function);
    if (thread->cpu_ticks == 0) {
        stack_start_cpu_clock(thread);
    }
    if (thread->record->name_bytes == 0 && thread->name_tries < NAME_TRIES) {
        thread->name_tries++;
        names_thread(&self->known, thread->record);
    }
    uint32_t made = arena_new_context(&self->store, parent, function, line);
    made = made != 0 ? made : context_without_chain(self, thread, function);
    stack_skip(thread);
    return made;
}

/* The context of this callee and call site, made where it is not there; 0 without a function or room. */
static inline uint32_t context_below(recorder *self, stack *thread, uint32_t parent, uint32_t function, uint32_t line)
{
    if (__builtin_expect(function == 0, 0)) {
        return 0;
    }
    uint32_t context = arena_find_context(&self->store, parent, function, line);
    return __builtin_expect(context != 0, 1) ? context : new_context(self, thread, parent, function, line);
}

/* Brings the entry of a frame to the top, from what was put aside or from deeper in the stack. Whether there is one. */
SELDOM static int bring_to_top(stack *thread, const void *frame)
{
    if (stack_unpark(thread, frame)) {
        return 1;
    }
    for (uint32_t depth = thread->depth; depth > 0; depth--) {
        if (frame_of(&thread->entries[depth]) == frame) {
            if (depth < thread->depth) {
                stack_park(thread, depth);
            }
            return 1;
        }
    }
    return 0;
}

#define MOST_BACK 1000u /* callers of a running frame that are looked at to find where it belongs */

/* The stack does not show what runs: somebody switched to other frames on this thread, as green threads do, or an
 * end was not told. Brings the entry of this running frame to the top: from what was put aside, from deeper in
 * the stack, or that of the nearest caller that is known; else the stack begins anew. */
SELDOM static void find_running(recorder *self, stack *thread, const void *frame)
{
    self->store.head->strange_stacks++;
    const void *at = frame;
    for (uint32_t back = 0; at != NULL && back < MOST_BACK; back++) {
        if (bring_to_top(thread, at)) {
            return;
        }
        at = caller_of(at);
    }
    stack_park(thread, 0);
}

/* Before a body is entered or a builtin called by this frame (NULL: by nothing): whether it is what the stack has on
 * top. Where the interpreter's frames cannot be looked into, it is taken to be. */
static inline int is_running(const recorder *self, const stack *thread, const void *frame)
{
    const stack_entry *top = &thread->entries[thread->depth];
    if (__builtin_expect(thread->depth == 0, 0)) {
        return thread->parked_count == 0 || frame == NULL;
    }
    if (__builtin_expect(self->public_only || thread->unseen != 0, 0)) {
        return 1;
    }
    return frame_of(top) == frame && (top->code == NULL || top->code->object == (const void *)code_of_running(frame));
}

static inline void show_running(recorder *self, stack *thread, const void *frame)
{
    if (__builtin_expect(!is_running(self, thread, frame), 0)) {
        find_running(self, thread, frame);
    }
}

/* A builtin is called by a body that runs: one that is still open in the same body was left without a word. */
static inline void show_caller(recorder *self, stack *thread, const void *frame)
{
    show_running(self, thread, frame);
    while (__builtin_expect(thread->entries[thread->depth].code == NULL && thread->depth > 0
                            && thread->entries[thread->depth].frame == frame, 0)) {
        stack_pop(thread);
    }
}

/* Entering a body: the first time is a call, going on after a suspension a resume, and an exception
 * thrown into a body that never began is neither. */
enum entry { ENTRY_CALL, ENTRY_RESUME, ENTRY_NEITHER, ENTRY_ASK /* its frame */ };

static inline enum entry entry_of(const void *frame, const code_info *code)
{
    if (__builtin_expect(!(code->traits & TRAIT_RESUMABLE), 1)) {
        return ENTRY_CALL;
    }
    int at = frame_offset(frame, code->object);
    if (at == code->first_offset || (code->first_offset < 0 && at < 0)) {
        return ENTRY_CALL;
    }
    return at > code->first_offset ? ENTRY_RESUME : ENTRY_NEITHER;
}

static inline void count(recorder *self, uint32_t context, uint32_t function, enum entry entry)
{
    if (__builtin_expect(self->store.muted, 0)) {
        return;
    }
    if (__builtin_expect(context != 0, 1)) {
        arena_touching(&self->store, context);
        if (__builtin_expect(entry == ENTRY_CALL, 1)) {
            self->store.contexts[context].calls++;
        } else {
            self->store.contexts[context].resumes += entry == ENTRY_RESUME;
        }
    } else if (function != 0) {
        self->store.functions[function].overflow_calls += entry == ENTRY_CALL;
        self->store.functions[function].overflow_resumes += entry == ENTRY_RESUME;
    }
}

static inline void enter(recorder *self, stack *thread, uint32_t function, const void *frame, code_info *code,
                         enum entry entry)
{
    const stack_entry *caller = &thread->entries[thread->depth];
    uint32_t context = 0;
    if (__builtin_expect(!caller->overflow, 1)) {
        context = context_below(self, thread, caller->context, function, line_of_call(caller));
    }
    count(self, context, function, entry);
    stack_push(thread, frame, context, code);
}

SELDOM static void time_work(const arena *store, work_record *work, uint64_t began)
{
    uint64_t took = clock_ticks() - began;
    if (took < store->work_limit) {
        work->times++;
        work->ticks += took;
    }
}

/* Times the work of an entry now and then. */
static inline void watch(recorder *self, work_record *work, uint64_t began)
{
    if (__builtin_expect((began & WATCH_BITS) == 0, 0)) {
        time_work(&self->store, work, began);
    }
}

/* An import is an item of its own, the interpreter's machinery below it. Both end with the same frame. */
SELDOM static void enter_import(recorder *self, stack *thread, const void *frame, code_info *info)
{
    const stack_entry *caller = &thread->entries[thread->depth];
    uint32_t item = caller->overflow ? 0 : items_import(self, thread, frame, info->object, caller->context, line_of_call(caller));
    if (item == 0) {
        enter(self, thread, info->function, frame, info, ENTRY_CALL);
        return;
    }
    count(self, item, 0, ENTRY_CALL);
    stack_push(thread, frame, item, info);
    uint32_t context = context_below(self, thread, item, info->function, 0);
    count(self, context, info->function, ENTRY_CALL);
    stack_push(thread, (const void *)((uintptr_t)frame | SHARED_FRAME), context, info);
}

/* Enters a Python function; info is NULL where memory is short. */
static inline void enter_code(recorder *self, stack *thread, const void *frame, code_info *info, enum entry how)
{
    static code_info unknown;
    if (__builtin_expect(info == NULL, 0)) {
        info = &unknown;
    }
    if (__builtin_expect(thread->depth == 0 && self->known.inside_count > 0, 0) && !(info->traits & TRAIT_INSIDE)) {
        return; /* outside of the part that is wanted */
    }
    if (__builtin_expect(info->traits & TRAIT_IMPORT, 0) && thread->depth > 0) {
        enter_import(self, thread, frame, info);
        return;
    }
    enter(self, thread, info->function, frame, info, how == ENTRY_ASK ? entry_of(frame, info) : how);
}

/* Before the program: waits for the frame in which it begins, which is __main__'s own module body,
 * or the one that looks a module up for -m. */
SELDOM static int begins_program(PyCodeObject *code, PyObject *globals)
{
    const char *name = PyUnicode_AsUTF8(code->co_name);
    const char *wanted = NULL;
    PyObject *module = globals == NULL ? NULL : PyDict_GetItemString(globals, "__name__");
    const char *owner = module != NULL && PyUnicode_Check(module) ? PyUnicode_AsUTF8(module) : NULL;
    if (owner != NULL && strcmp(owner, "__main__") == 0) {
        wanted = "<module>";
    } else if (owner != NULL && strcmp(owner, "runpy") == 0) {
        wanted = "_run_module_as_main";
    }
    int begins = name != NULL && wanted != NULL && strcmp(name, wanted) == 0;
    PyErr_Clear();
    return begins;
}

/* Our start-up module must not show where the program has none of its own. */
static void forget_entry_module(void)
{
    PyObject *modules = PyImport_GetModuleDict();
    PyObject *entry = modules == NULL ? NULL : PyDict_GetItemString(modules, "sitecustomize");
    PyObject *space = entry != NULL && PyModule_Check(entry) ? PyModule_GetDict(entry) : NULL;
    if (space != NULL && PyDict_GetItemString(space, "_make_way") != NULL) {
        PyDict_DelItemString(modules, "sitecustomize");
    }
    PyErr_Clear();
}

/* The program begins now: what passed before is not in the recording. */
SELDOM static void begin_recording(recorder *self, stack *own)
{
    header *head = self->store.head;
    forget_entry_module();
    arena_beat(&self->store);
    head->start_ticks = head->last_ticks;
    head->start_mono_ns = head->last_mono_ns;
    head->start_unix_ns = timespec_ns(CLOCK_REALTIME);
    own->record->start_ticks = own->record->last_ticks = head->start_ticks;
    arena_start_slices(&self->store);
    self->active = 1;
}

#endif
