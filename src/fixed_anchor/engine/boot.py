"""What rolls an unconfirmed change back at boot, for each kind of init.

It exists only while a change is open, and runs once the local file systems are there and
before anything reads the interface files.
"""

from __future__ import annotations

from fixed_anchor.daemons import DAEMONS, HOST_WIDE
from fixed_anchor.machines.protocol import Machine

_SYSTEMD = """\
# Exists only while an address change is open. Without confirmation before the machine
# went down, this brings the former files back before any network service reads them.
[Unit]
Description=Fixed Anchor: roll back an unconfirmed address change
DefaultDependencies=no
RequiresMountsFor=/etc {folder}
After=local-fs.target
Wants=network-pre.target
Before=network-pre.target {units}
Before=sysinit.target shutdown.target
Conflicts=shutdown.target

[Service]
Type=oneshot
# Nothing of the boot waits longer for it.
TimeoutStartSec=180
ExecStart=/bin/sh {folder}/engine.sh boot {folder}

[Install]
WantedBy=sysinit.target
"""

# The header is that of the Linux Standard Base, which insserv(8) sorts by.
_SYSV = """\
#!/bin/sh
### BEGIN INIT INFO
# Provides:          fixed-anchor-roll-back
# Required-Start:    mountall $local_fs
# Required-Stop:
# X-Start-Before:    networking ifupdown-clean $network
# Default-Start:     S
# Default-Stop:
# Short-Description: Roll back an unconfirmed address change
### END INIT INFO
# Exists only while an address change is open.
case ${{1-}} in
start | "") exec /bin/sh {folder}/engine.sh boot {folder} ;;
esac
"""

_OPENRC = """\
#!/sbin/openrc-run
# Exists only while an address change is open.
description="Roll back an unconfirmed address change"
depend() {{
    {after}
    before net {services} dhcpcd
}}
start() {{
    /bin/sh {folder}/engine.sh boot {folder}
}}
"""

#: Text, path, mode, and the link that turns it on, by kind of init. The engine adds the change's number to both names.
INITS = {
    "systemd": (
        _SYSTEMD,
        "/etc/systemd/system/fixed-anchor-roll-back.service",
        "644",
        "/etc/systemd/system/sysinit.target.wants/fixed-anchor-roll-back.service",
    ),
    "sysv": (_SYSV, "/etc/init.d/fixed-anchor-roll-back", "755", "/etc/rcS.d/S01fixed-anchor-roll-back"),
    # The same, where insserv(8) works the order out beforehand.
    "sysv-insserv": (_SYSV, "/etc/init.d/fixed-anchor-roll-back", "755", "/etc/rcS.d/S01fixed-anchor-roll-back"),
    "openrc": (
        _OPENRC.replace("{after}", "need localmount"),
        "/etc/init.d/fixed-anchor-roll-back",
        "755",
        "/etc/runlevels/boot/fixed-anchor-roll-back",
    ),
    # Debian's OpenRC starts what was in rcS.d, the network among it, in the run level before that.
    "openrc-sysinit": (
        _OPENRC.replace("{after}", "after mountall.sh localmount"),
        "/etc/init.d/fixed-anchor-roll-back",
        "755",
        "/etc/runlevels/sysinit/fixed-anchor-roll-back",
    ),
}


def init_of(machine: Machine) -> str:
    """What boots ``machine``: a key of :data:`INITS`, or empty where it is none of them."""

    def there(kind: str, path: str) -> bool:
        return machine.run(("test", kind, path)).status == 0

    if there("-d", "/run/systemd/system"):
        return "systemd"
    if there("-d", "/run/openrc"):
        return "openrc-sysinit" if there("-L", "/etc/runlevels/sysinit/networking") else "openrc"
    if not there("-d", "/etc/rcS.d") or not there("-f", "/etc/inittab"):
        return ""
    return "sysv-insserv" if there("-x", "/usr/sbin/insserv") or there("-x", "/sbin/insserv") else "sysv"


def boot_files(init: str, folder: str) -> dict[str, bytes]:
    """The files of a change in ``folder`` that tell the engine what to install for the boot."""
    if init not in INITS:
        return {}
    text, path, mode, wants = INITS[init]
    # What reads the files of a change when it starts: those of the interfaces, and those of the whole host.
    wide = [program.unit for program in HOST_WIDE if program.unit is not None]
    units = [*(daemon.unit for daemon in DAEMONS.values()), *wide]
    services = [unit.removesuffix(".service") for unit in units]
    files = {
        "boot-unit": text.format(folder=folder, units=" ".join(units), services=" ".join(services)),
        "boot-unit-path": f"{path}\n",
        "boot-unit-mode": f"{mode}\n",
        "boot-unit-wants": f"{wants}\n",
    }
    if init == "sysv-insserv":
        files["steps/arm/01"] = "insserv\n"
    return {name: data.encode() for name, data in files.items()}
