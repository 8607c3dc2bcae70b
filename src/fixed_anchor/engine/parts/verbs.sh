# --- the verbs: what others may ask for -----------------------------------------------
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
    check_guard_outlives
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
    claim roll-back start "its guard did not come up in time" || :
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
        rolled-back) [ "$1" = rolled-back ] && { echo "rolled back"; exit 0; }; say 7 "change $name was rolled back, because $(value why)" ;;
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
            asked ip -o addr show | grep -qF " ${peer#::ffff:}/" || echo "${found#::ffff:}"
            return
        fi
        pid=$(sed -n 's/^PPid:[[:space:]]*//p' "/proc/$pid/status" 2>/dev/null)
    done
}
# A guard that is gone does not see that the deadline has passed.
in_time() {
    [ -n "$(decided)" ] || [ "$(uptime_now)" -lt "$(value deadline)" ] || {
        claim roll-back "the deadline" "nobody confirmed it in time" || :
        guard_alive || launch
        say 7 "the deadline of change $name has passed: it is being rolled back"
    }
}
confirm() {
    [ "$(value state)" != stuck ] || say 7 "change $name is stuck: it cannot be confirmed, but be rolled back once more, or be closed"
    now=$(value state)
    case $now in
    waiting) ;;
    '' | prepared | leaving | writing | activating) say 7 "change $name cannot be confirmed yet: it is ${now:-not begun}" ;;
    *) say 7 "change $name cannot be confirmed: it is $now already" ;;
    esac
    in_time
    session=$(session_address)
    if [ -n "$session" ] && [ "$second" != over-old ] && [ ! -f "$dir/hold-over" ] && grep -qF "address $session/" "$dir/held" 2>/dev/null; then
        log "refused: confirming from a session on $session, which goes"
        say 1 "your session uses $session, the address that goes: it does not prove that the new one works; confirm from a session over the new address, or override this"
    fi
    session=${session:+, in a session on $session}
    claim keep "${word:-a person}$session" "${word:-a person} confirmed it$session" || [ "$(decided)" = keep ] ||
        say 7 "change $name is being rolled back already"
    await_end confirmed
}
request_roll_back() {
    case $(value state) in
    confirmed) say 7 "change $name is confirmed; restore it as a change of its own" ;;
    rolled-back) say 7 "change $name was rolled back already, because $(value why)" ;;
    closed) say 7 "change $name was closed: what was there then was accepted" ;;
    stuck) set_state rolling-back; launch ;;
    *) claim roll-back "${word:-a person}" "${word:-a person} asked for it" || [ "$(decided)" = roll-back ] || say 7 "change $name is being confirmed already" ;;
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
    put closed-by "${word:-a person}, because $second" || :
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
    as-planned) [ ! -f "$dir/unattended" ] || claim keep "its verification, unattended" "all its required checks passed" || : ;;
    *) claim roll-back "its verification" "its verification was $word${second:+: $second}" || : ;;
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
    [ ! -f "$dir/why" ] || echo "why $(value why)"
    [ ! -f "$dir/closed-by" ] || echo "closed-by $(value closed-by)"
    [ ! -f "$dir/baseline/gateway-answered" ] || echo "gateway-answered $(value baseline/gateway-answered)"
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
    '' | prepared) log "boot: nothing had been changed"; finish rolled-back "the machine went down before anything was changed" ;;
    confirmed | rolled-back | closed) disarm ;;
    committing) write_final || :; run_steps boot any; finish confirmed ;;
    *)
        log "boot: the machine went down while the change was $now"
        if [ "$(decided)" = roll-back ]; then because "$(decided_because)"; else because "the machine went down while it was $now"; fi
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
start | guard | supervise | verdict | confirm | close | status | boot | observe | gateway_answers | announce) "$verb" ;;
roll-back) request_roll_back ;;
more-time) more_time ;;
*) say 2 "engine: no such verb: $verb" ;;
esac
