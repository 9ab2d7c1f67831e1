/* The recording file: made from model/format.toml by make layout. Little-endian, naturally aligned. */
#ifndef RICERCA_LAYOUT_H
#define RICERCA_LAYOUT_H

#include <stdint.h>

#define RICERCA_MAGIC "RICERCA"
#define RICERCA_FORMAT 1u
#define RICERCA_ENDIAN 0x01020304u
#define HEADER_BYTES 4096u
#define DIRECTORY_OFFSET 1024u
#define MOST_SLICES 512u
#define LIGHT_UNKNOWN 65535u

enum {
    STATE_RECORDING = 1,
    STATE_CLOSED = 2,
};

enum {
    FLAG_CONTEXTS_FULL = 1u << 0, /* contexts full: deeper calls are counted by function only */
    FLAG_FUNCTIONS_FULL = 1u << 1, /* functions full */
    FLAG_STRINGS_FULL = 1u << 2, /* strings full */
    FLAG_DISK_FULL = 1u << 3, /* the disk was full */
    FLAG_LIMIT_REACHED = 1u << 4, /* the size limit was reached */
    FLAG_LINES = 1u << 5, /* lines were followed */
    FLAG_HOOK_TAKEN = 1u << 6, /* the program put a profile hook of its own in */
    FLAG_THREADS_FULL = 1u << 7, /* threads full */
    FLAG_LINES_FULL = 1u << 8, /* lines full */
    FLAG_SLICES_FULL = 1u << 9, /* slices full: only the first part of the run is known by time */
    FLAG_SPANS_FULL = 1u << 10, /* spans full */
    FLAG_PAUSED = 1u << 11, /* part of the run was left out by a pause */
    FLAG_MEMORY_FULL = 1u << 12, /* the system gave no memory for a larger table */
    FLAG_FINISHED = 1u << 13, /* the recording was ended while the program ran on */
    FLAG_PUBLIC_ONLY = 1u << 14, /* an interpreter newer than the tested ones: public interfaces alone */
    FLAG_TIMED_ONLY = 1u << 15, /* only calls of chosen functions were timed, nothing else was watched */
};

enum {
    CLOCK_TSC = 1,
    CLOCK_MONO = 2,
};

enum {
    HOOK_PROFILE = 1,
    HOOK_MONITORING = 2,
    HOOK_PYTHON = 3,
    HOOK_COMPILED = 4,
};

enum {
    CONTROL_GO = 0,
    CONTROL_PAUSE = 1,
    CONTROL_FINISH = 2,
};

