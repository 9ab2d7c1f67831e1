/* Whether the interpreter's frames are laid out as frames.h has them. */
#include "frames.h"

#if PY_VERSION_HEX >= 0x030B0000

int frames_direct;

static int caller_lies_as_known(PyFrameObject *object, const void *frame)
{
    PyFrameObject *back = PyFrame_GetBack(object);
    frames_direct = 1; /* as if */
    const void *caller = caller_of(frame);
    frames_direct = 0;
#if PY_VERSION_HEX >= 0x030C0000
    PyCodeObject *wanted = back == NULL ? NULL : PyFrame_GetCode(back);
    int known = caller == NULL ? back == NULL : wanted == frame_words(caller)[FRAME_CODE];
    Py_XDECREF(wanted);
#else
    int known = caller == back;
#endif
    Py_XDECREF(back);
    return known;
}

/* Asks about the frame that runs now, which must be that of Python code called by Python code. */
void frames_check(void)
{
    frames_direct = 0;
    PyFrameObject *object = PyThreadState_GetFrame(PyThreadState_Get());
    if (object == NULL) {
        return;
    }
#if PY_VERSION_HEX >= 0x030C0000
    const void *frame = running_frame();
#else
    const void *frame = object;
#endif
    PyCodeObject *code = frame_code(frame);
    const void *const *words = frame_words(frame);
    frames_direct = words != NULL && words[FRAME_CODE] == code && frame_offset_direct(frame, code) == frame_offset(frame, code)
        && caller_lies_as_known(object, frame);
    Py_DECREF(code);
    Py_DECREF(object);
}

#else

void frames_check(void) {}

#endif
