/* What differs between interpreters about running frames and code objects. A frame here is what tells
 * an activation apart: the frame object up to 3.11, the interpreter's own frame from 3.12 on. */
#ifndef RICERCA_FRAMES_H
#define RICERCA_FRAMES_H

#define PY_SSIZE_T_CLEAN
#include <Python.h>
#include <frameobject.h>

#if PY_VERSION_HEX >= 0x030C0000
#define code_get_extra PyUnstable_Code_GetExtra
#define code_set_extra PyUnstable_Code_SetExtra
#define code_request_extra PyUnstable_Eval_RequestCodeExtraIndex
#else
#define code_get_extra _PyCode_GetExtra
#define code_set_extra _PyCode_SetExtra
#define code_request_extra _PyEval_RequestCodeExtraIndex
#endif

/* How all these interpreters keep what is attached to a code object; checked before it is relied on. */
typedef struct {
    Py_ssize_t count;
    void *values[1];
} code_extras;

#if PY_VERSION_HEX >= 0x030B0000
/* Words of the interpreter's own frame, which it shows us by a call for each; also checked first. */
#if PY_VERSION_HEX >= 0x030C0000
enum { FRAME_CODE = 0, FRAME_PREVIOUS = 1, FRAME_INSTRUCTION = 7 };
enum { FRAME_OWNER_BYTE = 70, OWNER_C_STACK = 3 }; /* such a frame is none of the program's */
#else
enum { FRAME_CODE = 4, FRAME_OBJECT = 5, FRAME_PREVIOUS = 6, FRAME_INSTRUCTION = 7, OBJECT_FRAME = 3 };
#endif
extern int frames_direct; /* whether these words are known to be where we look for them */

static inline const void *const *frame_words(const void *frame)
{
#if PY_VERSION_HEX < 0x030C0000
    return ((const void *const *const *)frame)[OBJECT_FRAME];
#else
    return frame;
#endif
}

static inline int frame_offset_direct(const void *frame, const PyCodeObject *code)
{
    return (int)((const char *)frame_words(frame)[FRAME_INSTRUCTION] - (const char *)code->co_code_adaptive);
}
#endif

/* The frame that called a running one, NULL where nothing did: at the bottom of a stack of frames. Frames that were
 * there before the hook may be left out. */
static inline const void *caller_of(const void *frame)
{
#if PY_VERSION_HEX >= 0x030C0000
    const void *previous = frame_words(frame)[FRAME_PREVIOUS];
    while (__builtin_expect(previous != NULL && ((const uint8_t *)previous)[FRAME_OWNER_BYTE] == OWNER_C_STACK, 0)) {
        previous = frame_words(previous)[FRAME_PREVIOUS];
    }
    return previous;
#elif PY_VERSION_HEX >= 0x030B0000
    if (__builtin_expect(!frames_direct, 0)) {
        PyFrameObject *back = PyFrame_GetBack((PyFrameObject *)frame);
        Py_XDECREF(back); /* it goes on running */
        return back;
    }
    const void *const *words = frame_words(frame)[FRAME_PREVIOUS];
    while (__builtin_expect(words != NULL && words[FRAME_OBJECT] == NULL, 0)) {
        words = words[FRAME_PREVIOUS];
    }
    return words == NULL ? NULL : words[FRAME_OBJECT];
#else
    return ((const PyFrameObject *)frame)->f_back;
#endif
}

/* The running instruction of a frame of this code as a byte offset, below 0 before the first. */
static inline int frame_offset(const void *frame, const void *code)
{
#if PY_VERSION_HEX >= 0x030B0000
    if (__builtin_expect(frames_direct, 1)) {
        return frame_offset_direct(frame, code);
    }
#else
    (void)code;
#endif
#if PY_VERSION_HEX >= 0x030C0000
    return PyUnstable_InterpreterFrame_GetLasti((struct _PyInterpreterFrame *)frame);
#elif PY_VERSION_HEX >= 0x030B0000
    return PyFrame_GetLasti((PyFrameObject *)frame);
#elif PY_VERSION_HEX >= 0x030A0000
    return ((PyFrameObject *)frame)->f_lasti * 2;
#else
    return ((PyFrameObject *)frame)->f_lasti;
#endif
}

/* A new reference. */
static inline PyCodeObject *frame_code(const void *frame)
{
#if PY_VERSION_HEX >= 0x030C0000
    return (PyCodeObject *)PyUnstable_InterpreterFrame_GetCode((struct _PyInterpreterFrame *)frame);
#else
    return PyFrame_GetCode((PyFrameObject *)frame);
#endif
}

/* The code of a frame that goes on running: a borrowed reference. */
static inline PyCodeObject *code_of_running(const void *frame)
{
#if PY_VERSION_HEX >= 0x030B0000
    if (__builtin_expect(frames_direct, 1)) {
        return (PyCodeObject *)frame_words(frame)[FRAME_CODE];
    }
#endif
    PyCodeObject *code = frame_code(frame);
    Py_DECREF(code);
    return code;
}

#if PY_VERSION_HEX >= 0x030C0000
static inline const void *running_frame(void)
{
    PyThreadState *thread = PyThreadState_Get();
#if PY_VERSION_HEX >= 0x030D0000
    return thread->current_frame;
#else
    return thread->cframe->current_frame;
#endif
}
#endif

/* The frame of the Python code that runs on this thread, NULL where there is none. */
static inline const void *frame_running_now(void)
{
#if PY_VERSION_HEX >= 0x030C0000
    const void *frame = running_frame();
    return frame != NULL && ((const uint8_t *)frame)[FRAME_OWNER_BYTE] == OWNER_C_STACK ? caller_of(frame) : frame;
#else
    return PyEval_GetFrame();
#endif
}

/* Finds out what may be had directly; to be called once, from Python code. */
void frames_check(void);

/* The offset at which a fresh body begins. */
static inline int first_offset_of(PyCodeObject *code)
{
#if PY_VERSION_HEX >= 0x030B0000
    return code->_co_firsttraceable * 2;
#else
    (void)code;
    return -1;
#endif
}

/* Instructions are two bytes long on all versions. */
static inline uint32_t unit_count_of(PyCodeObject *code)
{
#if PY_VERSION_HEX >= 0x030B0000
    return (uint32_t)Py_SIZE(code);
#else
    return (uint32_t)(PyBytes_GET_SIZE(code->co_code) / 2);
#endif
}

#endif