enum {
    KIND_PYTHON = 1, /* Python function */
    KIND_BUILTIN = 2, /* builtin */
    KIND_THREAD = 3, /* start of a thread */
    KIND_IMPORT = 4, /* import */
    KIND_COLLECTION = 5, /* garbage collection */
    KIND_REGION = 6, /* region named by the program */
    KIND_CHILD = 7, /* another program */
    KIND_SITE = 8, /* place in compiled code that a call is made from; no function */
    KIND_ABOVE = 9, /* context of the interpreter's own recording that called compiled code; no function */
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

/* How often the hook's own work was timed, and ticks it took together. */
typedef struct {
    uint64_t times;
    uint64_t ticks;
} work_record;

/* The first page of the file. */
typedef struct {
    char magic[8]; /* RICERCA\0, written last, when the tables are laid out */
    uint32_t format; /* 1 */
    uint32_t endian; /* 0x01020304 */
    uint64_t file_bytes; /* length of the file */
    uint32_t state; /* 1 being recorded, 2 closed */
    uint32_t flags; /* see below */
    uint64_t start_ticks; /* clock when the program began */
    uint64_t start_mono_ns; /* monotonic clock at the same moment */
    uint64_t last_ticks; /* a later moment, renewed now and then; with the next field it gives the length of a tick */
    uint64_t last_mono_ns; /* monotonic clock at that moment */
    uint64_t start_unix_ns; /* date and time of the start */
    double ns_per_tick; /* first estimate */
    uint32_t pid; /* process */
    uint32_t python_hex; /* version of the interpreter */
    uint32_t clock; /* 1 processor ticks, 2 monotonic clock */
    uint32_t table_count; /* rows of the directory */
    uint64_t limit_bytes; /* largest size allowed */
    uint64_t allocated_bytes; /* room taken on disk so far */
    uint64_t end_mono_ns; /* written by the runner when the process is gone, 0 before */
    double python_inside_ns; /* cost of recording a call of a Python function, the part booked on itself */
    double python_outside_ns; /* the part booked on its caller */
    double callback_inside_ns; /* the same where a builtin calls it */
    double callback_outside_ns; /* the same where a builtin calls it, booked on the builtin */
    double builtin_inside_ns; /* cost of recording a call of a builtin, the part booked on itself */
    double builtin_outside_ns; /* the part booked on its caller */
    double line_ns; /* cost of a line event, 0 where not measured */
    double bytecode_factor; /* how much slower bytecode of functions runs while it is recorded */
    double names_factor; /* the same for the bodies of modules, whose names live in a dictionary */
    uint32_t hook; /* 1 profile hook, 2 monitoring interface, 3 the recorder in Python, 4 calls in compiled code */
    uint32_t control; /* written by the runner: 0 go on, 1 pause, 2 finish */
    uint64_t slice_ticks; /* length of a slice; slice n begins at start_ticks + n · slice_ticks */
    uint64_t span_ticks; /* calls at least this long have a span */
    double lookup_factor; /* as bytecode_factor, for a loop full of look-ups of attributes and names */
    double lookup_share; /* per mille of look-ups in that loop; 0 where they do not matter */
    double python_work_ns; /* the hook's own work at an entry during calibration */
    double builtin_work_ns; /* the same for builtins */
    work_record python_watched; /* how often that work was timed in the program, and ticks it took together */
    work_record builtin_watched; /* the same for builtins */
    uint32_t unseen_threads; /* threads that ran Python code and could not be followed */
    uint32_t unseen_interpreters; /* subinterpreters that were made and are not followed */
    uint32_t taken_hooks; /* how often the program put a profile hook of its own in the place of ours */
    uint32_t strange_stacks; /* how often a stack did not fit what ran, and began anew */
    double unwatched_call_ns; /* what a call of a Python function costs that is not timed where only chosen ones are */
    double unwatched_deep_ns; /* the same in a recursion of 300 levels */
    uint32_t deep_calls; /* how often calls were left untimed because they lay too deep on the stack of their thread */
    uint32_t parent_pid; /* process that started this one as another program; 0 in a forked child, whose tables begin with its parent's */
    uint64_t setup_ns; /* what it took to begin recording, calibration included */
    double unwatched_resume_ns; /* as unwatched_call_ns, where a body goes on or compiled code calls */
} header;

typedef struct {
    uint32_t kind;
    uint32_t first_line;
    uint32_t name_offset; /* qualified name */
    uint32_t name_bytes;
    uint32_t module_offset;
    uint32_t module_bytes;
    uint32_t file_offset;
    uint32_t file_bytes;
    uint32_t code_flags; /* generator, coroutine, … as the interpreter flags them */
    uint32_t chosen; /* 1 where a line run follows its lines */
    uint64_t overflow_calls; /* calls that found no room for a context of their own; their time is on the context they were called from */
    uint64_t overflow_resumes;
    uint16_t lookups; /* per mille of the instructions in its loops that look names up */
    uint16_t light; /* per mille of its long gaps that is bytecode; 65535: nobody looked */
    uint32_t nesting; /* before 3.11: how many functions of this name lie inside each other on this line within it */
} function_record;

_Static_assert(sizeof(function_record) == 64, "a record has gaps");

typedef struct {
    uint64_t native_id;
    uint32_t root;
    uint32_t top; /* the context that is running now */
    uint32_t name_offset;
    uint32_t name_bytes;
    uint32_t ended;
    uint32_t depth;
    uint64_t start_ticks;
    uint64_t last_ticks; /* the last event: what came after it is not booked yet */
    uint64_t ident;
    uint64_t spare;
} thread_record;

_Static_assert(sizeof(thread_record) == 64, "a record has gaps");

typedef struct {
    uint32_t function;
    uint32_t line;
    uint64_t hits;
    uint64_t self_ticks;
    uint64_t waiting_ticks;
} line_record;

_Static_assert(sizeof(line_record) == 32, "a record has gaps");

typedef struct {
    uint32_t parent; /* always the smaller index */
    uint32_t function;
    uint32_t line; /* call site: the line in the caller, 0 where there is none; of a thread's root its thread */
    uint32_t slice_row; /* its latest row in slices */
    uint64_t calls;
    uint64_t resumes;
    uint64_t self_ticks;
    uint64_t waiting_ticks;
    uint32_t thread;
    uint32_t hint; /* the child found last; of use to the recorder only */
    uint64_t long_ticks; /* the part of self_ticks from gaps of 4 µs and more between two events */
} context_record;

_Static_assert(sizeof(context_record) == 64, "a record has gaps");

/* What a context had counted when it was first touched in a slice; the difference to its next row, or to its final figures, is what happened in the slice */
typedef struct {
    uint32_t context;
    uint32_t slice;
    uint64_t calls;
    uint64_t self_ticks;
    uint64_t waiting_ticks;
} slice_record;

_Static_assert(sizeof(slice_record) == 32, "a record has gaps");

/* One call that took long */
typedef struct {
    uint32_t context;
    uint32_t thread;
    uint64_t start_ticks;
    uint64_t end_ticks;
} span_record;

_Static_assert(sizeof(span_record) == 24, "a record has gaps");

_Static_assert(sizeof(header) == 336, "the header has gaps");
_Static_assert(sizeof(header) <= DIRECTORY_OFFSET, "the header runs into the directory");

#endif
