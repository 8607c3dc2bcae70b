"""Interfaces that no file declares yet: who takes them by the plan, and how they are looked at while they are off."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager

import msgspec

from fixed_anchor.core.config import Bare
from fixed_anchor.core.errors import NoAccess, NotSupported
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface, Taker
from fixed_anchor.formats import FORMATS
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe import kernel

#: Profiles that NetworkManager made without being told: they are there until it stops.
_AUTOMATIC = "/run/NetworkManager/system-connections/"
#: Seconds that a link has for its carrier after it was switched on.
_CARRIER = 5.0


def with_takers(survey: HostSurvey, host: HostPlan, plan_file: str) -> HostSurvey:
    """The survey in which the stack that the plan names for ``host`` takes what no file declares.

    Raises :class:`NotSupported` for an interface of the plan that another stack declares, or that the named one cannot
    have.
    """
    if host.stack is None or survey.system:
        return survey
    planned = {i.name for i in host.touched}
    found = tuple(
        _taken(survey, one, host.stack, plan_file, host.line) if one.name in planned else one
        for one in survey.interfaces
    )
    return msgspec.structs.replace(survey, interfaces=found)


def _taken(survey: HostSurvey, found: SurveyedInterface, stack: str, file: str, line: int) -> SurveyedInterface:
    automatic = bool(found.declared_in) and found.declared_in[0].file.startswith(_AUTOMATIC)
    if found.declared is not None and found.stack == stack:
        return found
    if found.declared is not None and not automatic:
        raise NotSupported(
            f"{found.stack} declares {found.name} ({found.declared_in[0]}), and the plan says `stack: {stack}`",
            file=file,
            line=line,
            remedy="leave `stack:` out: an interface stays with the stack that declares it",
        )
    able = [taker for taker in (*found.takers, *survey.takers) if taker.stack == stack]
    if automatic and not able and stack == "netplan":
        # It has NetworkManager carry out what it declares.
        able = [Taker(stack, "NetworkManager", "the plan says so")]
    if not able:
        there = ", ".join(dict.fromkeys(taker.stack for taker in (*found.takers, *survey.takers))) or "none"
        raise NotSupported(
            f"the plan says `stack: {stack}`, and nothing on {survey.host} reads its files",
            file=file,
            line=line,
            remedy=f"name one that could take {found.name}: {there}",
        )
    daemon = found.daemon if automatic and found.daemon is not None else able[0].daemon
    link = found.link
    if automatic:
        link = msgspec.structs.replace(link, bare=Bare(leased=bool(link.leased)))
    return msgspec.structs.replace(
        found,
        link=link,
        stack=stack,
        daemon=daemon,
        time_daemon=FORMATS[stack].time_daemon,
        declared=None,
        declared_in=(),
        takers=(able[0],),
    )


def _is_ready(link: kernel.KernelLink | None) -> bool:
    """Whether a link has a carrier, and an address of its own by which it can ask for IPv6 neighbours."""
    return link is not None and link.state == "up" and any(a.address.is_link_local for a in link.addresses)


@contextmanager
def switched_on(machine: Machine, names: Iterable[str], survey: HostSurvey) -> Iterator[Callable[[bool], None]]:
    """Switches those of ``names`` on that no file declares and that are off: nobody is heard over a link that is off.

    Afterwards they are off again, unless what this yields was last called with true: then a change has begun.
    Raises :class:`NoAccess` where that is not allowed.
    """
    off = [i for i in survey.interfaces if i.name in names and i.link.bare is not None and not i.link.bare.up]
    kept = [False]
    try:
        for found in off:
            ran = machine.run(("ip", "link", "set", "dev", found.name, "up"))
            if not ran.good:
                raise NoAccess(f"{found.name} cannot be switched on: {ran.err.strip() or ran.status}")
        until = time.monotonic() + _CARRIER
        while off and time.monotonic() < until:
            links = {link.facts.name: link for link in kernel.links(machine)}
            if all(_is_ready(links.get(found.name)) for found in off):
                break
            time.sleep(0.2)
        yield kept.append
    finally:
        for found in off if not kept[-1] else ():
            machine.run(("ip", "link", "set", "dev", found.name, "down"))
