#!/bin/sh
# The engine of Fixed Anchor: carries out one change on a host, and puts it back.
#
#   engine.sh VERB CHANGE-FOLDER [WORD]
#
# It is the same for every change. What belongs to one change is data in its folder:
#
#   interface        the interfaces that change, one a line
#   confirm-within   seconds until the change is put back unless it is confirmed
#   unattended       present: a verdict `as-planned` confirms
#   launch           `systemd` or `session`: what keeps the guard alive
#   boot-unit        text of the boot unit; boot-unit-path, boot-unit-wants: where it goes
#   manifest         one file a line: NUMBER replace|create|delete MODE UID GID PATH
#   new/NUMBER       the new contents            was/NUMBER  what must be there now
#   steps/PHASE/NN   one step: a command, one argument a line
#
# and what it keeps there itself: state, saved/, baseline/, deadline, decision, log.
#
# The rules everything relies on:
#   1. Only the guard moves the state. Everybody else leaves requests.
#   2. The state is on disk before the step that it names.
#   3. Nothing is written before the guard has said that it is alive.
#   4. There is one decision: the link `decision`, made once, by whoever comes first.
#      It names what was decided (keep, undo), so there is no half-made one.
#   5. The deadline counts /proc/uptime; a clock that jumps changes nothing.
#
# Exit status: 0 done; 1 refused, nothing touched; 2 bad data; 3 was put back;
# 4 no permission; 5 stuck; 7 another change is open, or this one is decided.

set -u
export LC_ALL=C
PATH=${PATH:-/usr/sbin:/usr/bin:/sbin:/bin}:/usr/sbin:/sbin
umask 077

