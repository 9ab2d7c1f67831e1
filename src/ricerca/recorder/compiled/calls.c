/* The event source for compiled programs: the calls that a compiler puts at the beginning and the end of each function
 * (-finstrument-functions). Loaded before the program by the loader; does nothing until such a call comes.
 *
 * There is no lock that all threads hold, so each thread has an arena of its own, in a file of its own: what the program
 * pays for a call is what it pays in an interpreter. Threads are put together when the recording is read. A thread that
 * ends leaves its arena to the next one. Functions and call sites are kept by address; names, files and lines are found
 * when the recording is read. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "places.h"

#define EXPORTED UNSEEN __attribute__((visibility("default")))
#define ABOVE (-1)          /* in the place of a function: an entry that stands for a context of the interpreter */
#define CALIBRATION_CALLS 20000u
#define MOST_FILES 100000u
#define MOST_THREADS 4096u /* that are closed at the end; those of others stay as if cut short */
#define LEAST_MEMORY (64ull << 20)

/* An interpreter that is recorded in this process says here which of its contexts runs on the calling thread. */
__attribute__((visibility("default"))) uint32_t (*ricerca_context_above)(void);

static __thread recording *own __attribute__((tls_model("initial-exec")));
static __thread int busy __attribute__((tls_model("initial-exec"))); /* the recorder itself calls something */
static __thread int jumped __attribute__((tls_model("initial-exec"))); /* a jump has left functions, nobody knows yet which */
static __thread int refused __attribute__((tls_model("initial-exec")));
static pthread_key_t end_of_thread;
static pthread_once_t once = PTHREAD_ONCE_INIT;
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static recording *idle, *all[MOST_THREADS];
static unsigned all_count;
static char base_path[4096];
static unsigned long long limit_bytes = 1ull << 30;
static double call_ns = -1; /* what recording a call takes; negative before anybody measured it */
static volatile int closed;
static volatile pid_t our_pid;

static UNSEEN void put_away(void *given)
{
    recording *self = given;
    busy = 1;
    if (self != NULL && self->pid == our_pid) {
        stack_end(self->thread);
        stack_free(self->thread);
        self->thread = NULL;
        pthread_mutex_lock(&lock);
        self->next = idle;
        idle = self;
        pthread_mutex_unlock(&lock);
    }
    own = NULL;
    busy = 0;
}

static UNSEEN void before_fork(void) { pthread_mutex_lock(&lock); }
static UNSEEN void after_fork(void) { pthread_mutex_unlock(&lock); }

/* The child's memory maps its parent's files: from now on it must write to none of them. */
static UNSEEN void in_child(void)
{
    idle = NULL;
    all_count = 0;
    our_pid = getpid();
    pthread_mutex_unlock(&lock);
}

static UNSEEN void begin(void)
{
    const char *path = getenv("RICERCA_RECORDING"), *limit = getenv("RICERCA_LIMIT");
    if (path == NULL || path[0] == 0 || strlen(path) + 32 > sizeof base_path || pthread_key_create(&end_of_thread, put_away) != 0) {
        closed = 1;
        return;
    }
    strcpy(base_path, path);
    if (limit != NULL && strtoull(limit, NULL, 10) > 0) {
        limit_bytes = strtoull(limit, NULL, 10);
    }
    our_pid = getpid();
    pthread_atfork(before_fork, after_fork, in_child);
}

/* A new file beside the program's recording: what replaces this program may have begun one as well. */
static UNSEEN int new_file(char *path, size_t room)
{
    for (unsigned number = 0; number < MOST_FILES; number++) {
        snprintf(path, room, "%s.%d.%u", base_path, (int)our_pid, number);
        int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
        if (fd >= 0) {
            close(fd);
            return 1;
        }
        if (errno != EEXIST) {
            return 0;
        }
    }
    return 0;
}

static UNSEEN recording *open_one(void)
{
    char path[sizeof base_path + 32];
    recording *self = calloc(1, sizeof *self);
    if (self == NULL || !new_file(path, sizeof path)) {
        free(self);
        return NULL;
    }
    self->place_mask = FIRST_PLACES - 1;
    self->places = calloc(FIRST_PLACES, sizeof *self->places);
    if (self->places == NULL || arena_open(&self->store, path, 0, limit_bytes, 0) != 0) {
        unlink(path);
        free(self->places);
        free(self);
        return NULL;
    }
    self->store.head->hook = HOOK_COMPILED;
    self->pid = our_pid;
    pthread_mutex_lock(&lock);
    if (all_count < sizeof all / sizeof *all) {
        all[all_count++] = self;
    }
    pthread_mutex_unlock(&lock);
    return self;
}

static UNSEEN recording *take_idle(void)
{
    pthread_mutex_lock(&lock);
    recording *found = idle;
    if (found != NULL) {
        idle = found->next;
    }
    pthread_mutex_unlock(&lock);
    return found;
}

/* Number of the function that every thread's tree begins with. */
static UNSEEN uint32_t root_function(arena *store)
{
    static const char name[] = "<thread start>";
    if (store->tables[TABLE_FUNCTIONS].count > 1) {
        return 1;
    }
    function_record record = {0};
    record.kind = KIND_THREAD;
    record.name_offset = arena_string(store, name, sizeof name - 1);
    record.name_bytes = sizeof name - 1;
    return arena_function(store, &record);
}

