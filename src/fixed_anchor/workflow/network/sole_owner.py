"""Whether a host is alone with its addresses; and telling its neighbours so, once it was seen."""

from __future__ import annotations

import time
from functools import partial

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, skipped_check
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.packets.arp_probes import AFTERWARDS
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.network.announce import announce, announce_what_is_alone, is_router
from fixed_anchor.workflow.network.look import Looked, look


def sole_owner_checks(
    host: str, wanted: InterfaceConfig, survey: HostSurvey, vantage: Vantage, beside: tuple[IPAddress, ...] = ()
) -> tuple[list[VerifyCheck], list[IPAddress], Looked | None]:
    """Whether anybody else on the segment has a fixed address too. No stack tells: all hold duplicates in silence.

    Also returns the addresses of which it was seen that nobody else has them, and what the look saw; it asks for
    those ``beside`` as well. A link without neighbours has no check.
    """
    if not vantage.has_neighbours:
        return [], [], None
    addresses = [a.ip for a in wanted.addresses if wanted.method(a.version) == "fixed"]
    skipped = partial(skipped_check, "sole-owner", host, wanted.interface)
    if vantage.why_not is not None:
        return [skipped(vantage.why_not, str(address)) for address in addresses], [], None
    if vantage.frames is None:
        return [_by_table(host, wanted.interface, vantage, survey.own_macs(), a) for a in addresses], [], None
    begun = time.monotonic()
    try:
        looked = look(vantage, (*addresses, *beside), pattern=AFTERWARDS, in_use=beside)
    except NoAccess as error:
        return [skipped(str(error), str(address)) for address in addresses], [], None
    seconds = round(time.monotonic() - begun, 3)
    own = survey.own_macs()
    checks: list[VerifyCheck] = []
    sole: list[IPAddress] = []
    for address in addresses:
        answer = looked.answers.get(address)
        if answer is None:
            checks.append(skipped(looked.why_not.get(address, "not asked"), str(address)))
            continue
        others = [h.mac for h in answer.foreign(own)]
        if not others:
            sole.append(address)
        checks.append(
            VerifyCheck(
                "sole-owner",
                True,
                host,
                wanted.interface,
                vantage.name,
                f"nobody else has {address}",
                f"{', '.join(others)} has {address} too" if others else _alone(address, answer.proxies),
                FAIL if others else PASS,
                f"another machine answered {answer.asked}" if others else None,
                seconds,
                str(address),
            )
        )
    return checks, sole, looked


def _by_table(host: str, interface: str, vantage: Vantage, own: frozenset[str], address: IPAddress) -> VerifyCheck:
    """The check where no frames can be sent, as far as somebody there can tell."""
    begun = time.monotonic()
    try:
        found = vantage.table.others_with(address) if vantage.table is not None else None
    except NoAccess as error:
        return skipped_check("sole-owner", host, interface, str(error), str(address))
    if found is None:
        why = f"{vantage.name} sends no frames: that needs root and Python, and nothing else there can tell"
        return skipped_check("sole-owner", host, interface, why, str(address))
    others = [mac for mac in found if mac not in own]
    return VerifyCheck(
        "sole-owner",
        True,
        host,
        interface,
        vantage.name,
        f"nobody else has {address}",
        f"{', '.join(others)} has {address} too" if others else _alone(address, ()),
        FAIL if others else PASS,
        f"another machine answered {found[others[0]]}" if others else None,
        round(time.monotonic() - begun, 3),
        str(address),
    )


def why_not_provable(vantage: Vantage, wanted: InterfaceConfig) -> str | None:
    """Why it could not be seen afterwards that nobody else has the addresses of ``wanted``; ``None`` where it can."""
    fixed = [a.ip for a in wanted.addresses if wanted.method(a.version) == "fixed"]
    if not fixed or vantage.why_not is not None or vantage.frames is not None or vantage.table is None:
        return None
    # Any address will do: the question is whether there is somebody to ask.
    return f"{vantage.name} sends no frames" if vantage.table.others_with(fixed[0]) is None else None


def _alone(address: IPAddress, proxies: tuple[str, ...]) -> str:
    more = f"; {' and '.join(proxies)} answers for every address (proxy ARP)" if proxies else ""
    return f"nobody else has {address}{more}"


def announced_checks(
    host: str,
    machine: Machine,
    wanted: InterfaceConfig,
    survey: HostSurvey,
    vantage: Vantage,
    sole: list[IPAddress],
) -> list[VerifyCheck]:
    """Tells the neighbours where addresses are now: the ``sole`` ones, and those leased that nobody else has either."""
    found = survey.interface(wanted.interface)
    leased = [a.address.ip for a in found.addresses if a.origin == "dhcp"] if found is not None else []
    if vantage.frames is None:
        return []
    begun = time.monotonic()
    router = is_router(machine, wanted.interface)
    try:
        why_not = announce(vantage.frames, sole, router) if sole else {}
        if leased:
            why_not |= announce_what_is_alone(vantage, leased, survey.own_macs(), router)
    except NoAccess as error:
        why_not = dict.fromkeys((*sole, *leased), str(error))
    seconds = round(time.monotonic() - begun, 3)
    return [
        VerifyCheck(
            "announced",
            False,
            host,
            wanted.interface,
            vantage.name,
            f"the neighbours know where {address} is",
            f"{address} was {'not ' if address in why_not else ''}announced",
            FAIL if address in why_not else PASS,
            why_not.get(address),
            seconds,
            str(address),
        )
        for address in (*sole, *leased)
    ]
