# --- the guard: it alone moves the state ----------------------------------------------
# Without its last word on disk a change is not over.
finish() {
    tries=0
    case $1 in
    rolled-back) because "${2:-$(decided_because)}" ;;
    confirmed) because "$(decided_because)" ;;
    esac
    until set_state "$1"; do
        # At boot everything else waits for this.
        [ "$verb" != boot ] || [ "$((tries += 1))" -lt "$boot_tries" ] || return 1
        beat; pause
    done
    case $1 in
    rolled-back) log "it was rolled back, because $(value why)" ;;
    confirmed) log "it was kept, because $(value why)" ;;
    esac
    disarm
}
# because WHY: the reason why a change ends as it does; the first one counts.
because() { [ -f "$dir/why" ] || put why "${1:-it never began}" || :; }
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
    if [ "$(decided)" = roll-back ]; then because "$(decided_because)"; else because "$1"; fi
    log "rolling back: $(value why)"
    if [ "$(value state)" = prepared ]; then finish rolled-back; return; fi
    set_state rolling-back
    failed_back=
    run_steps unload any
    back=yes
    each_file restore_file || { back=no; log "not every file could be rolled back"; }
    run_steps reload any
    restore_kernel reload
    if settles_or escalate "$dir/baseline/facts" && [ "$back" = yes ]; then
        # Neighbours may have learnt meanwhile that the former addresses are elsewhere.
        { [ -d "$dir/steps/announce" ] && run_steps announce; } || announce | log_lines ""
        finish rolled-back
        return
    fi
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
    [ -z "$failed_back" ] || put why "$(value why); on the way back $failed_back" || :
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
    { set_state leaving && run_steps leave; } || { roll_back "$failed"; return; }
    { set_state writing && each_file write_file; } || { roll_back "$failed"; return; }
    { set_state activating && run_steps activate; } || { roll_back "$failed"; return; }
    # One more than the whole seconds counted: never earlier than was promised.
    { put deadline "$(($(uptime_now) + $(value confirm-within) + 1))" && set_state waiting; } ||
        { roll_back "its state could not be recorded"; return; }
    await
}
await() {
    while :; do
        beat
        case $(decided) in keep) commit; return ;; roll-back) roll_back "$(decided_because)"; return ;; esac
        if [ -f "$dir/more-time" ]; then
            put deadline "$(($(value deadline) + $(value more-time)))" && log "more time: $(value more-time) s"
            rm -f "$dir/more-time"
        fi
        [ ! -f "$dir/held-until" ] || [ "$(uptime_now)" -lt "$(value held-until)" ] || end_hold
        [ "$(uptime_now)" -lt "$(value deadline)" ] || claim roll-back "the deadline" "nobody confirmed it in time" || :
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
    *) roll_back "its guard was interrupted while it was $(value state)" ;;
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
    # As systemd does it: a guard that has ended well is not begun again, whatever was asked for since. One that died
    # behind its last word has the lock still to clear away.
    until /bin/sh "$dir/engine.sh" guard "$dir"; do
        sleep 1
        [ -d "$dir" ] && [ "$(value state)" != stuck ] || return 0
        ! is_final "$(value state)" || [ "$(readlink "$root/open")" = "$name" ] || return 0
    done
}