verb=${1-} dir=${2-} word=${3-}
case $dir in /*) ;; *) echo "engine: a change folder with an absolute path is needed" >&2; exit 2 ;; esac
[ -d "$dir" ] || { echo "engine: there is no $dir" >&2; exit 2; }
name=${dir##*/}
root=${dir%/*}

log() { printf '%s %s\n' "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$*" >>"$dir/log"; }
die() { status=$1; shift; printf '%s\n' "$*" >&2; log "refused: $*"; exit "$status"; }
uptime_now() { read -r up _ </proc/uptime; echo "${up%.*}"; }
value() { cat "$dir/$1" 2>/dev/null || :; }
pause() { sleep 0.2 2>/dev/null || sleep 1; }
# A sync that takes no file names syncs everything, which is right too.
durable() { sync "$@" 2>/dev/null || sync; }

# put FILE TEXT: writes one of our own files durably.
put() {
    printf '%s\n' "$2" >"$dir/$1.new" && durable "$dir/$1.new" &&
        mv -f "$dir/$1.new" "$dir/$1" && durable "$dir"
}
set_state() { put state "$1" || return 1; log "state: $1"; }
beat() { printf '%s %s\n' "$$" "$(uptime_now)" >"$dir/heartbeat.new" && mv -f "$dir/heartbeat.new" "$dir/heartbeat"; }

guard_alive() {
    [ -f "$dir/heartbeat" ] && [ "$(value boot-id)" = "$(cat /proc/sys/kernel/random/boot_id)" ] || return 1
    read -r pid _ <"$dir/heartbeat"
    [ "$pid" != "$$" ] || return 1
    case $(tr '\0' ' ' <"/proc/$pid/cmdline" 2>/dev/null) in *" guard $dir "*) return 0 ;; esac
    return 1
}
is_final() { case $1 in confirmed | put-back) return 0 ;; esac; return 1; }
# claim keep|undo WHO: the one decision. ln refuses where one has been made.
claim() {
    ln -sn "$1" "$dir/decision" 2>/dev/null || return 1
    durable "$dir"
    log "decision: $1, by $2"
}
decided() { readlink "$dir/decision" 2>/dev/null || :; }

# each_file FUNCTION: calls it with NUMBER KIND MODE UID GID PATH for each line of the manifest.
each_file() {
    while read -r number kind mode uid gid path; do
        [ -n "$number" ] || continue
        "$1" "$number" "$kind" "$mode" "$uid" "$gid" "$path" || return 1
    done <"$dir/manifest"
}

# --- steps ---------------------------------------------------------------------------

step_limit=60
# run_step FILE: one command with a time limit, its output in the log.
run_step() {
    step=$1
    set --
    while IFS= read -r arg || [ -n "$arg" ]; do set -- "$@" "$arg"; done <"$step"
    log "step: $*"
    begun=$(uptime_now)
    "$@" </dev/null >>"$dir/log" 2>&1 &
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
    [ -d "$dir/steps/$1" ] || return 0
    for file in "$dir/steps/$1"/*; do
        [ -f "$file" ] || continue
        run_step "$file" || [ "${2-}" = any ] || return 1
    done
}

# --- files ---------------------------------------------------------------------------

check_file() {
    case $6 in /*) ;; *) die 2 "the manifest names $6, which is no absolute path" ;; esac
    case $6 in */../* | */./* | *//*) die 2 "the manifest names $6, which is no plain path" ;; esac
    [ ! -L "$6" ] || die 1 "$6 is a symbolic link; nothing was changed"
    case $2 in
    create)
        [ ! -e "$6" ] || die 1 "$6 has appeared since the draft was made; nothing was changed"
        if [ ! -d "${6%/*}" ]; then
            # One missing folder is made with its file, and goes again with it.
            above=${6%/*}
            [ -w "${above%/*}" ] || die 1 "the folder of $6 is not there, and cannot be made; nothing was changed"
            return 0
        fi
        ;;
    replace | delete)
        cmp -s "$dir/was/$1" "$6" || die 1 "$6 is not what the draft was made from; nothing was changed"
        [ -w "$6" ] || die 4 "$6 cannot be written: it is read-only, or immutable; nothing was changed"
        ;;
    *) die 2 "the manifest has a line of kind $2" ;;
    esac
    # Really tried, with the time it has already: not every shell asks the file system whether root may.
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
    for step in "$dir"/steps/leave/* "$dir"/steps/activate/* "$dir"/steps/unload/* "$dir"/steps/reload/*; do
        [ -f "$step" ] || continue
        IFS= read -r first <"$step"
        command -v "$first" >/dev/null || die 1 "the command $first is not there; nothing was changed"
    done
}

save_file() { [ "$2" = create ] || cp -a "$6" "$dir/saved/$1"; }

write_file() {
    beside=${6%/*}/.fixed-anchor.$1
    case $2 in
    delete) rm -f "$6" ;;
    *)
        if [ ! -d "${6%/*}" ]; then
            mkdir -m 755 "${6%/*}" && put "made-$1" "${6%/*}" || return 1
        fi
        rm -f "$beside"
        # A copy of the old file keeps its owner, labels and access lists.
        if [ "$2" = replace ]; then cp -a "$6" "$beside" || return 1; fi
        cat "$dir/new/$1" >"$beside" && chmod "$3" "$beside" || return 1
        [ "$(id -u)" != 0 ] || chown "$4:$5" "$beside" || return 1
        # chown may clear mode bits.
        chmod "$3" "$beside" && durable "$beside" && mv -f "$beside" "$6" || return 1
        ;;
    esac
    durable "${6%/*}"
    log "written: $2 $6"
}

restore_file() {
    beside=${6%/*}/.fixed-anchor.$1
    if [ -e "$6" ] && [ -f "$dir/new/$1" ] && ! cmp -s "$6" "$dir/new/$1" && ! cmp -s "$6" "$dir/saved/$1"; then
        mkdir -p "$dir/found" && cp -a "$6" "$dir/found/$1" &&
            log "edited by hand since: $6; that version is kept in $dir/found/$1"
    fi
    if [ "$2" = create ]; then
        rm -f "$6" "$beside"
        [ ! -f "$dir/made-$1" ] || rmdir "$(value "made-$1")" 2>/dev/null || :
    else
        rm -f "$beside"
        cp -a "$dir/saved/$1" "$beside" && durable "$beside" && mv -f "$beside" "$6" || return 1
    fi
    if [ -d "${6%/*}" ]; then durable "${6%/*}"; fi
    log "put back: $6"
}

# --- the baseline --------------------------------------------------------------------

# What counts of the present state: IPv4 addresses and whether they are leased, fixed IPv6
# addresses, and the gateways of default routes on the interface.
observe() { while read -r interface; do observe_one; done <"$dir/interface"; }

observe_one() {
    ip -o addr show dev "$interface" scope global 2>/dev/null | while read -r _ _ family address rest; do
        case "$family $rest" in
        "inet "*dynamic*) echo "address $address leased on $interface" ;;
        "inet "*) echo "address $address fixed on $interface" ;;
        "inet6 "*dynamic* | "inet6 "*temporary*) ;;
        "inet6 "*) echo "address $address fixed on $interface" ;;
        esac
    done | sort
    for family in -4 -6; do
        ip "$family" route show default dev "$interface" 2>/dev/null | while read -r _ via gateway rest; do
            case "$family $via $rest" in
            "-4 via "* | "-6 via "*"proto static"*) echo "gateway $gateway on $interface" ;;
            esac
        done | sort -u
    done
}

gateway_answers() {
    gateway=$(ip -4 route show default 2>/dev/null | while read -r _ _ hop _; do echo "$hop"; break; done)
    [ -n "$gateway" ] || return 1
    ping -c 1 -W 1 "$gateway" >/dev/null 2>&1 && return 0
    case $(ip neigh show "$gateway" 2>/dev/null) in *REACHABLE* | *DELAY*) return 0 ;; esac
    return 1
}

take_baseline() {
    mkdir -p "$dir/baseline"
    observe >"$dir/baseline/facts"
    ip route show >"$dir/baseline/routes" 2>&1 || :
    ip rule show >"$dir/baseline/rules" 2>&1 || :
    if gateway_answers; then echo yes; else echo no; fi >"$dir/baseline/gateway-answered"
    durable "$dir/baseline"
}

as_baseline() {
    observe >"$dir/observed"
    cmp -s "$dir/observed" "$dir/baseline/facts" || return 1
    [ "$(value baseline/gateway-answered)" = no ] || gateway_answers
}

# settles SECONDS: waits until the state is as the baseline.
settles() {
    until=$(($(uptime_now) + $1))
    while ! as_baseline; do
        [ "$(uptime_now)" -lt "$until" ] || return 1
        beat
        pause
    done
}

# --- the boot unit and the lock -----------------------------------------------------

arm_boot() {
    [ -f "$dir/boot-unit" ] || return 0
    unit=$(value boot-unit-path) wants=$(value boot-unit-wants)
    cp "$dir/boot-unit" "$unit.new" && chmod 644 "$unit.new" && durable "$unit.new" && mv -f "$unit.new" "$unit" &&
        mkdir -p "${wants%/*}" && rm -f "$wants" && ln -s "$unit" "$wants" && durable "${unit%/*}" "${wants%/*}"
}

disarm() {
    if [ -f "$dir/boot-unit" ]; then
        rm -f "$(value boot-unit-wants)" "$(value boot-unit-path)"
        durable "$(dirname "$(value boot-unit-path)")"
    fi
    [ "$(readlink "$root/open" 2>/dev/null)" != "$name" ] || rm -f "$root/open"
    durable "$root"
}

take_lock() {
    # Two tries: the second after a lock that a finished or never begun change left behind.
    for _ in 1 2; do
        # -n: the link leads to a folder, and would otherwise be made inside it.
        ln -sn "$name" "$root/open" 2>/dev/null && return 0
        other=$(readlink "$root/open")
        [ "$other" != "$name" ] || return 0
        begun_by=$(cat "$root/$other/starting" 2>/dev/null || echo none)
        if is_final "$(cat "$root/$other/state" 2>/dev/null || :)" ||
            { [ ! -f "$root/$other/state" ] && [ ! -d "/proc/$begun_by" ]; }; then
            rm -f "$root/open"
        else
            die 7 "change $other is open on this host; confirm or restore it first"
        fi
    done
    die 7 "another change is open on this host"
}

# --- the guard -----------------------------------------------------------------------

finish() { set_state "$1"; disarm; }
commit() { set_state committing; run_steps commit any; finish confirmed; }

put_back() {
    log "putting back: $1"
    if [ "$(value state)" = prepared ]; then
        finish put-back
        return
    fi
    set_state putting-back
    beat
    run_steps unload any
    each_file restore_file || log "not every file could be put back"
    run_steps reload any
    if settles 20; then finish put-back; return; fi
    for file in "$dir/steps/escalate"/*; do
        [ -f "$file" ] || continue
        log "the former state is not reached yet"
        run_step "$file" || :
        if settles 15; then finish put-back; return; fi
    done
    log "what is in force now:"
    cat "$dir/observed" >>"$dir/log"
    log "what was in force before:"
    cat "$dir/baseline/facts" >>"$dir/log"
    log "left to do: the saved files are in place; make the network stack load them, or run: sh $dir/engine.sh put-back $dir"
    set_state stuck
}

forward() {
    # `start` gave up waiting for this guard.
    if [ "$(decided)" = undo ]; then finish put-back; return; fi
    set_state prepared || return 1
    set_state leaving
    run_steps leave || { put_back "a step that needs the old files failed"; return; }
    set_state writing
    each_file write_file || { put_back "a file could not be written"; return; }
    set_state activating
    run_steps activate || { put_back "the network stack did not take the new files"; return; }
    # One more than the whole seconds counted: never earlier than was promised.
    put deadline "$(($(uptime_now) + $(value confirm-within) + 1))"
    set_state waiting
    await
}

await() {
    while :; do
        beat
        case $(decided) in
        keep) commit; return ;;
        undo) put_back "decided"; return ;;
        esac
        [ "$(uptime_now)" -lt "$(value deadline)" ] || claim undo "the deadline" || :
        pause
    done
}

guard() {
    ! guard_alive || return 0
    trap '' HUP INT PIPE
    put boot-id "$(cat /proc/sys/kernel/random/boot_id)"
    beat
    case $(value state) in
    '') forward ;;
    waiting) await ;;
    committing) commit ;;
    confirmed | put-back) disarm ;;
    *) put_back "the guard was interrupted" ;;
    esac
}

launch() {
    if [ "$(value launch)" = systemd ] &&
        systemd-run --quiet --collect --unit="fixed-anchor-guard-$name-$$" \
            -p KillMode=process -p Restart=on-failure -p RestartSec=1 \
            /bin/sh "$dir/engine.sh" guard "$dir" >>"$dir/log" 2>&1; then
        log "guard: a transient unit of systemd"
        return
    fi
    log "guard: a session of its own"
    setsid /bin/sh "$dir/engine.sh" supervise "$dir" </dev/null >/dev/null 2>&1 &
}

supervise() {
    trap '' HUP INT PIPE
    while ! is_final "$(value state)" && [ "$(value state)" != stuck ]; do
        /bin/sh "$dir/engine.sh" guard "$dir"
        pause
    done
}

# --- the verbs -----------------------------------------------------------------------

start() {
    [ -f "$dir/manifest" ] && [ -f "$dir/interface" ] || die 2 "the data of the change is not complete"
    [ -z "$(value state)" ] || die 7 "change $name was begun before: it is $(value state)"
    [ -w "$root" ] || die 4 "$root cannot be written; run it as root"
    put starting "$$"
    take_lock
    trap '[ -f "$dir/state" ] || disarm' EXIT
    check_room "$dir"
    check_commands
    each_file check_file || exit 1
    mkdir -p "$dir/saved"
    each_file save_file || die 1 "the files could not be saved; nothing was changed"
    durable "$dir/saved"
    take_baseline
    arm_boot || die 1 "the boot unit could not be installed; nothing was changed"
    launch
    # The guard says that it is alive by its heartbeat, and then moves the state itself. Until
    # there is a state, the lock would look like that of a change which never began.
    tries=0
    while [ ! -f "$dir/state" ]; do
        tries=$((tries + 1))
        [ "$tries" -lt 75 ] || { claim undo "start"; die 1 "the guard did not come up; nothing was changed"; }
        pause
    done
    trap - EXIT
}

# await_end confirmed|put-back: waits while the guard works, and tells how it ended.
await_end() {
    missed=0
    while :; do
        case $(value state) in
        confirmed) [ "$1" = confirmed ] && { echo "confirmed"; exit 0; }; echo "change $name was confirmed" >&2; exit 7 ;;
        put-back) [ "$1" = put-back ] && { echo "put back"; exit 0; }; echo "change $name was put back" >&2; exit 7 ;;
        stuck) echo "change $name could not be put back; see $dir/log" >&2; exit 5 ;;
        esac
        if guard_alive; then missed=0; else missed=$((missed + 1)); fi
        # A unit of systemd is restarted by it; one that is gone for good is replaced.
        if [ "$missed" -ge 50 ]; then launch; missed=0; fi
        pause
    done
}

confirm() {
    case $(value state) in
    waiting) ;;
    confirmed) echo "change $name is confirmed already" >&2; exit 7 ;;
    *) echo "change $name cannot be confirmed: it is $(value state)" >&2; exit 7 ;;
    esac
    claim keep "${word:-a person}" || [ "$(decided)" = keep ] ||
        { echo "change $name is being put back already" >&2; exit 7; }
    await_end confirmed
}

request_put_back() {
    case $(value state) in
    confirmed) echo "change $name is confirmed; restore it as a change of its own" >&2; exit 7 ;;
    put-back) echo "change $name was put back already" >&2; exit 7 ;;
    stuck)
        set_state putting-back
        launch
        ;;
    *)
        claim undo "${word:-a person}" || [ "$(decided)" = undo ] ||
            { echo "change $name is being confirmed already" >&2; exit 7; }
        ;;
    esac
    await_end put-back
}

verdict() {
    [ "$(value state)" = waiting ] || { echo "change $name is $(value state)" >&2; exit 7; }
    put verdict "$word"
    log "verification: $word"
    case $word in
    as-planned) [ ! -f "$dir/unattended" ] || claim keep "its verification, unattended" || : ;;
    *) claim undo "its verification" || : ;;
    esac
}

status() {
    echo "change $name"
    echo "state $(value state)"
    echo "interface $(tr '\n' ' ' <"$dir/interface")"
    if [ -f "$dir/deadline" ]; then echo "left $(($(value deadline) - $(uptime_now)))"; fi
    if guard_alive; then echo "guard alive"; else echo "guard gone"; fi
    [ -z "$(decided)" ] || echo "decision $(decided)"
    [ ! -f "$dir/verdict" ] || echo "verdict $(value verdict)"
    [ ! -f "$dir/put-back-at-boot" ] || echo "put-back-at-boot yes"
}

# At boot, before any network service: no process of the change is left, and none is needed.
boot() {
    case $(value state) in
    '' | prepared) log "boot: nothing had been changed" ; finish put-back ;;
    confirmed | put-back) disarm ;;
    committing) run_steps commit-boot any; finish confirmed ;;
    *)
        log "boot: the machine went down while the change was $(value state)"
        set_state putting-back
        each_file restore_file || log "not every file could be put back"
        run_steps boot any
        put put-back-at-boot yes
        finish put-back
        ;;
    esac
}

case $verb in
start | guard | supervise | verdict | confirm | status | boot) "$verb" ;;
put-back) request_put_back ;;
*) echo "engine: no such verb: $verb" >&2; exit 2 ;;
esac
