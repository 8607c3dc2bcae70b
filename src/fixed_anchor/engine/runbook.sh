#!/bin/sh
# A runbook of Fixed Anchor: one change of one host, carried in one file.
#
#   sh RUNBOOK           does the change, here, at a console: looks, asks, and rolls it back
#                        unless somebody says that it is to be kept
#   sh RUNBOOK show      shows what it would do; changes nothing
#   sh RUNBOOK keep      keeps the change, from another session
#   sh RUNBOOK back      rolls it back at once
#   sh RUNBOOK status    what is going on
#
# It needs a shell and the host's own network stack: no Python, no network. Below the line
# `#DATA` follows what it carries, in plain text: the engine, which does the work, and the
# data of this change. Each file begins with =MODE PATH, each of its lines with a bar, and
# with a plus where no line end follows. Nothing of it is ever run as a command but by the
# engine, argument by argument.
set -u
export LC_ALL=C
PATH=${PATH:-/usr/sbin:/usr/bin:/sbin:/bin}:/usr/sbin:/sbin
umask 077
book=$0 what=${1:-do} state=/var/lib/fixed-anchor/changes
say() { status=$1; shift; printf '%s\n' "$*" >&2; exit "$status"; }

data() { sed -n '/^#DATA$/,/^#END /p' "$book" | sed -e 1d -e '$d'; }
# unpack FOLDER
unpack() {
    data | while IFS= read -r line; do
        case $line in
        =*)
            line=${line#=} path=$1/${line#* }
            mkdir -p "${path%/*}" && : >"$path" && chmod "${line%% *}" "$path" || exit 1
            ;;
        \|*) printf '%s\n' "${line#?}" >>"$path" ;;
        +*) printf '%s' "${line#?}" >>"$path" ;;
        esac
    done
}
# The digest of standard input, by whatever this host has for it.
digest() {
    if command -v sha256sum >/dev/null; then sha256sum
    elif command -v shasum >/dev/null; then shasum -a 256
    elif command -v openssl >/dev/null; then openssl dgst -sha256 -r
    elif command -v busybox >/dev/null && busybox sha256sum </dev/null >/dev/null 2>&1; then busybox sha256sum
    else return 1; fi
}
# Of all but its last line: this program, too.
whole() {
    sum=$(sed -n 's/^#END //p' "$book")
    [ -n "$sum" ] || say 2 "$book is cut short: carry it again"
    here=$(sed '/^#END /,$d' "$book" | digest) || here=
    came="its digest is as it was made"
    if [ -z "$here" ]; then
        came="whether it came as it was made was not checked: this host has neither sha256sum, shasum, openssl nor busybox; without its last line its SHA-256 is $sum"
        printf '%s\n' "$book: $came" >&2
    elif [ "${here%% *}" != "$sum" ]; then say 2 "$book was altered on the way: carry it again"; fi
}
# Passphrases and keys are not shown; the files have them.
masked() {
    names='password|passphrase|passwd|psk|private-?key|pre-?shared-?key|shared-?key|wep-?key|wireless-key|key_passphrase|secret|cak'
    sed -E -e "s/(^|[^A-Za-z0-9_.-])([\"']?[A-Za-z0-9_.-]*($names)[0-9]*[\"']?[[:space:]]*[:=][[:space:]]*)[^,}]+/\\1\\2(hidden)/gI" \
        -e "s/^([[:space:]+#-]*(was:[[:space:]]*)?([A-Za-z0-9_-]*-)?($names)[0-9]*[[:space:]]+)[^[:space:]=:].*/\\1(hidden)/I"
}
show() {
    while IFS= read -r line; do printf '%s\n' "$line"; done <"$1/about"
    while read -r number kind mode uid gid path; do
        echo "--- $path: $kind, mode $mode, owner $uid:$gid"
        if [ "$kind" = create ]; then masked <"$1/new/$number"
        elif [ -f "$1/new/$number" ]; then diff -u "$path" "$1/new/$number" | masked; fi
    done <"$1/manifest"
    for step in "$1"/steps/leave/* "$1"/steps/activate/*; do
        [ ! -f "$step" ] || echo "then run: $(tr '\n' ' ' <"$step")"
    done
}
# The host is told by its MACs, and it must be the one of the draft.
right_host() {
    while read -r interface mac; do
        there=$(cat "/sys/class/net/$interface/address" 2>/dev/null)
        [ "$there" = "$mac" ] || [ "$mac" = - ] ||
            say 2 "$interface of this host has the MAC ${there:-(there is no such interface)}, the runbook is for $mac: nothing was changed"
    done <"$1/macs"
}
# The stack must not be in the middle of a change of its own.
idle() {
    # shellcheck disable=SC2009  # the whole lines are wanted
    busy=$(ps -eo args 2>/dev/null | grep -E -f "$1/busy" | grep -v grep)
    [ -z "$busy" ] || say 1 "the network stack is in the middle of a change: $busy; nothing was changed"
}
unchanged() {
    while read -r number kind _ _ _ path; do
        [ -f "$1/was/$number" ] || continue
        cmp -s "$1/was/$number" "$path" && continue
        echo "$path is not what the draft was made from:" >&2
        diff -u "$1/was/$number" "$path" | masked >&2
        say 1 "nothing was changed; collect and draft again"
    done <"$1/manifest"
}
# What rolls an unconfirmed change back at boot, for the init that this host has.
choose_init() {
    if [ -d /run/systemd/system ]; then init=systemd
    elif [ -L /etc/runlevels/sysinit/networking ] && [ -d /run/openrc ]; then init=openrc-sysinit
    elif [ -d /run/openrc ]; then init=openrc
    elif [ -d /etc/rcS.d ] && [ -f /etc/inittab ]; then
        init=sysv
        if command -v insserv >/dev/null; then init=sysv-insserv; fi
    else say 1 "nothing would roll the change back at boot on this host: neither systemd, OpenRC nor System V init; nothing was changed"; fi
    echo session >"$1/launch"
    [ "$init" != systemd ] || echo systemd >"$1/launch"
    sed "s|@FOLDER@|$1|g" "$1/init/$init/boot-unit" >"$1/boot-unit"
    for part in boot-unit-path boot-unit-mode boot-unit-wants; do cp "$1/init/$init/$part" "$1/$part"; done
    [ ! -d "$1/init/$init/steps/arm" ] || cp -R "$1/init/$init/steps/arm" "$1/steps/arm"
}
new_folder() {
    mkdir -p "$state" || say 4 "$state cannot be made; run this as root"
    number=1
    for taken in "$state"/[0-9]*; do
        [ ! -d "$taken" ] || { number=${taken##*/} && number=${number#"${number%%[!0]*}"} && number=$((number + 1)); }
    done
    while ! mkdir "$(printf '%s/%04d' "$state" "$number")" 2>/dev/null; do number=$((number + 1)); done
    printf '%s/%04d\n' "$state" "$number"
}
engine() { verb=$1; shift; /bin/sh "$change/engine.sh" "$verb" "$change" "$@"; }
the_change() {
    [ -L "$state/open" ] || say 7 "no change is open on this host"
    change=$state/$(readlink "$state/open")
}
# The engine's small checks: each expected fact, and the gateway as it was before.
look() {
    bad=0
    engine observe >"$change/seen"
    while IFS= read -r line; do
        if grep -qxF "$line" "$change/seen"; then echo "pass: $line"; else echo "fail: $line"; bad=1; fi
    done <"$change/expect"
    if engine gateway_answers; then echo "pass: the gateway answers"
    elif [ "$(cat "$change/baseline/gateway-answered")" = no ]; then echo "as before: the gateway does not answer"
    else echo "fail: the gateway answers (before the change it did)"; bad=1; fi
    return "$bad"
}
state_now() { cat "$change/state" 2>/dev/null; }
ended() {
    case $(state_now) in
    confirmed)
        [ ! -f "$change/incomplete" ] || say 5 "change ${change##*/} is kept, but not every file of its final state could be written; see $change/log"
        echo "change ${change##*/} is kept"
        exit 0
        ;;
    closed) echo "change ${change##*/} was closed: what was there then was accepted"; exit 0 ;;
    rolled-back | put-back) echo "change ${change##*/} was rolled back, because $(cat "$change/why" 2>/dev/null): the host is as it was before; see $change/log"; exit 3 ;;
    stuck) say 5 "change ${change##*/} could not be rolled back; $change/log says what is left to do" ;;
    esac
}
do_it() {
    [ "$(id -u)" = 0 ] || say 4 "run this as root; nothing was changed"
    change=$(new_folder) && [ -n "$change" ] || exit 4
    trap '[ -f "$change/state" ] || rm -rf "$change"' EXIT
    terminal=$(tty 2>/dev/null) || terminal="no terminal"
    unpack "$change" && echo "run here by ${SUDO_USER:-${USER:-user $(id -u)}}, on $terminal; $came" >>"$change/about" &&
        right_host "$change" && idle "$change" && unchanged "$change" && choose_init "$change"
    show "$change"
    engine start || exit $?
    echo "waiting until it is in force"
    while [ "$(state_now)" != waiting ]; do ended; sleep 1; done
    tries=0
    until look >"$change/checks"; do
        tries=$((tries + 1))
        [ "$tries" -lt 20 ] || break
        sleep 1
    done
    # Only what is in force can be announced; the check for another machine comes with it.
    grep -q '^fail' "$change/checks" || engine announce >>"$change/checks"
    cat "$change/checks"
    if grep -q '^fail' "$change/checks"; then engine verdict not-as-planned "$(grep -m 1 '^fail' "$change/checks" | cut -d ' ' -f 2-)"; else engine verdict as-planned; fi
    if grep -q '^fail' "$change/checks"; then echo "not as planned: it is rolled back"; fi
    while [ "$(state_now)" = waiting ] && [ ! -L "$change/decision" ]; do
        echo "Automatic rollback in $(engine status | sed -n 's/^left //p') s. Look for yourself; then type  keep  or  back"
        IFS= read -r answer || { echo "nobody is here to answer; keep it with: sh $book keep"; break; }
        case $answer in
        keep) engine confirm "a person at the console" ;;
        back) engine roll-back "a person at the console" ;;
        esac
    done
    while [ "$(state_now)" != waiting ] || [ -L "$change/decision" ]; do ended; sleep 1; done
}

whole
case $what in
do) do_it ;;
show)
    folder=$(mktemp -d) || exit 4
    trap 'rm -rf "$folder"' EXIT
    unpack "$folder" && show "$folder"
    ;;
keep) the_change && engine confirm "a person, with the runbook" ;;
back)
    the_change
    engine roll-back "a person, with the runbook"
    ;;
status) the_change && engine status ;;
*) say 2 "$what is none of: show, keep, back, status, or nothing for the change itself" ;;
esac
exit
