#!/bin/sh
# The first process of a lab host, in namespaces of its own: makes the mounts of a machine
# and hands over to its init.   host-init.sh ROOT NAME INIT [READ-ONLY-FOLDER...]
set -eu
root=$1 name=$2 init=$3
shift 3

mount --make-rprivate /
mount --bind "$root" "$root"
hostname "$name"
mount -t proc proc "$root/proc"
# A sysfs of its own, writable: udev must run in there.
mount -t sysfs sysfs "$root/sys"
mount -t tmpfs -o mode=755 tmpfs "$root/run"
mount -t tmpfs -o mode=1777 tmpfs "$root/tmp"
mount -t tmpfs -o mode=755 tmpfs "$root/dev"
for device in null zero full random urandom tty; do
    : >"$root/dev/$device"
    mount --bind "/dev/$device" "$root/dev/$device"
done
mkdir "$root/dev/pts" "$root/dev/shm"
mount -t devpts -o newinstance,ptmxmode=0666 devpts "$root/dev/pts"
ln -s pts/ptmx "$root/dev/ptmx"
mount -t tmpfs tmpfs "$root/dev/shm"
: >"$root/dev/console"
ln -s /proc/self/fd "$root/dev/fd"
# A systemd of these days boots with a pure cgroup 2 alone.
if grep -q ' /sys/fs/cgroup cgroup2 ' /proc/mounts || grep -q '^VERSION_CODENAME=trixie' "$root/etc/os-release"; then
    mount -t cgroup2 cgroup2 "$root/sys/fs/cgroup"
else
    mount -t tmpfs -o mode=755 tmpfs "$root/sys/fs/cgroup"
    mkdir "$root/sys/fs/cgroup/systemd" "$root/sys/fs/cgroup/unified"
    mount -t cgroup -o none,name=systemd cgroup "$root/sys/fs/cgroup/systemd"
    mount -t cgroup2 cgroup2 "$root/sys/fs/cgroup/unified"
fi
for folder in "$@"; do
    mkdir -p "$root$folder"
    mount --rbind "$folder" "$root$folder"
    mount -o remount,bind,ro "$root$folder"
done

mkdir -p "$root/.outside"
cd "$root"
pivot_root . .outside
umount -l /.outside
PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
case $init in
systemd) exec env -i container=lab PATH=$PATH /lib/systemd/systemd systemd.unit=multi-user.target systemd.log_target=journal ;;
sysv | openrc) exec env -i container=lab PATH=$PATH /sbin/init ;;
esac
