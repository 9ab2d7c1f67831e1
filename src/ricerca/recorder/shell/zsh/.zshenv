# Read by every zsh that starts while a program is recorded (ZDOTDIR), before its script. Puts a trap in that writes each command to a file of
# its own before it runs, and gives the person's own start-up files their turn. No option is changed, no process is started.
if [[ -n ${RICERCA_RECORDING-} ]] && zmodload zsh/datetime zsh/system zsh/parameter 2>/dev/null &&
    { exec {__ricerca_fd}>>"$RICERCA_RECORDING.$$.zsh" } 2>/dev/null; then
    print -r -u $__ricerca_fd -- $'#ricerca zsh 1\x1e'"$EPOCHREALTIME"$'\x1e'"$$"$'\x1e'"$PPID"$'\x1e'"$ZSH_VERSION"$'\x1e'"$PWD"$'\x1e'"$0"
    # Each call of a function has a variable of its own that says how deep it is: a call that finds its caller's has just begun.
    trap '{ __ricerca_status=$? __ricerca_new=0
        if (( ${#funcstack} > ${__ricerca_depth:-0} )); then __ricerca_new=1; fi
        if (( ${#funcstack} != ${__ricerca_depth:-0} )); then local __ricerca_depth=${#funcstack}; fi
        print -r -u $__ricerca_fd -- D$__ricerca_new$'\''\x1e'\''$EPOCHREALTIME$'\''\x1f'\''$$$'\''\x1f'\''$sysparams[pid]$'\''\x1f'\''$ZSH_SUBSHELL$'\''\x1f'\''$__ricerca_status$'\''\x1f'\''$(( ${${funcsourcetrace[1]:-:0}##*:} + ${(%):-%i} ))$'\''\x1f'\''${#funcstack}$'\''\x1f'\''${funcstack[1]-}$'\''\x1f'\''${(%):-%x}$'\''\x1f'\''$ZSH_DEBUG_CMD
        } 2>/dev/null' DEBUG
fi
if [[ -o interactive ]]; then
    if [[ -n ${RICERCA_ZDOTDIR-} ]]; then ZDOTDIR=$RICERCA_ZDOTDIR; else unset ZDOTDIR; fi
fi
if [[ -r ${RICERCA_ZDOTDIR:-$HOME}/.zshenv ]]; then
    . "${RICERCA_ZDOTDIR:-$HOME}/.zshenv"
fi