static inline UNSEEN void enter(recording *self, void *function, void *site, const void *here);
static inline UNSEEN void leave_call(recording *self, void *function);

/* What recording a call takes here and now, half of it booked on the callee, half on its caller; measured on the first
 * thread's own arena, whose counts begin anew after that. */
static UNSEEN void calibrate_calls(recording *self)
{
    static int scratch;
    header *head = self->store.head;
    uint64_t began = 0;
    for (unsigned n = 0; n < 2 * CALIBRATION_CALLS; n++) {
        if (n == CALIBRATION_CALLS) {
            began = clock_ticks(); /* the first half warms up */
        }
        enter(self, &scratch, &scratch, &began);
        leave_call(self, &scratch);
    }
    call_ns = (double)(clock_ticks() - began) * self->store.ns_per_tick / CALIBRATION_CALLS;
    for (uint64_t i = 1; i < self->store.tables[TABLE_CONTEXTS].count; i++) {
        context_record *context = &self->store.contexts[i];
        context->calls = context->self_ticks = context->waiting_ticks = context->long_ticks = 0;
        context->hint = 0;
    }
    for (uint64_t i = 2; i < self->store.tables[TABLE_FUNCTIONS].count; i++) {
        if (self->store.functions[i].kind != KIND_ABOVE) {
            self->store.functions[i].kind = KIND_SITE; /* no function of the program's */
        }
    }
    arena_beat(&self->store);
    head->start_ticks = head->last_ticks;
    head->start_mono_ns = head->last_mono_ns;
    arena_start_slices(&self->store);
    self->thread->record->start_ticks = self->thread->record->last_ticks = head->start_ticks;
    memset(self->keys, 0, self->key_count * sizeof *self->keys);
}

/* This thread's own from now on; NULL where there is no memory or room, and then it is not asked again. */
static UNSEEN recording *begin_on(recording *self)
{
    self->thread = stack_new(&self->store, (uint64_t)syscall(SYS_gettid), root_function(&self->store));
    if (self->thread == NULL) {
        refused = 1;
        return NULL;
    }
    self->above = 0;
    stack_start_cpu_clock(self->thread);
    pthread_setspecific(end_of_thread, self);
    if (call_ns < 0) {
        call_ns = 0;
        calibrate_calls(self);
    }
    self->store.head->python_inside_ns = self->store.head->python_outside_ns = call_ns / 2;
    return self;
}

static UNSEEN recording *begin_thread(void)
{
    pthread_once(&once, begin);
    if (closed || refused) {
        return NULL;
    }
    recording *self = take_idle();
    self = self != NULL ? self : open_one();
    refused = self == NULL;
    return self == NULL ? NULL : begin_on(self);
}

/* A fork has left this thread with its parent's arena: what it does goes on in an arena of its own. */
static UNSEEN recording *follow_fork(void)
{
    recording *self = open_one();
    refused = self == NULL;
    return self == NULL ? NULL : begin_on(self);
}

static UNSEEN recording *awake(void)
{
    recording *self = own;
    if (__builtin_expect(self != NULL && self->pid == our_pid, 1)) {
        return closed ? NULL : self;
    }
    if (closed || refused) {
        return NULL;
    }
    self = self != NULL ? follow_fork() : begin_thread();
    own = self;
    return self;
}

/* Whether an entry has been left without a word, by longjmp, now that a function begins here. The stack grows downwards: what lies deeper
 * is gone. What lies as deep is the caller where the compiler has put this function's code into it: then both have the
 * same site; the same function from the same site is a new call. */
static inline UNSEEN int is_gone(const stack_entry *entry, const void *here, const void *site, uint32_t function)
{
    if ((uintptr_t)entry->frame != (uintptr_t)here) {
        return (uintptr_t)entry->frame < (uintptr_t)here;
    }
    return (const void *)entry->code != site || (uint32_t)entry->offset == function;
}

static UNSEEN void leave_jumped(recording *self, const void *here, const void *site, uint32_t function)
{
    stack *thread = self->thread;
    while (thread->depth > 0 && is_gone(&thread->entries[thread->depth], here, site, function)) {
        stack_pop(thread);
    }
    jumped = 0;
}

