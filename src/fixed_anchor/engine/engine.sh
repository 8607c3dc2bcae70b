#!/bin/sh
# The engine of Fixed Anchor: carries out one change on a host, and rolls it back.
#   engine.sh VERB CHANGE-FOLDER [WORD [WORD]]
# It is the same for every change. What belongs to one change is data in its folder (the
# table in docs/design.md says which file means what); what is kept there is state, saved/,
# baseline/, deadline, decision and log. The rules everything relies on:
#   1. Only the guard moves the state, as change/states.py says. Everybody else leaves requests.
#   2. The state is on disk before the step that it names.
#   3. Nothing is written before the guard has said that it is alive.
#   4. There is one decision: the link `decision`, made once, by whoever comes first.
#      It names what was decided (keep, roll-back), so there is no half-made one.
#   5. The deadline counts /proc/uptime; a clock that jumps changes nothing.
# Exit status: 0 done; 1 refused, nothing touched; 2 bad data; 3 was rolled back;
# 4 no permission; 5 stuck; 7 another change is open, or this one is decided; 8 another guard is alive.
set -u
export LC_ALL=C
PATH=${PATH:-/usr/sbin:/usr/bin:/sbin:/bin}:/usr/sbin:/sbin
umask 077
verb=${1-} dir=${2-} word=${3-} second=${4-}
name=${dir##*/} root=${dir%/*}
# On a disk that takes nothing the log goes to whoever called.
log() {
    { printf '%s %s\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$*" >>"$dir/log"; } 2>/dev/null || printf 'engine: %s\n' "$*" >&2
}
log_lines() { while IFS= read -r line; do log "$1$line"; done; }
say() { status=$1; shift; printf '%s\n' "$*" >&2; exit "$status"; }
die() { status=$1; shift; log "refused: $*"; say "$status" "$*"; }
case $dir in /*) [ -d "$dir" ] || say 2 "engine: there is no $dir" ;; *) say 2 "engine: a change folder with an absolute path is needed" ;; esac
uptime_now() { read -r up _ </proc/uptime; echo "${up%.*}"; }
value() { cat "$dir/$1" 2>/dev/null || :; }
pause() { sleep 0.2 2>/dev/null || sleep 1; }
# Where sync takes no file names, everything is synced, which is right too.
durable() { sync "$@" 2>/dev/null || sync; }
# put FILE TEXT: writes one of our own files durably.
put() {
    { printf '%s\n' "$2" >"$dir/$1.new"; } 2>/dev/null && durable "$dir/$1.new" &&
        mv -f "$dir/$1.new" "$dir/$1" && durable "$dir"
}
# On a disk that has filled up since, the room kept for this is given up.
set_state() { put state "$1" 2>/dev/null || { rm -f "$dir/reserve"; put state "$1"; } || return 1; log "state: $1"; }
beat() {
    { printf '%s %s\n' "$$" "$(uptime_now)" >"$dir/heartbeat.new"; } 2>/dev/null && mv -f "$dir/heartbeat.new" "$dir/heartbeat"
}
guard_alive() {
    [ -f "$dir/heartbeat" ] && [ "$(value boot-id)" = "$(cat /proc/sys/kernel/random/boot_id)" ] || return 1
    pid=$(value heartbeat) pid=${pid%% *}
    [ -n "$pid" ] && [ "$pid" != "$$" ] && is_guard "$pid"
}
# is_guard PID: whether that process moves this change.
is_guard() {
    case $({ tr '\0' ' ' <"/proc/$1/cmdline"; } 2>/dev/null) in *" guard $dir "* | *" boot $dir "*) return 0 ;; esac
    return 1
}
# Of several that would move the change one does: each stands behind the last one, and only where that one is gone.
alone() {
    boot=$(cat /proc/sys/kernel/random/boot_id) place=1
    while ! ln -s "$$ $boot" "$dir/guard-$place" 2>/dev/null; do
        before=$(readlink "$dir/guard-$place") || { [ -z "${room-}" ] || break; room=given; rm -f "$dir/reserve"; continue; }
        [ "${before#* }" != "$boot" ] || ! is_guard "${before%% *}" || return 1
        place=$((place + 1))
    done
    # On a disk that takes nothing at all there is only the heartbeat to go by.
    ! guard_alive
}
# `put-back` is what earlier versions called it: theirs may be the change before this one.
is_final() { case $1 in confirmed | rolled-back | put-back | closed) return 0 ;; esac; return 1; }
decided() { readlink "$dir/decision" 2>/dev/null || :; }
# claim keep|roll-back WHO: the one decision. ln refuses where one has been made.
claim() {
    ln -sn "$1" "$dir/decision" 2>/dev/null ||
        { [ -z "$(decided)" ] && rm -f "$dir/reserve" && ln -sn "$1" "$dir/decision" 2>/dev/null; } || return 1
    durable "$dir"
    log "decision: $1, by $2"
}
# each_file FUNCTION: with NUMBER KIND MODE UID GID PATH of every line of the manifest; fails if it failed for any.
each_file() {
    all=0
    [ -f "$dir/manifest" ] || return 1
    while read -r number kind mode uid gid path; do
        [ -z "$number" ] || "$1" "$number" "$kind" "$mode" "$uid" "$gid" "$path" || all=1
    done <"$dir/manifest"
    return "$all"
}

# --- steps ---------------------------------------------------------------------------
step_limit=60 start_limit=15 final_tries=10 boot_tries=10
# run_step FILE: one command with a time limit, its output in the log.
run_step() {
    step=$1 input=$dir/input/${1#"$dir/steps/"}
    [ -f "$input" ] || input=/dev/null
    set --
    while IFS= read -r arg || [ -n "$arg" ]; do set -- "$@" "$arg"; done <"$step"
    log "step: $*"
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
    return "$result"
}
# run_steps PHASE [any]: all steps of a phase in order; with `any`, failures are logged and passed over.
run_steps() {
    for file in "$dir/steps/$1"/*; do
        [ ! -f "$file" ] || run_step "$file" || [ "${2-}" = any ] || return 1
    done
}

# --- files ---------------------------------------------------------------------------
# The state folder must outlive a power cut, belong to whoever runs this, and be named in the boot unit.
check_home() {
    case $dir in *[[:space:]]*) die 1 "$dir has a blank in its path, which no boot unit can name; nothing was changed" ;; esac
    # shellcheck disable=SC2012  # one folder of our own, whose owner is wanted as a number
    owner=$(ls -nd "$root" | { read -r _ _ uid _; echo "$uid"; })
    [ "$owner" = "$(id -u)" ] || die 4 "$root belongs to somebody else; nothing was changed"
    [ -f "$dir/boot-unit" ] || return 0
    case $(stat -f -c %T "$dir" 2>/dev/null) in
    tmpfs | ramfs) die 1 "$dir lies in memory, and would be gone after a power cut; nothing was changed" ;;
    esac
}
# A file that is mounted by itself cannot be replaced by a rename.
check_mounted() {
    while read -r _ _ _ _ point _; do
        [ "$point" != "$1" ] || die 1 "$1 is mounted by itself (see findmnt), and cannot be replaced; nothing was changed"
    done </proc/self/mountinfo
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
# All that a rollback needs, and the folders that it lies in.
on_disk() {
    limited 30 sync -f "$dir" || limited 30 sync || die 1 "the disk of $dir does not take the saved copies; nothing was changed"
}
check_file() {
    case $6 in [!/]* | */../* | */./* | *//*) die 2 "the manifest names $6, which is no plain path" ;; esac
    [ "$(readlink "$6")" = "$(value "was-link/$1")" ] ||
        die 1 "$6 is a symbolic link that the draft did not see, or no longer one; nothing was changed"
    above=${6%/*}
    while [ -n "$above" ]; do
        [ ! -L "$above" ] || die 1 "$above, above $6, is a symbolic link; nothing was changed"
        above=${above%/*}
    done
    case $2 in
    create)
        [ ! -e "$6" ] || die 1 "$6 has appeared since the draft was made; nothing was changed"
        above=${6%/*}
        # One missing folder is made with its file, and goes again with it.
        [ -d "$above" ] || { [ -w "${above%/*}" ] && return 0; } ||
            die 1 "the folder of $6 is not there, and cannot be made; nothing was changed"
        ;;
    replace | delete | link)
        [ ! -f "$dir/was/$1" ] || cmp -s "$dir/was/$1" "$6" || die 1 "$6 is not what the draft was made from; nothing was changed"
        [ -w "$6" ] || [ -L "$6" ] || die 4 "$6 cannot be written: it is read-only, or immutable; nothing was changed"
        ;;
    *) die 2 "the manifest has a line of kind $2" ;;
    esac
    # Really tried, with the time it has already: not every shell asks the file system whether root may.
    check_mounted "$6"
    touch -c -r "${6%/*}" "${6%/*}" 2>/dev/null || die 4 "the folder of $6 cannot be written; nothing was changed"
    check_room "${6%/*}"
}
# check_room FOLDER: a change is small, but a full disk must not be met in the middle of it.
check_room() {
    left=$(df -Pk "$1" 2>/dev/null | { read -r _; read -r _ _ _ left _; echo "${left:-}"; })
    [ "${left:-1024}" -ge 1024 ] || die 1 "only $left KiB are left on the disk of $1; nothing was changed"
}
# Every command of the stack that the change and its way back need must be there.
check_commands() {
    for step in "$dir"/steps/leave/* "$dir"/steps/activate/* "$dir"/steps/drop/* "$dir"/steps/unload/* "$dir"/steps/reload/*; do
        [ -f "$step" ] || continue
        IFS= read -r first <"$step"
        command -v "$first" >/dev/null || die 1 "the command $first is not there; nothing was changed"
    done
}
# Twice: a copy to keep, and the very file beside its place. Rolling that back is a mere rename,
# which needs no room, and brings back owner, access lists and labels whatever `cp` can do.
save_file() {
    [ "$2" != create ] || return 0
    rm -f "${6%/*}/.fixed-anchor.$name.$1.old"
    cp -a "$6" "$dir/saved/$1" && { ln -n "$6" "${6%/*}/.fixed-anchor.$name.$1.old" 2>/dev/null || cp -a "$6" "${6%/*}/.fixed-anchor.$name.$1.old"; }
}
# write_file: the contents in the folder $texts, new or final.
write_file() {
    beside=${6%/*}/.fixed-anchor.$name.$1
    [ "$texts" = new ] || { [ -f "$dir/final/$1" ] && { keep_aside "$@" || :; }; } || return 0
    rm -f "$beside"
    case $2 in
    delete) rm -f "$6" ;;
    link) ln -s "$(value "new/$1")" "$beside" && mv -f "$beside" "$6" || return 1 ;;
    *)
        [ -d "${6%/*}" ] || { mkdir -m 755 "${6%/*}" && put "made-$1" "${6%/*}"; } || return 1
        # A copy of what is there keeps its owner, labels and access lists.
        if [ -f "$6" ] && [ ! -L "$6" ]; then cp -a "$6" "$beside" || return 1; fi
        { cat "$dir/$texts/$1" >"$beside"; } 2>/dev/null && chmod "$3" "$beside" || return 1
        [ "$(id -u)" != 0 ] || chown "$4:$5" "$beside" || return 1
        # chown may clear mode bits.
        chmod "$3" "$beside" && durable "$beside" && mv -f "$beside" "$6" || return 1
        [ "$2" != create ] || ! command -v restorecon >/dev/null || restorecon "$6" 2>/dev/null || :
        ;;
    esac
    durable "${6%/*}"
    log "written: $2 $6"
}
# What the decision leaves must be on disk: tried again, and said where it cannot be.
write_final() {
    texts=final tries=0
    until each_file write_file; do
        rm -f "$dir/reserve"
        if [ "$((tries += 1))" -ge "$final_tries" ]; then
            log "not every final file could be written; make room or make its folder writable, then copy them by hand:"
            each_file tell_final
            put incomplete yes
            return 1
        fi
        beat
        sleep 1
    done
}
tell_final() { [ ! -f "$dir/final/$1" ] || cmp -s "$6" "$dir/final/$1" || log "  cp $dir/final/$1 $6"; }
# A version of a file that is neither ours nor the saved one is not lost.
keep_aside() {
    { [ -f "$6" ] && [ ! -L "$6" ] && [ -f "$dir/new/$1" ]; } || return 0
    for known in new final saved found; do ! cmp -s "$6" "$dir/$known/$1" || return 0; done
    mkdir -p "$dir/found" && cp -a "$6" "$dir/found/$1" && log "edited by hand since: $6; that version is kept in $dir/found/$1"
}
# Whether the live file is one of the versions that this change knows.
is_known() {
    if [ -L "$6" ]; then
        [ "$(readlink "$6")" = "$(value "new/$1")" ] || [ "$(readlink "$6")" = "$(readlink "$dir/saved/$1" 2>/dev/null)" ]
    elif [ ! -e "$6" ]; then
        [ "$2" = create ] || [ "$2" = delete ]
    else
        for known in new final saved; do ! cmp -s "$6" "$dir/$known/$1" || return 0; done
        return 1
    fi
}
# After a change that was stuck somebody may have repaired the host by hand: what they made stays.
restore_known() {
    is_known "$@" || { log "left alone, since it is of neither version: $6"; return 1; }
    restore_file "$@"
}
restore_file() {
    beside=${6%/*}/.fixed-anchor.$name.$1
    keep_aside "$@" || :
    rm -f "$beside"
    if [ "$2" = create ]; then
        rm -f "$6" || return 1
        [ ! -f "$dir/made-$1" ] || rmdir "$(value "made-$1")" 2>/dev/null || :
    # Where both names lead to one file, nothing was written yet, and mv has nothing to do.
    elif [ -e "$beside.old" ] || [ -L "$beside.old" ]; then
        { mv -f "$beside.old" "$6" 2>/dev/null || cmp -s "$beside.old" "$6"; } || return 1
        rm -f "$beside.old" || log "could not be removed: $beside.old"
    elif [ -L "$dir/saved/$1" ] || ! cmp -s "$6" "$dir/saved/$1"; then
        cp -a "$dir/saved/$1" "$beside" && durable "$beside" && mv -f "$beside" "$6" || return 1
    fi
    [ ! -d "${6%/*}" ] || durable "${6%/*}"
    log "rolled back: $6"
}
tidy_file() { rm -f "${6%/*}/.fixed-anchor.$name.$1" "${6%/*}/.fixed-anchor.$name.$1.old"; }

# --- the baseline --------------------------------------------------------------------
# What counts of the present state: IPv4 addresses and whether they are leased, fixed IPv6
# addresses, and the gateways of default routes on the interface.
observe() { while read -r interface; do observe_one; done <"$dir/interface"; }
observe_one() {
    ip -o addr show dev "$interface" scope global 2>/dev/null | while read -r _ _ family address rest; do
        case "$family $rest" in
        "inet "*dynamic*) echo "address $address leased on $interface" ;;
        "inet6 "*dynamic* | "inet6 "*temporary*) ;;
        *) echo "address $address fixed on $interface" ;;
        esac
    done | sort
    for family in -4 -6; do
        ip "$family" route show default dev "$interface" 2>/dev/null | while read -r _ via gateway rest; do
            case "$family $via $rest" in "-4 via "* | "-6 via "*"proto static"*) echo "gateway $gateway on $interface" ;; esac
        done | sort -u
    done
}
gateway_answers() {
    gateway=$(ip -4 route show default 2>/dev/null | while read -r _ _ hop _; do echo "$hop"; break; done)
    [ -n "$gateway" ] || return 1
    ping -c 1 -W 1 "$gateway" >/dev/null 2>&1 && return 0
    case $(ip neigh show "$gateway" 2>/dev/null) in *REACHABLE* | *DELAY*) ;; *) return 1 ;; esac
}
take_baseline() {
    mkdir -p "$dir/baseline" && observe >"$dir/baseline/facts"
    ip route show >"$dir/baseline/routes" 2>&1 || :
    ip rule show >"$dir/baseline/rules" 2>&1 || :
    if gateway_answers; then echo yes; else echo no; fi >"$dir/baseline/gateway-answered"
    durable "$dir/baseline"
}
# A lease may come back with another address: that it is leased again is what counts.
same_facts() { [ "$(counted "$1")" = "$(counted "$2")" ]; }
counted() { sed 's/^address [^ ]* leased/address leased/' "$1" | sort; }
# settles SECONDS FACTS: waits until what is observed is as the file FACTS says.
settles() {
    until=$(($(uptime_now) + $1))
    while :; do
        { observe >"$dir/observed"; } 2>/dev/null || return 1
        same_facts "$dir/observed" "$2" && { [ "$(value baseline/gateway-answered)" = no ] || gateway_answers; } && return 0
        [ "$(uptime_now)" -lt "$until" ] || return 1
        beat; pause
    done
}
# settles_or PHASE FACTS: the steps of PHASE one by one, as long as the stack sticks.
settles_or() {
    settles 20 "$2" && return 0
    for file in "$dir/steps/$1"/*; do
        [ -f "$file" ] || continue
        log "the wanted state is not reached yet"
        run_step "$file" || :
        restore_kernel "$1"
        settles 15 "$2" && return 0
    done
    return 1
}
# What was in the kernel and in no file. Stacks go on after they have answered, and would undo it.
restore_kernel() {
    [ "$1" != drop ] && [ -d "$dir/steps/kernel" ] || return 0
    sleep 2
    run_steps kernel any
}

# --- the boot unit and the lock -----------------------------------------------------
# Each change has its own, so that one that is late with its end takes nothing from the next.
own_name() { case $1 in *.service) echo "${1%.service}-$name.service" ;; *) echo "$1-$name" ;; esac; }
arm_boot() {
    [ -f "$dir/boot-unit" ] || return 0
    unit=$(own_name "$(value boot-unit-path)") wants=$(own_name "$(value boot-unit-wants)")
    cp "$dir/boot-unit" "$unit.new" && chmod "$(value boot-unit-mode)" "$unit.new" && durable "$unit.new" &&
        mv -f "$unit.new" "$unit" && mkdir -p "${wants%/*}" && rm -f "$wants" && ln -s "$unit" "$wants" &&
        durable "${unit%/*}" "${wants%/*}" && run_steps arm
}
disarm() {
    if [ -f "$dir/boot-unit" ]; then
        rm -f "$(own_name "$(value boot-unit-wants)")" "$(own_name "$(value boot-unit-path)")"
        durable "$(dirname "$(value boot-unit-path)")"
        run_steps arm any
    fi
    each_file tidy_file || :
    rm -f "$dir/reserve"
    [ "$(readlink "$root/open" 2>/dev/null)" != "$name" ] || rm -f "$root/open"
    durable "$root"
}
# is_over NAME: whether a change is over, or never got as far as a state before its `start` died.
is_over() {
    is_final "$(cat "$root/$1/state" 2>/dev/null || :)" && return 0
    begun_by=$(cat "$root/$1/starting" 2>/dev/null || echo none)
    # In this order: a `start` that has ended well has left a state behind.
    [ ! -d "/proc/$begun_by" ] && [ ! -f "$root/$1/state" ]
}
take_lock() {
    # Two tries: the second after a lock that a finished or never begun change left behind.
    for _ in 1 2; do
        # -n: the link leads to a folder, and would otherwise be made inside it.
        ln -sn "$name" "$root/open" 2>/dev/null && return 0
        other=$(readlink "$root/open") || continue
        [ "$other" != "$name" ] || return 0
        is_over "$other" || die 7 "change $other is open on this host; confirm, restore or close it first"
        # Only one may clear it away: who is the first to say so there, or, where that one died, in its folder.
        while ! ln -sn "$name" "$root/$other/cleared-by" 2>/dev/null; do
            next=$(readlink "$root/$other/cleared-by")
            [ "$next" != "$name" ] || break
            { [ -d "$root/$next" ] && is_over "$next"; } || die 7 "change $next is just being begun on this host"
            other=$next
        done
        rm -f "$root/open"
    done
    die 7 "another change is open on this host"
}

# --- the guard -----------------------------------------------------------------------
# Without its last word on disk a change is not over.
finish() {
    tries=0
    until set_state "$1"; do
        # At boot everything else waits for this.
        [ "$verb" != boot ] || [ "$((tries += 1))" -lt "$boot_tries" ] || return 1
        beat; pause
    done
    disarm
}
commit() {
    set_state committing
    each_file keep_aside || :
    end_hold
    # What was held may have ended before the decision, when the disk took nothing.
    [ ! -f "$dir/incomplete" ] || { rm -f "$dir/incomplete"; write_final || :; }
    run_steps commit any
    finish confirmed
}
# What was held beside the new state goes: the final files, loaded by a second activation.
end_hold() {
    [ -s "$dir/held" ] && [ ! -f "$dir/hold-over" ] || return 0
    log "no longer held: $(tr '\n' ';' <"$dir/held")"
    observe | grep -vxF -f "$dir/held" >"$dir/expected"
    write_final || :
    run_steps drop any
    settles_or drop-escalate "$dir/expected" || { log "in force now, but not as wanted:"; log_lines "  " <"$dir/observed"; }
    put hold-over yes
}
roll_back() {
    log "rolling back: $1"
    if [ "$(value state)" = prepared ]; then finish rolled-back; return; fi
    set_state rolling-back
    run_steps unload any
    back=yes
    each_file restore_file || { back=no; log "not every file could be rolled back"; }
    run_steps reload any
    restore_kernel reload
    if settles_or escalate "$dir/baseline/facts" && [ "$back" = yes ]; then finish rolled-back; return; fi
    log "in force now:"
    log_lines "  " <"$dir/observed"
    [ "$back" = no ] || ! same_facts "$dir/observed" "$dir/baseline/facts" ||
        log "everything is as it was, only the gateway, which answered before, does not"
    log "left to do by hand, as root, best at a console:"
    [ "$back" = yes ] || log "  make room or make the folder writable, and copy the saved files to their places: $dir/saved, $dir/manifest"
    for file in "$dir/steps/reload"/*; do [ ! -f "$file" ] || log "  run: $(tr '\n' ' ' <"$file")"; done
    log "  then this must be so, see ip address and ip route:"
    log_lines "    " <"$dir/baseline/facts"
    log "  or let the engine try once more: sh $dir/engine.sh roll-back $dir"
    log "  or accept what is there now: sh $dir/engine.sh close $dir WHO WHY"
    log "until then no other change can begin, and the next boot tries once more: it brings the former files back,"
    log "  leaves alone what is of neither version, and loads them; so close the change where the host is to stay as it is"
    until set_state stuck; do beat; pause; done
}
# Whether `start` gave up waiting for this guard, or the lock is another's by now.
given_up() { [ "$(decided)" = roll-back ] || [ ! -f "$dir/armed" ] || [ "$(readlink "$root/open" 2>/dev/null)" != "$name" ]; }
forward() {
    if given_up; then finish rolled-back; return; fi
    texts=new
    set_state prepared || return 1
    # Once more: `start` decides, then looks for the state; here it is the other way round, so one sees the other.
    if given_up; then finish rolled-back; return; fi
    { set_state leaving && run_steps leave; } || { roll_back "a step that needs the old files failed"; return; }
    { set_state writing && each_file write_file; } || { roll_back "a file could not be written"; return; }
    { set_state activating && run_steps activate; } || { roll_back "the network stack did not take the new files"; return; }
    # One more than the whole seconds counted: never earlier than was promised.
    { put deadline "$(($(uptime_now) + $(value confirm-within) + 1))" && set_state waiting; } ||
        { roll_back "the state could not be recorded"; return; }
    await
}
await() {
    while :; do
        beat
        case $(decided) in keep) commit; return ;; roll-back) roll_back "decided"; return ;; esac
        if [ -f "$dir/more-time" ]; then
            put deadline "$(($(value deadline) + $(value more-time)))" && log "more time: $(value more-time) s"
            rm -f "$dir/more-time"
        fi
        [ ! -f "$dir/held-until" ] || [ "$(uptime_now)" -lt "$(value held-until)" ] || end_hold
        [ "$(uptime_now)" -lt "$(value deadline)" ] || claim roll-back "the deadline" || :
        pause
    done
}
guard() {
    # Whoever would begin a guard again goes on watching over that one.
    alone || exit 8
    trap '' HUP INT PIPE
    cd / || :
    # The first sign of life comes before anything that a slow disk could hold up.
    cat /proc/sys/kernel/random/boot_id >"$dir/boot-id"
    beat
    if sync "$dir/boot-id" 2>/dev/null; then log "sync: file by file"; else log "sync: whole file systems"; fi
    case $(value state) in
    # Before all is saved there is nothing to be done, but to end a change that somebody does not want.
    '') if [ -f "$dir/armed" ] || [ -n "$(decided)" ]; then forward; fi ;;
    waiting) await ;;
    committing) commit ;;
    confirmed | rolled-back | closed) disarm ;;
    *) roll_back "the guard was interrupted" ;;
    esac
}
launch() {
    if [ "$(value launch)" = systemd ] && systemd-run --quiet --collect --unit="fixed-anchor-guard-$name-$$" \
        -p KillMode=process -p Restart=on-failure -p RestartSec=1 -p StartLimitIntervalSec=0 \
        /bin/sh "$dir/engine.sh" guard "$dir" >>"$dir/log" 2>&1; then log "guard: a transient unit of systemd"; return; fi
    log "guard: a session of its own"
    setsid /bin/sh "$dir/engine.sh" supervise "$dir" </dev/null >/dev/null 2>&1 &
}
supervise() {
    trap '' HUP INT PIPE
    # As systemd does it: a guard that has ended well is not begun again, whatever was asked for since.
    until /bin/sh "$dir/engine.sh" guard "$dir"; do
        sleep 1
        [ -d "$dir" ] && ! is_final "$(value state)" && [ "$(value state)" != stuck ] || return 0
    done
}

# --- the verbs -----------------------------------------------------------------------
start() {
    [ -f "$dir/manifest" ] && [ -f "$dir/interface" ] || die 2 "the data of the change is not complete"
    [ -z "$(value state)" ] || die 7 "change $name was begun before: it is $(value state)"
    [ -w "$root" ] || die 4 "$root cannot be written; run it as root"
    put starting "$$"
    take_lock
    trap '[ -f "$dir/state" ] || guard_alive || disarm' EXIT
    [ ! -f "$dir/about" ] || log_lines "" <"$dir/about"
    check_home
    check_room "$dir"
    check_commands
    each_file check_file || exit 1
    mkdir -p "$dir/saved"
    { head -c 65536 /dev/zero >"$dir/reserve" && each_file save_file; } || die 1 "the files could not be saved; nothing was changed"
    take_baseline
    on_disk
    arm_boot || die 1 "the boot unit could not be installed; nothing was changed"
    put armed yes || die 1 "the disk of $dir takes nothing; nothing was changed"
    launch
    await_guard
    trap - EXIT
}
# The guard says that it is alive by its heartbeat, and then moves the state itself. On a slow disk that takes its
# time: what counts is how long there was no sign of it.
await_guard() {
    until=$(($(uptime_now) + start_limit)) longest=$(($(uptime_now) + 3 * start_limit))
    while [ ! -f "$dir/state" ]; do
        now=$(uptime_now)
        ! guard_alive || until=$((now + start_limit))
        [ "$now" -lt "$until" ] && [ "$now" -lt "$longest" ] || give_up
        pause
    done
}
# A guard that is there all the same finds the decision before it writes anything, and ends the change itself.
give_up() {
    claim roll-back start || :
    until=$(($(uptime_now) + 4 * start_limit))
    while guard_alive || [ -f "$dir/state" ]; do
        ! is_final "$(value state)" || break
        [ "$(uptime_now)" -lt "$until" ] ||
            die 1 "the guard is there and does not get on: look at the disk of $dir. It will change nothing, and ends the change when it gets on"
        pause
    done
    die 1 "the guard did not come up; nothing was changed"
}
# While something is waited for: a guard that systemd does not bring back is begun again.
missed=0
attend() {
    if guard_alive; then missed=0; else missed=$((missed + 1)); fi
    [ "$missed" -lt 15 ] || { log "no guard was running: another is begun"; launch; missed=0; }
}
# await_end confirmed|rolled-back: waits while the guard works, and tells how it ended.
await_end() {
    while now=$(value state); do
        # The guard has a little to clear away after its last word.
        ! is_final "$now" || while [ "$(readlink "$root/open")" = "$name" ]; do guard_alive || disarm; pause; done
        case $now in
        confirmed)
            [ "$1" = confirmed ] || say 7 "change $name was confirmed"
            [ ! -f "$dir/incomplete" ] ||
                say 5 "change $name is confirmed, but not every file of its final state could be written; $dir/log says which, and what to do"
            echo "confirmed"
            exit 0
            ;;
        rolled-back) [ "$1" = rolled-back ] && { echo "rolled back"; exit 0; }; say 7 "change $name was rolled back" ;;
        stuck) say 5 "change $name could not be rolled back; see $dir/log" ;;
        esac
        attend
        pause
    done
}
# The address by which the session of this process comes in, from the environment of its ancestors.
session_address() {
    pid=$$
    while [ "${pid:-0}" -gt 1 ]; do
        found=$({ tr '\0' '\n' <"/proc/$pid/environ"; } 2>/dev/null | sed -n 's/^SSH_CONNECTION=\([^ ]*\) [^ ]* \([^ ]*\) .*/\1 \2/p')
        if [ -n "$found" ]; then
            # From the host to itself no packet crosses the network.
            peer=${found% *} found=${found#* }
            ip -o addr show 2>/dev/null | grep -qF " ${peer#::ffff:}/" || echo "${found#::ffff:}"
            return
        fi
        pid=$(sed -n 's/^PPid:[[:space:]]*//p' "/proc/$pid/status" 2>/dev/null)
    done
}
# A guard that is gone does not see that the deadline has passed.
in_time() {
    [ -n "$(decided)" ] || [ "$(uptime_now)" -lt "$(value deadline)" ] || {
        claim roll-back "the deadline" || :
        guard_alive || launch
        say 7 "the deadline of change $name has passed: it is being rolled back"
    }
}
confirm() {
    [ "$(value state)" != stuck ] || say 7 "change $name is stuck: it cannot be confirmed, but be rolled back once more, or be closed"
    [ "$(value state)" = waiting ] || say 7 "change $name cannot be confirmed: it is $(value state) already"
    in_time
    session=$(session_address)
    if [ -n "$session" ] && [ "$second" != over-old ] && [ ! -f "$dir/hold-over" ] && grep -qF "address $session/" "$dir/held" 2>/dev/null; then
        log "refused: confirming from a session on $session, which goes"
        say 1 "your session uses $session, the address that goes: it does not prove that the new one works; confirm from a session over the new address, or override this"
    fi
    claim keep "${word:-a person}${session:+, in a session on $session}" || [ "$(decided)" = keep ] ||
        say 7 "change $name is being rolled back already"
    await_end confirmed
}
request_roll_back() {
    case $(value state) in
    confirmed) say 7 "change $name is confirmed; restore it as a change of its own" ;;
    rolled-back) say 7 "change $name was rolled back already" ;;
    closed) say 7 "change $name was closed: what was there then was accepted" ;;
    stuck) set_state rolling-back; launch ;;
    *) claim roll-back "${word:-a person}" || [ "$(decided)" = roll-back ] || say 7 "change $name is being confirmed already" ;;
    esac
    await_end rolled-back
}
more_time() {
    case $word in '' | *[!0-9]* | ??????*) say 2 "how many seconds more?" ;; esac
    [ "$(value state)" = waiting ] && [ -z "$(decided)" ] || say 7 "change $name is decided, or does not wait: it is $(value state)"
    in_time
    put more-time "$word" || say 4 "the request could not be written"
    while [ -f "$dir/more-time" ] && [ -z "$(decided)" ]; do attend; pause; done
    [ ! -f "$dir/more-time" ] || { rm -f "$dir/more-time"; say 7 "change $name has been decided meanwhile"; }
}
# Accepts what is there now, of a change that could not be rolled back.
close() {
    [ "$(value state)" = stuck ] || say 7 "only a change that is stuck can be closed: $name is $(value state)"
    [ -n "$second" ] || say 2 "why is it closed? engine.sh close $dir WHO WHY"
    log "closed by ${word:-a person}, because $second"
    set_state closed || say 4 "that could not be recorded in $dir"
    disarm
    echo "closed"
}
verdict() {
    [ "$(value state)" = waiting ] || say 7 "change $name is $(value state)"
    put verdict "$word"
    [ ! -f "$dir/checks" ] || log_lines "check: " <"$dir/checks"
    log "verification: $word"
    case $word in
    as-planned) [ ! -f "$dir/unattended" ] || claim keep "its verification, unattended" || : ;;
    *) claim roll-back "its verification" || : ;;
    esac
}
status() {
    echo "change $name"
    echo "state $(value state)"
    echo "interface $(value interface | tr '\n' ' ')"
    ends=$(value deadline)
    [ -z "$ends" ] || echo "left $((ends - $(uptime_now)))"
    if guard_alive; then echo "guard alive"; else echo "guard gone"; fi
    [ -z "$(decided)" ] || echo "decision $(decided)"
    [ ! -f "$dir/verdict" ] || echo "verdict $(value verdict)"
    [ ! -s "$dir/held" ] || [ -f "$dir/hold-over" ] || echo "held $(tr '\n' ';' <"$dir/held")"
    [ ! -f "$dir/incomplete" ] || [ "$(value state)" != confirmed ] || echo "incomplete yes"
    [ ! -f "$dir/rolled-back-at-boot" ] || echo "rolled-back-at-boot yes"
}
# At boot, before any network service: no process of the change is left, and none is needed.
boot() {
    # Called by hand on a running host it would take the files from under the guard.
    alone || { log "boot: a guard is alive; nothing was done"; return 0; }
    now=$(value state)
    case $now in
    '' | prepared) log "boot: nothing had been changed"; finish rolled-back ;;
    confirmed | rolled-back | closed) disarm ;;
    committing) write_final || :; run_steps boot any; finish confirmed ;;
    *)
        log "boot: the machine went down while the change was $now"
        set_state rolling-back || log "that it is rolled back cannot be recorded: the disk of $dir takes nothing"
        restore=restore_file
        [ "$now" != stuck ] || restore=restore_known
        back=yes
        each_file "$restore" || { back=no; log "not every file could be rolled back; see $dir/saved"; }
        run_steps boot any
        if [ "$back" = no ]; then set_state stuck; return; fi
        put rolled-back-at-boot yes
        finish rolled-back
        ;;
    esac
}
case $verb in
start | guard | supervise | verdict | confirm | close | status | boot | observe | gateway_answers) "$verb" ;;
# `put-back` is what a runbook of an earlier version says.
roll-back | put-back) request_roll_back ;;
more-time) more_time ;;
*) say 2 "engine: no such verb: $verb" ;;
esac
