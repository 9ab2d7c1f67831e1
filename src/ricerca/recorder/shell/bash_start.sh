# Read by every bash that starts while a program is recorded (BASH_ENV), before its script. Turns tracing on, to a file of its own, and
# gives the person's own start-up file its turn. Nothing here may fail the script or be seen by it; no process is started.
if [ -n "${RICERCA_BASH_ENV-}" ]; then
    . "$RICERCA_BASH_ENV"
fi
if [ -n "${RICERCA_RECORDING-}" ] && [ "${BASH_VERSINFO[0]}" -ge 5 ] && [[ $- != *x* ]] && [ -z "${BASH_XTRACEFD-}" ]; then
    # a number so high that no script has it, or the highest that a small limit allows
    if { exec 987>>"$RICERCA_RECORDING.$$.bash"; } 2>/dev/null; then
        BASH_XTRACEFD=987
    elif { exec 201>>"$RICERCA_RECORDING.$$.bash"; } 2>/dev/null; then
        BASH_XTRACEFD=201
    fi
    if [ -n "${BASH_XTRACEFD-}" ]; then
        printf '#ricerca bash 1\036%s\036%s\036%s\036%s\036%s\036%s\n' \
            "$EPOCHREALTIME" "$$" "$PPID" "$BASH_VERSION" "$PWD" "$0" >&"$BASH_XTRACEFD"
        PS4=$'+\036$EPOCHREALTIME\037$$\037$BASHPID\037$BASH_SUBSHELL\037$?\037$LINENO\037${#BASH_SOURCE[@]}\037${FUNCNAME-}\037${BASH_SOURCE-}\037'
        set -x
    fi
fi
