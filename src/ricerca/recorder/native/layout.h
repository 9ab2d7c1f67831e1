/* The recording file, field by field. docs/formats.md describes the same layout for readers;
 * ricerca/recording/layout.py is its twin. Little-endian, every record naturally aligned. */
#ifndef RICERCA_LAYOUT_H
#define RICERCA_LAYOUT_H

#include <stdint.h>

#define RICERCA_MAGIC "RICERCA"
#define RICERCA_FORMAT 1u
#define RICERCA_ENDIAN 0x01020304u
#define HEADER_BYTES 4096u
#define DIRECTORY_OFFSET 1024u

enum { STATE_RECORDING = 1, STATE_CLOSED = 2 };

enum {
    FLAG_CONTEXTS_FULL = 1u << 0,
    FLAG_FUNCTIONS_FULL = 1u << 1,
    FLAG_STRINGS_FULL = 1u << 2,
    FLAG_DISK_FULL = 1u << 3,
    FLAG_LIMIT_REACHED = 1u << 4,
    FLAG_LINES = 1u << 5,
    FLAG_HOOK_TAKEN = 1u << 6,
    FLAG_THREADS_FULL = 1u << 7,
    FLAG_LINES_FULL = 1u << 8,
    FLAG_SLICES_FULL = 1u << 9,  /* of slices and spans only the first part of the run is there */
    FLAG_SPANS_FULL = 1u << 10,
    FLAG_PAUSED = 1u << 11,      /* part of the run was left out on the person's wish */
};

enum { CLOCK_TSC = 1, CLOCK_MONO = 2 };

enum { HOOK_PROFILE = 1, HOOK_MONITORING = 2, HOOK_PYTHON = 3 };

/* What the person wants of a recording that is under way; written by the runner. */
enum { CONTROL_GO = 0, CONTROL_PAUSE = 1, CONTROL_FINISH = 2 };

enum {
    KIND_PYTHON = 1,
    KIND_BUILTIN = 2,
    KIND_THREAD = 3,     /* the start of a thread */
    KIND_IMPORT = 4,     /* a module's import */
    KIND_COLLECTION = 5, /* garbage collection */
    KIND_REGION = 6,     /* named in the program's own code */
    KIND_CHILD = 7,      /* a program that was started: its command */
};

enum {
    TABLE_STRINGS,
    TABLE_FUNCTIONS,
    TABLE_THREADS,
    TABLE_LINES,
    TABLE_CONTEXTS,
    TABLE_SLICES,
    TABLE_SPANS,
    TABLE_COUNT
};

#define MOST_SLICES 512u
#define LIGHT_UNKNOWN 0xFFFFu

/* One row of the directory: where a table lies and how much of it is in use. */
typedef struct {
    char name[16];
    uint64_t offset_bytes;
    uint64_t record_bytes;
    uint64_t capacity;
    uint64_t count;
    uint64_t allocated_bytes;
    uint64_t spare;
} table_row;

/* How often the hook's own work was timed, and how long it took together. */
typedef struct {
    uint64_t times;
    uint64_t ticks;
} work_record;

typedef struct {
    char magic[8];
    uint32_t format;
    uint32_t endian;
    uint64_t file_bytes;
    uint32_t state;
    uint32_t flags;
    uint64_t start_ticks;
    uint64_t start_mono_ns;
    uint64_t last_ticks;
    uint64_t last_mono_ns;
    uint64_t start_unix_ns;
    double ns_per_tick;
    uint32_t pid;
    uint32_t python_hex;
    uint32_t clock;
    uint32_t table_count;
    uint64_t limit_bytes;
    uint64_t allocated_bytes;
    uint64_t end_mono_ns; /* written by the runner when the process is gone; 0 while unknown */
    /* Cost of the recorder in ns, measured just before the program starts: the part that falls
     * between the two clock readings of a call (inside) and the part that falls on its caller. */
    double python_inside_ns;
    double python_outside_ns;
    double callback_inside_ns; /* of Python code that is called from a builtin, as a sort key is */
    double callback_outside_ns;
    double builtin_inside_ns;
    double builtin_outside_ns;
    double line_ns;
    double bytecode_factor; /* how much slower bytecode itself runs while the hook is in */
    double names_factor;    /* the same for the bodies of modules, whose names live in a dictionary */
    uint32_t hook;
    uint32_t control;
    uint64_t slice_ticks;   /* length of a slice; slice n begins at start_ticks + n * slice_ticks */
    uint64_t span_ticks;    /* calls at least this long are in the table of spans */
    double lookup_factor;   /* as bytecode_factor, for a loop full of look-ups of attributes and names */
    double lookup_share;    /* per mille of them in that loop; 0 where look-ups do not matter */
    /* The hook's own work at an entry, timed now and then: what it took during calibration, and what it
     * took in the program itself. The two tell how fast the machine was there. */
    double python_work_ns;
    double builtin_work_ns;
    work_record python_watched;
    work_record builtin_watched;
} header;

typedef struct {
    uint32_t kind;
    uint32_t first_line;
    uint32_t name_offset, name_bytes;     /* qualified name */
    uint32_t module_offset, module_bytes;
    uint32_t file_offset, file_bytes;
    uint32_t code_flags;                  /* generator, coroutine, … as the interpreter flags them */
    uint32_t chosen;                      /* 1 where a line run follows its lines */
    uint64_t overflow_calls;              /* calls that found no room for a context of their own */
    uint64_t overflow_resumes;
    uint16_t lookups;                     /* per mille of the instructions in its loops that look names up */
    uint16_t light;                       /* per mille of its long gaps that is bytecode; LIGHT_UNKNOWN */
    uint32_t spare;
} function_record;

/* One cache line. A context's parent always has the smaller index. */
typedef struct {
    uint32_t parent;
    uint32_t function;
    uint32_t line;    /* call site: the line in the caller, 0 where there is none; a root's thread */
    uint32_t slice_row; /* its latest row in the table of slices */
    uint64_t calls;
    uint64_t resumes;
    uint64_t self_ticks;
    uint64_t waiting_ticks;
    uint32_t thread;
    uint32_t hint;    /* the child found last; of use to the recorder only */
    uint64_t long_ticks; /* the part of self_ticks that came in gaps of more than a few µs */
} context_record;

typedef struct {
    uint64_t native_id;
    uint32_t root;
    uint32_t top;          /* the context that is running now */
    uint32_t name_offset, name_bytes;
    uint32_t ended;
    uint32_t depth;
    uint64_t start_ticks;
    uint64_t last_ticks;   /* the last event: what came after it is not booked yet */
    uint64_t ident;
    uint64_t spare;
} thread_record;

typedef struct {
    uint32_t function;
    uint32_t line;
    uint64_t hits;
    uint64_t self_ticks;
    uint64_t waiting_ticks;
} line_record;

/* What a context had counted when it was first touched in a slice. The difference to its next row, or to
 * its final figures, is what happened in the slice. */
typedef struct {
    uint32_t context;
    uint32_t slice;
    uint64_t calls;
    uint64_t self_ticks;
    uint64_t waiting_ticks;
} slice_record;

/* One call that took long. */
typedef struct {
    uint32_t context;
    uint32_t thread;
    uint64_t start_ticks;
    uint64_t end_ticks;
} span_record;

#endif
