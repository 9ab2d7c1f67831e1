# Read by every bash that starts while a program is recorded (BASH_ENV), before its script. Turns tracing on, to a file of its own, and
# gives the person's own start-up file its turn. Nothing here may fail the script or be seen by it; no process is started.
if [ -n "${RICERCA_BASH_ENV-}" ]; then
    . "$RICERCA_BASH_ENV"
fi
if [ -n "${RICERCA_RECORDING-}" ] && [ "${BASH_VERSINFO[0]}" -ge 5 ] && [[ $- != *x* ]] && [ -z "${BASH_XTRACEFD-}" ]; then
    # a number so high that no script has it, or the highest that a small limit allows
    __ricerca=
    if { exec 987>>"$RICERCA_RECORDING.$$.bash"; } 2>/dev/null; then
        __ricerca=987
    elif { exec 201>>"$RICERCA_RECORDING.$$.bash"; } 2>/dev/null; then
        __ricerca=201
    fi
    if [ -n "$__ricerca" ]; then
        printf '#ricerca bash 1\036%s\036%s\036%s\036%s\036%s\036%s\n' \
            "$EPOCHREALTIME" "$$" "$PPID" "$BASH_VERSION" "$PWD" "$0" >&"$__ricerca"
        # A script that traces itself, or asks which options are set, would notice tracing: a trap does the same there, three times as slow.
        __ricerca_text=()
        { mapfile -d '' -n 1 __ricerca_text <"$0"; } 2>/dev/null
        __ricerca_text="${__ricerca_text[0]-}${BASH_EXECUTION_STRING-}"
        __ricerca_own=
        if [[ $__ricerca_text == *set\ [-+]*([a-zA-Z])x* || $__ricerca_text == *xtrace* || $__ricerca_text == *\$-* \
            || $__ricerca_text == *\$\{-* || $__ricerca_text == *PS4* || $__ricerca_text == *XTRACEFD* ]]; then
            __ricerca_own=1
        fi
        if [ -n "$__ricerca_own" ]; then
            trap '{ __ricerca_last=$_; printf "D\036%s\037%s\037%s\037%s\037%s\037%s\037%s\037%s\037%s\037%s\n" "$EPOCHREALTIME" "$$" "$BASHPID" "$BASH_SUBSHELL" "$?" "$LINENO" "${#BASH_SOURCE[@]}" "${FUNCNAME-}" "${BASH_SOURCE-}" "$BASH_COMMAND" >&'"$__ricerca"'; if [[ $BASH_COMMAND == *\$-* || $BASH_COMMAND == *\$\{-* ]]; then set +T; else set -T; fi; : "$__ricerca_last"; } 2>/dev/null' DEBUG
            unset __ricerca __ricerca_text __ricerca_own
            set -T
        else
            BASH_XTRACEFD=$__ricerca
            unset __ricerca __ricerca_text __ricerca_own
            PS4=$'+\036$EPOCHREALTIME\037$$\037$BASHPID\037$BASH_SUBSHELL\037$?\037$LINENO\037${#BASH_SOURCE[@]}\037${FUNCNAME-}\037${BASH_SOURCE-}\037'
            set -x
        fi
    fi
fi
# An interactive shell reads this file in the place of the person's own, which follows here.
if [[ $- == *i* ]] && [ -r ~/.bashrc ]; then
    . ~/.bashrc
fi
