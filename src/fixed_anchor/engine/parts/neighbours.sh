# --- the neighbours on a segment: who has an address, and telling where it is ----------
# By the program of that name whose options these are: another one has others. Fails where there is none.
arping_here() {
    case $(command -v arping >/dev/null && arping -V 2>&1) in *iputils* | *BusyBox*) arping "$@"; return ;; esac
    busybox arping "$@"
}
has_arping() {
    case $(arping_here --help 2>&1 || :) in *"-D"*"-U"* | *"-U"*"-D"*) return 0 ;; esac
    return 1
}
# is_elsewhere ADDRESS INTERFACE: whether another machine answers for an IPv4 address that is not here.
is_elsewhere() {
    if has_arping; then
        arping_here -q -D -c 2 -w 3 -I "$2" "$1" >/dev/null 2>&1
        [ "$?" = 1 ]
        return
    fi
    asked ip neigh flush to "$1" dev "$2" >/dev/null || :
    ping -c 1 -W 1 -I "$2" "$1" >/dev/null 2>&1 && return 0
    # One that drops pings is found all the same, by its MAC.
    case $(asked ip neigh show "$1" dev "$2") in *FAILED*) return 1 ;; *lladdr*) return 0 ;; esac
    return 1
}
# has_moved STEP: whether it sets an address of no file that another machine has by now, as failover programs move them.
has_moved() {
    first='' second='' third='' address='' interface=''
    { read -r first && read -r second && read -r third && read -r address && read -r _ && read -r interface; } <"$1"
    [ "$first $second $third" = "ip address replace" ] || return 1
    # For IPv6 the kernel asks the neighbours itself.
    case $address in *:*) return 1 ;; esac
    asked ip -o addr show dev "$interface" | grep -qF " $address " && return 1
    is_elsewhere "${address%/*}" "$interface" || return 1
    log "not set again: $address on $interface: another machine answers for it by now"
    echo "address $address fixed on $interface" >>"$dir/elsewhere"
}
# Every address that is in force, on all interfaces of the change, at the same time.
announce() {
    observe | {
        while read -r what address _ _ interface; do
            [ "$what" != address ] || announce_one "${address%/*}" "$interface" &
        done
        wait
    }
}
# announce_one ADDRESS INTERFACE: never while another machine answers for it (RFC 5227, section 2.3).
announce_one() {
    case $1 in
    *:*) ;;
    *)
        if has_arping; then
            if is_elsewhere "$1" "$2"; then
                echo "fail: another machine answers for $1 on $2, too; it was not announced"
            elif arping_here -q -U -c 2 -w 3 -I "$2" -s "$1" "$1" >/dev/null 2>&1; then
                echo "pass: nobody else has $1 on $2, and it was announced"
            else
                echo "not announced: $1 on $2: arping failed"
            fi
            return
        fi
        ;;
    esac
    echo "not announced: $1 on $2: this host has nothing to do that with, so neighbours may go by a former MAC for some minutes"
}
