/* What the recorder has to look out for in a code object, told from its names and instructions. */
#include "traits.h"

#include "stack.h"

#include <string.h>

static int ends_with(PyObject *text, const char *end)
{
    Py_ssize_t count;
    const char *bytes = PyUnicode_AsUTF8AndSize(text, &count);
    if (bytes == NULL) {
        PyErr_Clear();
        return 0;
    }
    size_t length = strlen(end);
    return (size_t)count >= length && memcmp(bytes + count - length, end, length) == 0;
}

#if PY_VERSION_HEX >= 0x030B0000 && PY_VERSION_HEX < 0x030C0000
/* Instructions of 3.11, whose look-ups lose most while a hook is in. */
enum { OP_FOR_ITER = 93, OP_CALL = 171, OP_CALL_EX = 142, OP_EXTENDED = 144, OP_CACHE = 0, OP_JUMP_BACK = 140 };
enum { CALL_WEIGHT = 10 };

static int is_jump_back(uint8_t op) { return op == OP_JUMP_BACK || op == 134 || (op >= 173 && op <= 176); }

/* How many ordinary instructions one takes as long as. */
static uint32_t weight_of(uint8_t op)
{
    return op == OP_CACHE ? 0 : op == OP_CALL || op == OP_CALL_EX ? CALL_WEIGHT : 1;
}

static int is_lookup(uint8_t op)
{
    switch (op) { /* attributes, globals, methods, subscripts, names */
    case 106: case 95: case 116: case 160: case 25: case 60:
        return 1;
    default:
        return 0;
    }
}

/* Whether there is a loop without calls; and how many of the instructions in loops, else of all, look up. */
static int look_at_loops(PyCodeObject *code, uint16_t *lookups)
{
    PyObject *bytes = PyCode_GetCode(code);
    if (bytes == NULL) {
        PyErr_Clear();
        return 0;
    }
    const uint8_t *ops = (const uint8_t *)PyBytes_AS_STRING(bytes);
    Py_ssize_t units = PyBytes_GET_SIZE(bytes) / 2;
    uint32_t extended = 0, all[2] = {0, 0}, in_loops[2] = {0, 0};
    int bare = 0;
    for (Py_ssize_t i = 0; i < units; i++) {
        uint8_t op = ops[2 * i];
        uint32_t argument = extended << 8 | ops[2 * i + 1];
        extended = op == OP_EXTENDED ? argument : 0;
        all[0] += weight_of(op);
        all[1] += (uint32_t)is_lookup(op);
        if (!is_jump_back(op) || (Py_ssize_t)argument > i + 1) {
            continue;
        }
        int calls = 0;
        for (Py_ssize_t k = i + 1 - (Py_ssize_t)argument; k < i; k++) {
            uint8_t inner = ops[2 * k];
            calls |= inner == OP_CALL || inner == OP_CALL_EX;
            in_loops[0] += weight_of(inner);
            in_loops[1] += (uint32_t)is_lookup(inner);
        }
        bare |= !calls;
    }
    Py_DECREF(bytes);
    const uint32_t *counted = in_loops[0] > 0 ? in_loops : all;
    *lookups = counted[0] > 0 ? (uint16_t)(counted[1] * 1000u / counted[0]) : 0;
    return bare;
}
#else
static int look_at_loops(PyCodeObject *code, uint16_t *lookups)
{
    (void)code;
    *lookups = 0;
    return 0;
}
#endif

uint32_t traits_of(PyCodeObject *code, uint16_t *lookups)
{
    uint32_t traits = look_at_loops(code, lookups) ? TRAIT_BARE_LOOP : 0;
    if (code->co_flags & (CO_GENERATOR | CO_COROUTINE | CO_ASYNC_GENERATOR)) {
        traits |= TRAIT_RESUMABLE;
    }
    if (ends_with(code->co_filename, "importlib._bootstrap>") && ends_with(code->co_name, "_find_and_load")) {
        traits |= TRAIT_IMPORT;
    }
    if (ends_with(code->co_filename, "/subprocess.py") && code->co_argcount > 0) {
        PyObject *names = PyObject_GetAttrString((PyObject *)code, "co_varnames");
        if (names != NULL && PyUnicode_CompareWithASCIIString(PyTuple_GET_ITEM(names, 0), "self") == 0) {
            traits |= ends_with(code->co_name, "_execute_child") ? TRAIT_SPAWN | TRAIT_CHILD : TRAIT_CHILD;
        }
        Py_XDECREF(names);
        PyErr_Clear();
    }
    return traits;
}

double traits_lookup_share(PyObject *function)
{
    uint16_t lookups = 0;
    PyObject *code = PyObject_GetAttrString(function, "__code__");
    if (code != NULL && PyCode_Check(code)) {
        look_at_loops((PyCodeObject *)code, &lookups);
    }
    PyErr_Clear();
    Py_XDECREF(code);
    return lookups;
}
