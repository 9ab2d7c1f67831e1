/* Whether the interpreter's frames are laid out as frames.h has them. */
#include "frames.h"

#if PY_VERSION_HEX >= 0x030B0000

int frames_direct;

/* Asks about the frame that runs now, which must be that of Python code. */
void frames_check(void)
{
    frames_direct = 0;
#if PY_VERSION_HEX >= 0x030C0000
    const void *frame = running_frame();
#else
    PyFrameObject *frame = PyThreadState_GetFrame(PyThreadState_Get());
#endif
    if (frame == NULL) {
        return;
    }
    PyCodeObject *code = frame_code(frame);
    const void *const *words = frame_words(frame);
    frames_direct = words != NULL && words[FRAME_CODE] == code && frame_offset_direct(frame, code) == frame_offset(frame, code);
    Py_DECREF(code);
#if PY_VERSION_HEX < 0x030C0000
    Py_DECREF(frame);
#endif
}

#else

void frames_check(void) {}

#endif
