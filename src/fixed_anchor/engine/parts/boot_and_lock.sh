# --- the boot unit, and the lock: one change at a time --------------------------------
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
# let_end NAME: a guard clears away after its last word; what it takes for its own lock must not be ours by then.
let_end() {
    tries=0
    while pid=$(cat "$root/$1/heartbeat" 2>/dev/null) && pid=${pid%% *} && [ -n "$pid" ]; do
        case $({ tr '\0' ' ' <"/proc/$pid/cmdline"; } 2>/dev/null) in
        *" guard $root/$1 "* | *" boot $root/$1 "*) ;;
        *) return 0 ;;
        esac
        [ "$((tries += 1))" -le 50 ] || die 7 "change $1 is just ending on this host"
        pause
    done
}
take_lock() {
    # Two tries: the second after a lock that a finished or never begun change left behind.
    for _ in 1 2; do
        # -n: the link leads to a folder, and would otherwise be made inside it.
        ln -sn "$name" "$root/open" 2>/dev/null && return 0
        other=$(readlink "$root/open") || continue
        [ "$other" != "$name" ] || return 0
        is_over "$other" || die 7 "change $other is open on this host; confirm, restore or close it first"
        let_end "$other"
        left=$other
        # Only one may clear it away: who is the first to say so there, or, where that one died, in its folder.
        while ! ln -sn "$name" "$root/$other/cleared-by" 2>/dev/null; do
            next=$(readlink "$root/$other/cleared-by")
            [ "$next" != "$name" ] || break
            { [ -d "$root/$next" ] && is_over "$next"; } || die 7 "change $next is just being begun on this host"
            other=$next
        done
        # Who was the first may have cleared it away, and died: then it is somebody else's by now.
        [ "$(readlink "$root/open")" != "$left" ] || rm -f "$root/open"
    done
    die 7 "another change is open on this host"
}

