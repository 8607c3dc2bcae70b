#!/bin/sh
# The collector of Fixed Anchor: reads what a survey of this host needs, and prints it.
#
#   sh collector.sh >HOST.collection        as root; nothing is written on the host
#
# What it prints holds the interface files as they are, keys of wireless networks among
# them, and lines of other files that name its addresses: keep it as private as those.
# On the other machine:
#
#   fixed-anchor propose --survey HOST.collection --at ADDRESS -o plan.yaml
# What daemons and formats need is filled in at the marks that stand between @ and @.
set -u
export LC_ALL=C
PATH=${PATH:-/usr/sbin:/usr/bin:/sbin:/bin}:/usr/sbin:/sbin

# Each line of contents begins with a bar; the last one with a plus where no line end follows it.
contents() {
    while IFS= read -r line; do printf '|%s\n' "$line"; done
    [ -z "$line" ] || printf '+%s\n' "$line"
}
file() {
    # A link to /dev/null is an empty file that hides others of its name.
    if [ -L "$1" ] && [ "$(readlink "$1")" = /dev/null ]; then
        echo "file 644 0 0 $1"
        return 0
    fi
    [ -f "$1" ] && [ -r "$1" ] || return 0
    echo "file $(stat -L -c '%a %u %g' "$1" 2>/dev/null || echo '644 0 0') $1"
    # A shell reads byte by byte, for which settings of the kernel have but the first one.
    # shellcheck disable=SC2002
    case $1 in /proc/*) cat "$1" | contents ;; *) contents <"$1" ;; esac
}
link() { [ ! -L "$1" ] || printf 'link %s\n|%s\n' "$1" "$(readlink "$1")"; }
# The exit status goes last: it is known only then.
run() {
    echo "run $#"
    for word in "$@"; do printf ' %s\n' "$word"; done
    status=127
    if command -v "$1" >/dev/null; then
        output=$("$@" 2>/dev/null)
        status=$?
        [ -z "$output" ] || printf '%s\n' "$output" | contents
    fi
    echo "status $status"
}

active() { systemctl is-active --quiet "$1" 2>/dev/null; }

echo "fixed-anchor collection 1"
echo "host $(hostname 2>/dev/null || cat /proc/sys/kernel/hostname)"
if [ "$(id -u)" != 0 ]; then echo "this was not run as root: files that only root may read are missing" >&2; fi

run ip -j -d address show
run ip -j route show
run ip -j -6 route show
run ip rule show
run ip -6 rule show
run systemctl list-jobs --no-legend --plain
run ss -H -l -n -t -u -p
# @COMMANDS@
for interface in /sys/class/net/*; do
    interface=${interface##*/}
    [ "$interface" != lo ] || continue
    # @FOR_INTERFACE@
    link "/sys/class/net/$interface/device/driver"
done
# Of the processes only those that matter: others may have secrets among their arguments.
processes='@PROCESSES@'
echo "run 3"
printf ' %s\n' ps -eo args
# shellcheck disable=SC2009  # the whole lines are wanted
ps -eo args 2>/dev/null | grep -E "$processes" | grep -v grep | contents
echo "status 0"
for folder in /run/systemd/system /run/openrc /etc/rcS.d; do run test -d "$folder"; done
run test -f /etc/inittab
run test -L /etc/runlevels/sysinit/networking
for program in /usr/sbin/insserv /sbin/insserv; do run test -x "$program"; done

link /etc/resolv.conf
# shellcheck disable=SC2043  # there are more of them once that is done
for path in @LINKS@; do link "$path"; done
file /proc/sys/kernel/hostname
for path in /sys/class/net/*/uevent /proc/sys/net/ipv6/conf/*/mtu /proc/sys/net/ipv6/conf/*/accept_ra /proc/uptime /proc/mounts /etc/resolv.conf \
    /etc/cloud/cloud-init.disabled /etc/cloud/cloud.cfg.d/99-fixed-anchor.cfg /run/udev/data/n* \
    /etc/machine-id /etc/ssh/ssh_host_*_key.pub /var/lib/dhcp/dhclient*.leases /var/lib/dhcpcd/duid /etc/dhcpcd.duid \
    /sys/class/iscsi_connection/*/persistent_address \
    /etc/hosts /etc/ssh/sshd_config /etc/ssh/sshd_config.d/*.conf \
    /etc/systemd/system/ssh*.socket /etc/systemd/system/ssh*.socket.d/*.conf; do
    file "$path"
done
# shellcheck disable=SC2043  # there are more of them once that is done
for path in "@FILES@"; do
    file "$path"
done
# What names the addresses of this host: in files that administrators write, up to 1 MiB, for 10 s at most.
set --
for address in $(ip -o address show scope global 2>/dev/null | sed -n 's/.* inet6\{0,1\} \([^/ ]*\).*/\1/p'); do
    set -- "$@" -e "$address"
done
if [ $# != 0 ]; then run @SEARCH@ "$@" '{}' +; fi
run @LARGE@
# By which link the root file system comes in, where that is over the network.
root=$(sed -n 's/^\([^ ]*\) \/ .*/\1/p' /proc/mounts | grep -oE '([0-9]+\.){3}[0-9]+|\[[0-9a-fA-F:]+\]' | tr -d '[]')
for server in $root $(cat /sys/class/iscsi_connection/*/persistent_address 2>/dev/null); do
    run ip -j route get "$server"
done
# Of first-boot provisioning only what it says of the network: the rest may hold passwords.
for path in /etc/cloud/cloud.cfg /etc/cloud/cloud.cfg.d/*.cfg; do
    [ "${path##*/}" != 99-fixed-anchor.cfg ] && [ -f "$path" ] || continue
    echo "file 644 0 0 $path"
    grep -A 1 '^network:' "$path" | contents
done
echo "end"
