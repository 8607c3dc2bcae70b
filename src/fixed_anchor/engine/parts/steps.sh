# --- the steps of a change, and commands with a time limit ----------------------------
failed='its state could not be recorded'
step_limit=60 start_limit=15 final_tries=10 boot_tries=10 gateway_limit=60
# run_step FILE: one command with a time limit, its output in the log.
run_step() {
    step=$1 input=$dir/input/${1#"$dir/steps/"}
    [ -f "$input" ] || input=/dev/null
    set --
    while IFS= read -r arg || [ -n "$arg" ]; do set -- "$@" "$arg"; done <"$step"
    said_step=$*
    log "step: $said_step"
    begun=$(uptime_now) output=$dir/log
    # Not `:`, whose failed redirection would end the shell.
    { true >>"$output"; } 2>/dev/null || output=/dev/null
    "$@" <"$input" >>"$output" 2>&1 &
    running=$!
    (
        sleep "$step_limit" &
        sleeping=$!
        trap 'kill "$sleeping" 2>/dev/null; exit 0' TERM
        wait "$sleeping" && { kill "$running"; sleep 2; kill -9 "$running"; } 2>/dev/null
    ) </dev/null >/dev/null 2>&1 &
    watching=$!
    wait "$running"
    result=$?
    kill "$watching" 2>/dev/null
    log "step ended: status $result after $(($(uptime_now) - begun)) s"
    [ "$result" = 0 ] || failed="a command ended with status $result: $said_step"
    return "$result"
}
# run_steps PHASE [any]: all steps of a phase in order; with `any`, failures are logged and passed over.
run_steps() {
    for file in "$dir/steps/$1"/*; do
        [ ! -f "$file" ] || run_step "$file" || [ "${2-}" = any ] || return 1
    done
}
# limited SECONDS COMMAND...: fails where the command has not ended by then; a dead network mount may hold it for ever.
limited() {
    limit=$1
    shift
    "$@" </dev/null >/dev/null 2>&1 &
    limited_pid=$!
    until=$(($(uptime_now) + limit))
    while kill -0 "$limited_pid" 2>/dev/null; do
        [ "$(uptime_now)" -lt "$until" ] || { kill -9 "$limited_pid" 2>/dev/null; return 1; }
        pause
    done
    wait "$limited_pid"
}

