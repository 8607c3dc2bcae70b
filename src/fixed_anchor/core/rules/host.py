"""What the host itself says about a plan."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from fixed_anchor.core.errors import InputError
from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.rules.case import InterfaceCase, SiteCase
from fixed_anchor.core.rules.given import given_findings
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface

IPV6_GOES_WITH_LEASE = FindingKind(
    "ipv6-goes-with-lease",
    "host",
    WARNING,
    "an IPv6 address that the lease client made goes with the IPv4 lease",
    "dhcpcd does IPv6 by itself; the kernel takes over what routers announce, with another address.",
    "Plan an IPv6 address to hold, where somebody uses this one.",
)
HOSTNAME_DIFFERS = FindingKind(
    "hostname-differs",
    "host",
    NOTE,
    "the plan names the host otherwise than it does itself",
    "The hostname changes with the addresses, and with it what logs, mails and certificates say.",
    "Leave `hostname:` out of the plan where that is not meant.",
)
HOST_NOT_REACHED = FindingKind(
    "host-not-reached",
    "host",
    WARNING,
    "a host that the plan reaches could not be looked at",
    "What its files say, which address it has and whether the change can be made there is not known.",
    "See why it is not reached, and try the command that is named by hand.",
    undetermined=True,
)
INTERFACE_MISSING = FindingKind(
    "interface-missing",
    "host",
    BLOCKER,
    "the machine has no such interface",
    "Its files would configure nothing, and the address would be lost.",
    "Compare the plan with `fixed-anchor survey`.",
)
MAC_DIFFERS = FindingKind(
    "mac-differs",
    "host",
    BLOCKER,
    "the interface has another MAC",
    "This may be another machine, or a replaced network card.",
    "Compare the plan with `fixed-anchor survey`.",
)
LINK_DOWN = FindingKind(
    "link-down",
    "host",
    WARNING,
    "the link is down",
    "Nothing can be verified over a link that is down.",
    "Look at the cable, the switch port, or the virtual switch.",
)
LINK_OFF = FindingKind(
    "link-off",
    "host",
    NOTE,
    "the link is switched off, as it is until something configures it",
    "Nobody is heard over it. `cutover` switches it on before it probes, and off again where it changes nothing.",
    "To have `check` ask the wire, too: `ip link set dev NAME up`.",
)
NO_DHCP_ANSWER = FindingKind(
    "no-dhcp-answer",
    "host",
    WARNING,
    "the interface gave itself a link-local address",
    "169.254.0.0/16 means that no DHCP server answered (RFC 3927).",
    "Look at the cable and VLAN first: a static address does not cure a wrong one.",
)
YOUR_SESSION_RIDES_HERE = FindingKind(
    "your-session-rides-here",
    "host",
    NOTE,
    "your session comes in through this interface",
    "If the change goes wrong you lose it; the guard then rolls the change back.",
    "Keep a second way in at hand.",
)


def _of_dhcpcd(case: InterfaceCase, found: SurveyedInterface, survey: HostSurvey) -> Iterator[Finding]:
    """What of IPv6 goes with dhcpcd, which does it by itself where only IPv4 is declared (dhcpcd(8))."""
    host, interface = case.host, case.interface
    goes = found.link.client == "dhcpcd" and interface.ipv4 in ("fixed", "off") and interface.ipv6 == "untouched"
    if not goes or (found.declared is not None and found.declared.ipv6 in ("dhcp", "fixed")):
        return
    for held in found.addresses:
        if held.address.version == 6 and held.origin in ("dhcp", "slaac"):
            leased = held.origin == "dhcp"
            yield finding(
                IPV6_GOES_WITH_LEASE,
                f"dhcpcd has given {interface.name} {held.address}, and ends with the lease: "
                + ("nobody else asks DHCPv6" if leased else "the kernel makes another one of the same prefix"),
                host=host.name,
                interface=interface.name,
                address=held.address.ip,
                seen_in=f"the processes of {survey.host}",
                severity=BLOCKER if leased else None,
                remedy="plan IPv6 as well: `ipv6: dhcp`, or an address to hold" if leased else None,
            )


def host_findings(case: InterfaceCase) -> Iterator[Finding]:
    """The findings of the family ``host`` for one interface; none where its host is not reached."""
    plan, host, interface, survey = case.plan, case.host, case.interface, case.survey
    if survey is None:
        return
    raised = partial(finding, host=host.name, interface=interface.name)
    where = f"{plan.file}:{interface.line}"
    found = case.found
    if survey.unknown and interface is host.interfaces[0]:
        what = f"{host.name} could not be looked at{'' if found is None else ' as a whole'}: {survey.unknown}"
        yield raised(HOST_NOT_REACHED, what, seen_in=where, remedy="collect again, elevated")
    if found is None and survey.unknown:
        return
    if found is None:
        elsewhere = survey.by_mac(interface.mac) if interface.mac else ()
        yield raised(
            INTERFACE_MISSING,
            survey.missing(interface.name),
            seen_in=where,
            remedy=f"its MAC {interface.mac} is at {elsewhere[0].name}: correct the name in the plan"
            if elsewhere
            else None,
        )
        return
    mac = found.link.permanent_mac or found.link.mac
    if interface.mac and mac and interface.mac not in (mac, found.link.mac):
        yield raised(
            MAC_DIFFERS,
            f"{interface.name} of {host.name} has the MAC {mac}, the plan says {interface.mac}",
            seen_in=plan.where_of(host, interface, "mac"),
        )
    if survey.running and found.link.bare is not None and not found.link.bare.up:
        yield raised(
            LINK_OFF,
            f"{interface.name} is switched off, and no file declares it",
            seen_in=f"the kernel of {survey.host}",
            remedy=f"To have `check` ask the wire over it, too: `ip link set dev {interface.name} up`.",
        )
    elif survey.running and found.is_down:
        yield raised(LINK_DOWN, f"the link of {interface.name} is down", seen_in=f"the kernel of {survey.host}")
    yield from _of_dhcpcd(case, found, survey)
    for address in found.addresses:
        if address.origin == "link-local" and address.address.version == 4:
            yield raised(
                NO_DHCP_ANSWER,
                f"{interface.name} gave itself {address.address.ip}: no DHCP server answered",
                address=address.address.ip,
                seen_in=f"the kernel of {survey.host}",
            )
    # Its first label alone is the same name, for whoever has it that way.
    names = () if host.hostname is None else (host.hostname, host.hostname.partition(".")[0])
    if names and survey.running and survey.hostname not in names and interface is host.interfaces[0]:
        yield raised(
            HOSTNAME_DIFFERS,
            f"{host.name} calls itself {survey.hostname}, and the plan {host.hostname}",
            interface=None,
            seen_in=plan.where("hosts", host.name, "hostname", line=host.line),
        )
    yield from given_findings(case)
    session = case.session
    if session is not None and any(a.address.ip == session for a in found.addresses):
        yield raised(
            YOUR_SESSION_RIDES_HERE,
            f"your session uses {session} on {interface.name}",
            address=session,
            seen_in="your session",
        )


def unreached_findings(case: SiteCase) -> Iterator[Finding]:
    """The hosts that the plan reaches, and that could not be looked at."""
    plan = case.facts.plan
    for host in case.facts.hosts:
        why = case.facts.unreached.get(host.name)
        if why is None:
            continue
        message = f"{why.where}: {why.what}" if why.where else why.what
        yield finding(
            HOST_NOT_REACHED,
            message if host.name in message else f"{host.name} could not be looked at: {message}",
            host=host.name,
            seen_in=plan.where("hosts", host.name, "reach", line=host.line),
            remedy=why.remedy,
        )


def host_of_machine(plan: Plan, survey: HostSurvey, wanted: str | None) -> HostPlan:
    """The host of ``plan`` whose MACs are this machine's; ``wanted`` (``--host``) only narrows.

    Raises :class:`InputError` where no host or more than one matches.
    """
    own = survey.own_macs()
    matching = [
        host for host in plan.hosts.values() if any(i.mac is not None and i.mac in own for i in host.interfaces)
    ]
    if wanted is not None:
        if wanted not in plan.hosts:
            raise InputError(
                f"the plan has no host {wanted}",
                file=plan.file,
                expected="one of " + ", ".join(plan.hosts),
            )
        matching = [h for h in matching if h.name == wanted]
    if len(matching) == 1:
        return matching[0]
    if matching:
        raise InputError(
            f"this machine has MACs of {len(matching)} hosts of the plan: {', '.join(h.name for h in matching)}",
            file=plan.file,
            remedy="name the one that is meant with --host",
        )
    macs = ", ".join(sorted(own)) or "none"
    planned = f"host {wanted}" if wanted else "any host"
    raise InputError(
        f"no MAC of {planned} of this plan is on this machine (it has {macs})",
        file=plan.file,
        remedy="this is the plan of another machine; run the change there",
    )