/* A jump leaves functions without a word; what comes next tells which. */
#define JUMP(name, type)                                                                                                          \
    EXPORTED void name(type buffer, int value) __attribute__((noreturn));                                                        \
    void name(type buffer, int value)                                                                                             \
    {                                                                                                                             \
        void (*real)(type, int) = (void (*)(type, int))dlsym(RTLD_NEXT, #name);                                                   \
        jumped = 1;                                                                                                               \
        real(buffer, value);                                                                                                      \
        abort();                                                                                                                  \
    }
JUMP(longjmp, jmp_buf)
JUMP(_longjmp, jmp_buf)
JUMP(siglongjmp, sigjmp_buf)
JUMP(__longjmp_chk, jmp_buf)

/* Leaves the latest call of a function, and what longjmp has left above it. */
static inline UNSEEN void leave(stack *thread, uint32_t function)
{
    uint32_t depth = thread->depth;
    while (depth > 0 && (uint32_t)thread->entries[depth].offset != function) {
        depth--;
    }
    while (depth > 0 && thread->depth >= depth) {
        stack_pop(thread);
    }
}

EXPORTED void __cyg_profile_func_enter(void *function, void *site);
EXPORTED void __cyg_profile_func_exit(void *function, void *site);

/* Puts an entry for the interpreter's context between what runs here and what it calls, and takes those out that are left. */
static UNSEEN __attribute__((noinline)) void go_below(recording *self, uint32_t above)
{
    stack *thread = self->thread;
    while (thread->depth > 0 && thread->entries[thread->depth].offset == ABOVE
           && (uint32_t)(uintptr_t)thread->entries[thread->depth].code != above) {
        stack_pop(thread);
        self->above = 0;
        for (uint32_t depth = thread->depth; depth > 0 && self->above == 0; depth--) {
            if (thread->entries[depth].offset == ABOVE) {
                self->above = (uint32_t)(uintptr_t)thread->entries[depth].code;
            }
        }
    }
    if (self->above == above || above == 0) {
        return;
    }
    uint32_t stands_for = number_of(self, (const void *)(uintptr_t)above, KIND_ABOVE), parent = thread->entries[thread->depth].context;
    uint32_t context = stands_for == 0 ? 0 : arena_find_context(&self->store, parent, stands_for, 0);
    context = context != 0 || stands_for == 0 ? context : arena_new_context(&self->store, parent, stands_for, 0);
    stack_entry *entry = stack_push(thread, (const void *)UINTPTR_MAX, context, (code_info *)(uintptr_t)above);
    if (entry != NULL) {
        entry->offset = ABOVE;
        self->above = above;
    }
}

static inline UNSEEN void enter(recording *self, void *function, void *site, const void *here)
{
    uint64_t now = clock_ticks();
    stack *thread = self->thread;
    stack_book(thread, now);
    if (__builtin_expect(ricerca_context_above != NULL, 0)) {
        uint32_t above = ricerca_context_above();
        if (above != self->above || thread->depth == 0) {
            go_below(self, above);
        }
    }
    if (__builtin_expect(jumped, 0)) {
        leave_jumped(self, here, site, number_of(self, function, KIND_PYTHON));
    }
    const stack_entry *caller = &thread->entries[thread->depth];
    uint32_t parent = caller->context, callee = 0;
    uint32_t context = caller->overflow ? 0 : seen_before(self, parent, function, site);
    if (__builtin_expect(context != 0, 1)) {
        callee = self->store.contexts[context].function;
    } else {
        callee = number_of(self, function, KIND_PYTHON);
        context = look_up(self, parent, callee, function, site, thread->depth > 0 && caller->frame == here);
    }
    if (context != 0) {
        arena_touching(&self->store, context);
        self->store.contexts[context].calls++;
    } else if (callee != 0) {
        self->store.functions[callee].overflow_calls++;
    }
    stack_entry *entry = stack_push(thread, here, context, site);
    if (entry != NULL) {
        entry->offset = (int32_t)callee;
    }
    if (__builtin_expect((now & 0xFFFFF) < 64, 0)) {
        arena_beat(&self->store);
    }
}

static inline UNSEEN void leave_call(recording *self, void *function)
{
    stack *thread = self->thread;
    stack_book(thread, clock_ticks());
    if (thread->unseen > 0) {
        thread->unseen--;
    } else {
        uint32_t context = thread->entries[thread->depth].context;
        int on_top = thread->depth > 0 && !thread->entries[thread->depth].overflow && context < self->key_count
            && self->keys[context].function == function;
        if (__builtin_expect(on_top, 1)) {
            stack_pop(thread);
        } else {
            leave(thread, number_of(self, function, KIND_PYTHON));
        }
    }
}

void __cyg_profile_func_enter(void *function, void *site)
{
    if (busy) {
        return;
    }
    busy = 1;
    int kept = errno;
    recording *self = awake();
    if (self != NULL) {
        enter(self, function, site, __builtin_frame_address(0));
    }
    errno = kept;
    busy = 0;
}

void __cyg_profile_func_exit(void *function, void *site)
{
    (void)site;
    if (busy) {
        return;
    }
    busy = 1;
    int kept = errno;
    recording *self = own;
    if (self != NULL && self->pid == our_pid && !closed) {
        leave_call(self, function);
    }
    errno = kept;
    busy = 0;
}

/* The last of all: libraries that are loaded first are finished last. */
__attribute__((destructor)) static UNSEEN void finish(void)
{
    busy = 1;
    closed = 1;
    pthread_mutex_lock(&lock);
    for (unsigned i = 0; i < all_count; i++) {
        if (all[i]->pid == our_pid) {
            if (all[i]->thread != NULL && all[i] == own) {
                stack_end(all[i]->thread);
            }
            arena_close(&all[i]->store);
        }
    }
    pthread_mutex_unlock(&lock);
}
