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
#      It names what was decided (keep, roll-back) and why, so there is no half-made one.
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
is_final() { case $1 in confirmed | rolled-back | closed) return 0 ;; esac; return 1; }
decision() { readlink "$dir/decision" 2>/dev/null || :; }
decided() { made=$(decision) && echo "${made%%:*}"; }
decided_because() { made=$(decision) && case $made in *": "*) echo "${made#*: }" ;; esac; }
# claim keep|roll-back WHO WHY: the one decision. ln refuses where one has been made.
claim() {
    made="$1: $(printf '%.900s' "$3")"
    ln -sn "$made" "$dir/decision" 2>/dev/null ||
        { [ -z "$(decided)" ] && rm -f "$dir/reserve" && ln -sn "$made" "$dir/decision" 2>/dev/null; } || return 1
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

