#include "own_stack.h"

#include <pthread.h>

__thread stack *own __attribute__((tls_model("initial-exec")));

static pthread_key_t ending; /* its destructor runs at the end of a thread */
static stack *ended_threads; /* whose end is still to be booked */

/* At the end of a thread, without the interpreter's lock: nothing may be booked here. */
static void thread_ends(void *thread)
{
    stack *self = thread;
    self->next = __atomic_load_n(&ended_threads, __ATOMIC_RELAXED);
    while (!__atomic_compare_exchange_n(&ended_threads, &self->next, self, 1, __ATOMIC_RELEASE, __ATOMIC_RELAXED)) {
    }
}

void hook_put_away(recorder *self)
{
    stack *thread = __atomic_exchange_n(&ended_threads, NULL, __ATOMIC_ACQUIRE);
    while (thread != NULL) {
        stack *next = thread->next;
        if (self->active && thread->store == &self->store) {
            stack_end_at(thread, thread->record->last_ticks);
        }
        stack_free(thread);
        thread = next;
    }
}

int own_stack_open(void)
{
    static int key_made;
    if (!key_made && pthread_key_create(&ending, thread_ends) != 0) {
        PyErr_NoMemory();
        return -1;
    }
    key_made = 1;
    own = NULL;
    return 0;
}

stack *own_stack_new(recorder *self)
{
    hook_put_away(self);
    own = stack_new(&self->store, (uint64_t)PyThread_get_thread_native_id(), self->thread_root);
    if (own != NULL) {
        pthread_setspecific(ending, own);
    }
    return own;
}

void own_stack_drop(void)
{
    if (own != NULL) {
        pthread_setspecific(ending, NULL);
        stack_free(own);
        own = NULL;
    }
}
