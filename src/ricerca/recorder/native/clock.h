/* The recorder's clock: the processor's tick counter where the kernel itself trusts it as its time
 * source, else the monotonic clock. Ticks become nanoseconds when a recording is read. */
#ifndef RICERCA_CLOCK_H
#define RICERCA_CLOCK_H

#include <stdint.h>
#include <time.h>
#if defined(__x86_64__)
#include <x86intrin.h>
#endif

#include "layout.h"

static inline uint64_t timespec_ns(clockid_t which)
{
    struct timespec now;
    clock_gettime(which, &now);
    return (uint64_t)now.tv_sec * 1000000000u + (uint64_t)now.tv_nsec;
}

static inline uint64_t mono_ns(void) { return timespec_ns(CLOCK_MONOTONIC); }
static inline uint64_t thread_cpu_ns(void) { return timespec_ns(CLOCK_THREAD_CPUTIME_ID); }

extern uint32_t clock_kind; /* CLOCK_TSC or CLOCK_MONO; set once by clock_choose */

static inline uint64_t clock_ticks(void)
{
#if defined(__x86_64__)
    if (__builtin_expect(clock_kind == CLOCK_TSC, 1)) {
        return __rdtsc();
    }
#endif
    return mono_ns();
}

/* Picks the clock and measures ns per tick against the monotonic clock for about measure_ns. */
double clock_choose(uint64_t measure_ns);

#endif
