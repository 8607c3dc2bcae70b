# --- the state that must come back, and whether it has --------------------------------
# What counts of the present state: IPv4 addresses and whether they are leased, fixed IPv6 addresses, whether there
# are any that routers or a lease give, and the gateways of default routes on the interface.
observe() { while read -r interface; do observe_one; done <"$dir/interface"; }
observe_one() {
    asked ip -o addr show dev "$interface" scope global | while read -r _ _ family address rest; do
        case "$family $rest" in
        "inet "*dynamic*) echo "address $address leased on $interface" ;;
        "inet6 "*temporary*) ;;
        "inet6 "*dynamic*) echo "family IPv6 given on $interface" ;;
        *) echo "address $address fixed on $interface" ;;
        esac
    done | sort -u
    for family in -4 -6; do
        asked ip "$family" route show default dev "$interface" | while read -r _ via gateway rest; do
            case "$family $via $rest" in
            "-6 via "*"proto ra"* | "-6 via "*expires*) echo "router IPv6 given on $interface" ;;
            "-4 via "* | "-6 via "*) echo "gateway $gateway on $interface" ;;
            esac
        done | sort -u
    done
}
gateway_answers() {
    gateway=$(asked ip -4 route show default | while read -r _ _ hop _; do echo "$hop"; break; done)
    [ -n "$gateway" ] || return 1
    ping -c 1 -W 1 "$gateway" >/dev/null 2>&1 && return 0
    case $(asked ip neigh show "$gateway") in *REACHABLE* | *DELAY*) ;; *) return 1 ;; esac
}
take_baseline() {
    mkdir -p "$dir/baseline" && observe >"$dir/baseline/facts"
    asked ip route show >"$dir/baseline/routes" 2>&1 || :
    asked ip rule show >"$dir/baseline/rules" 2>&1 || :
    if gateway_answers; then echo yes; else echo no; fi >"$dir/baseline/gateway-answered"
    durable "$dir/baseline"
}
# same_facts SEEN WANTED: a lease may come back with another address: that it is leased again is what counts.
same_facts() { [ "$(counted "$1" "$2")" = "$(counted "$2" "$2")" ]; }
counted() {
    while IFS= read -r fact; do
        ! grep -qxF "$fact" "$dir/elsewhere" 2>/dev/null || continue
        case $fact in
        # What a program has set meanwhile that moves addresses between machines is none of this change.
        "address "*" fixed on "*) { grep -qxF "$fact" "$2" || grep -qxF "$fact" "$dir/expect"; } 2>/dev/null || continue ;;
        # Routers may have begun to announce themselves meanwhile.
        "family "* | "router "*) grep -qxF "$fact" "$2" || continue ;;
        "address "*" leased on "*) fact="address leased on ${fact##* }" ;;
        esac
        echo "$fact"
    done <"$1" | sort
}
# settles SECONDS FACTS: waits until what is observed is as the file FACTS says. Fails with 2 where it is, and only the
# gateway does not answer: switch ports forward half a minute after the link is there.
settles() {
    since=$(uptime_now) short=
    while :; do
        { observe >"$dir/observed"; } 2>/dev/null || return 1
        limit=$1 short=
        if same_facts "$dir/observed" "$2"; then
            { [ "$(value baseline/gateway-answered)" = no ] || gateway_answers; } && return 0
            limit=$(value gateway-patience) limit=${limit:-$gateway_limit} short=2
            [ "$limit" -ge "$1" ] || limit=$1
        fi
        [ "$(uptime_now)" -lt "$((since + limit))" ] || return "${short:-1}"
        beat; pause
    done
}
# settles_or PHASE FACTS: the steps of PHASE one by one, as long as the stack sticks; no link is flapped for a gateway.
settles_or() {
    settles 20 "$2" && return 0
    [ "$?" != 2 ] || return 1
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
    for step in "$dir"/steps/kernel/*; do
        has_moved "$step" || run_step "$step" || :
    done
}
