"""Addresses of a plan that another interface of the same machine has, and keeps."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.findings import BLOCKER, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.rules.case import HostCase
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface

ON_ANOTHER_INTERFACE = FindingKind(
    "on-another-interface",
    "host",
    BLOCKER,
    "another interface of the machine has the address, and keeps it",
    "Neighbours would be answered by either, and Windows uses it on one of them alone. A warning where "
    "the other link is down.",
    "Take another address, or plan that interface without it.",
)


def other_interface_findings(case: HostCase) -> Iterator[Finding]:
    """The findings about addresses that would be on two interfaces; those that move with the plan are none."""
    host, survey, foreseen = case.host.name, case.survey, case.foreseen
    for name, wanted in foreseen.wanted.items():
        for address in wanted.addresses:
            for other in survey.interfaces:
                seen_in = None if other.name == name else _kept_in(other, address.ip, survey, foreseen)
                if seen_in is None:
                    continue
                yield finding(
                    ON_ANOTHER_INTERFACE,
                    f"{other.name} of {host} has {address.ip}, too, and keeps it"
                    + (f"; its link is {other.state}" if other.is_down else ""),
                    severity=WARNING if other.is_down else None,
                    host=host,
                    interface=name,
                    address=address.ip,
                    seen_in=seen_in,
                )


def _kept_in(other: SurveyedInterface, address: IPAddress, survey: HostSurvey, foreseen: Foreseen) -> str | None:
    """Where an address is seen that an interface will have after the change as well; ``None`` where it will not."""
    after = foreseen.declared.get(other.name)
    is_planned = other.name in foreseen.wanted
    config = after.config if after is not None else None if is_planned else other.declared
    if config is not None and any(a.ip == address for a in config.addresses):
        if after is not None:
            return str(after.where_address(address))
        return str(other.declared_in[0]) if other.declared_in else f"the files of {survey.host}"
    held = [a for a in other.addresses if a.address.ip == address]
    # What is fixed goes with the files of a plan; a lease is asked for once more.
    asks = is_planned and foreseen.wanted[other.name].method(address.version) in ("dhcp", "ra", "untouched")
    if held and (not is_planned or (asks and held[0].origin != "fixed")):
        return f"the kernel of {survey.host}"
    return None
