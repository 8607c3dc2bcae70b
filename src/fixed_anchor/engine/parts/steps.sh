# --- the steps of a change, and commands with a time limit ----------------------------
failed='its state could not be recorded' failed_back=
step_limit=60 start_limit=15 final_tries=10 boot_tries=10 gateway_limit=60 said_limit=65536 question_limit=10
# run_step FILE: one command with a time limit, its output in the log.
run_step() {
    step=$1 input=$dir/input/${1#"$dir/steps/"}
    [ -f "$input" ] || input=/dev/null
    set --
    while IFS= read -r arg || [ -n "$arg" ]; do set -- "$@" "$arg"; done <"$step"
    said_step=$*
    log "step: $said_step"
    begun=$(uptime_now) output=$dir/log
    { from=$(wc -c <"$dir/log"); } 2>/dev/null || from=0 # no log on a disk that takes nothing
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
    took=$(($(uptime_now) - begun))
    words=$([ "$result" = 0 ] || last_words "$from")
    shorten "$from"
    log "step ended: status $result after $took s${words:+; it said: $words}"
    [ "$result" != 0 ] || return 0
    failed="a command ended with status $result"
    case $result in 137 | 143) [ "$took" -lt "$step_limit" ] || failed="a command did not end within $step_limit s" ;; esac
    failed="$failed: $said_step${words:+; it said: $words}"
    return 1
}
# shorten FROM: of much that a command said the log keeps the beginning and the end, of what it has behind that byte.
shorten() {
    { all=$(($(wc -c <"$dir/log") - $1)); } 2>/dev/null && [ "$all" -gt "$said_limit" ] || return 0
    if {
        head -c "$(($1 + said_limit / 4))" "$dir/log"
        printf '\n[of %s bytes that it said the middle is left out]\n' "$all"
        tail -c "$((said_limit / 4))" "$dir/log"
    } >"$dir/log.short" 2>/dev/null; then mv -f "$dir/log.short" "$dir/log"; else rm -f "$dir/log.short"; fi
}
# last_words FROM: what a command said last, of what the log has behind that byte: two lines at most, of those with a
# letter in them, without control characters.
last_words() {
    escape=$(printf '\033')
    tail -c "+$(($1 + 1))" "$dir/log" 2>/dev/null | tail -c 4096 | tr '\r' '\n' | sed "s/$escape\[[0-9;?]*[A-Za-z]//g" |
        tr -d '\000-\010\013-\037\177' | sed -n '/[[:alpha:]]/{s/^[[:space:]]*//;s/[[:space:]]*$//;p;}' | tail -n 2 | cut -c1-300 |
        { all=; while IFS= read -r line; do all=${all:+$all; }$line; done; printf '%s' "$all"; }
}
# run_steps PHASE [any]: all steps of a phase in order; with `any`, failures are logged and passed over.
run_steps() {
    for file in "$dir/steps/$1"/*; do
        [ ! -f "$file" ] || run_step "$file" || { [ "${2-}" = any ] && failed_back=$failed; } || return 1
    done
}
# Where timeout(1) is missing, or an old one that takes other options, a question takes as long as it takes.
if timeout -s KILL 9 true 2>/dev/null; then timed=yes; else timed=no; fi
# asked COMMAND...: what a question of the kernel says; of one that hangs nothing, once it was asked a second time.
asked() {
    [ "$timed" = yes ] || { "$@" 2>/dev/null; return; }
    for try in 1 2; do
        timeout -s KILL "$question_limit" "$@" 2>/dev/null
        answered=$?
        case $answered in 124 | 137) log "no answer within $question_limit s (try $try of 2): $*" ;; *) return "$answered" ;; esac
    done
    return 1
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

