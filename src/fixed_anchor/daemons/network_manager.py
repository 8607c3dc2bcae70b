"""NetworkManager: nmcli(1), NetworkManager(8)."""

from __future__ import annotations

import re

from fixed_anchor.change.steps import Step, Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.daemons.bare import with_its_mtu
from fixed_anchor.daemons.protocol import IN_FILES, INTERFACE, Governs, Questions, Seen, is_enabled, runs
from fixed_anchor.formats.protocol import Declaration, Loaded

_DEVICES = ("nmcli", "-t", "-f", "DEVICE,STATE,CONNECTION,CON-UUID", "device")
#: The options of the lease of an interface, for scripts.
LEASE = ("nmcli", "-t", "-f", "DHCP4", "device", "show", INTERFACE)


class NetworkManager:
    """NetworkManager, with key files or ifcfg files of its own, or profiles of netplan's making."""

    name = "NetworkManager"
    unit = "NetworkManager.service"
    reads = "NetworkManager"
    own_client, numbers_metrics, joins_resolvers = False, True, False
    busy: tuple[str, ...] = (
        "nmcli .*(connection|con|c) (up|down|reload)",
        "nmcli .*(device|dev|d) (connect|disconnect|reapply)",
    )
    charge = Questions(commands=(_DEVICES, is_enabled(unit)))
    further = Questions(for_interface=(LEASE,))

    def governs(self, interface: str, seen: Seen) -> Governs:
        unmanaged = _fields(seen).get(interface, ("",))[0].startswith("unmanaged")
        return Governs(seen.active and not unmanaged, (runs(self.unit, seen.active),))

    def profile(self, interface: str, seen: Seen) -> tuple[str, ...]:
        return tuple(word for word in _fields(seen).get(interface, ())[1:] if word)

    def resolver_place(self, writer: str) -> str:
        # It writes resolv.conf itself, or tells whoever does.
        return IN_FILES

    def lease_file(self, interface: str) -> str | None:
        return None

    def steps(self, before: Declaration | None, after: Declaration | None, link: LinkFacts) -> Steps:
        restart = ("systemctl", "restart", self.unit)
        old = before.loaded if before is not None else None
        new = after.loaded if after is not None else None
        reread = ("nmcli", "connection", "reload")
        if new is None and old is not None:
            # The profile goes. Only told so the daemon lets go of what is in force: started anew it takes over whatever
            # has not gone by then. Started anew it makes its automatic profile, which it does at no other time: `device
            # connect` would make one of its own on disk, for ever.
            flush = ("ip", "address", "flush", "dev", link.name, "scope", "global")
            goes: tuple[Step, ...] = (reread, flush, restart)
            if link.bare is not None and not link.bare.leased:
                goes = (reread, *with_its_mtu(link))
            return Steps(activate=goes, reload=_load(old, link, False), escalate=(restart,), drop=goes)
        if old is None and new is not None:
            load = _load(new, link, False)
            escalate = (restart,) if link.bare is None or link.bare.leased else ()
            back = (reread, *with_its_mtu(link))
            return Steps(activate=load, reload=back, escalate=escalate, drop=load, drop_escalate=load)
        if old is None or new is None:
            return Steps(activate=(restart,), reload=(restart,), drop=(restart,))
        connect: Step = _load(new, link, False)[-1]
        in_place = old.path == new.path
        # A device that runs a profile takes an edit of it as it runs: nothing goes down. Where another one is in
        # force (left by an initrd, made in memory), that would load the wrong one.
        foreign = bool(link.profile and old.names) and not set(link.profile) & set(old.names)
        gently = in_place and old.priority == new.priority and not foreign
        load = _load(new, link, gently)
        if foreign:
            in_force: Step = ("nmcli", "--wait", "30", "connection", "up", "uuid", link.profile[-1])
            back = (
                ("nmcli", "connection", "load", old.path) if in_place else reread,
                in_force,
            )
            again = (*load[1:], restart)
            return Steps(activate=load, reload=back, escalate=again, drop=load, drop_escalate=again)
        reload: tuple[Step, ...] = _load(old, link, gently)
        former: Step = _load(old, link, False)[-1]
        if not in_place:
            # The former profile, an automatic one perhaps, is brought up by its own name: asked to connect the device,
            # the daemon would make a profile on disk where it finds none.
            reload = (reread, former)
        return Steps(
            activate=load, reload=reload, escalate=(former, restart), drop=load, drop_escalate=(connect, restart)
        )


def _fields(seen: Seen) -> dict[str, tuple[str, ...]]:
    """Of each device its state, and name and UUID of the profile in force; nmcli(1) puts a backslash before colons."""
    lines = (re.split(r"(?<!\\):", line) for line in seen.outputs.get(_DEVICES, "").splitlines())
    return {words[0]: tuple(word.replace("\\:", ":") for word in words[1:]) for words in lines}


def _load(profile: Loaded, link: LinkFacts, gently: bool) -> tuple[Step, ...]:
    """The profile read again, and applied to the device as it runs; or brought up."""
    load = ("nmcli", "connection", "load", profile.path)
    if gently:
        return (load, ("nmcli", "device", "reapply", link.name))
    if profile.names:
        return (load, ("nmcli", "--wait", "30", "connection", "up", *profile.names))
    return (load, ("nmcli", "--wait", "30", "device", "connect", link.name))
