"""Addresses of a plan that another interface of the same machine has, and keeps."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.catalogue.kinds import WARNING
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface


def other_interface_findings(host: str, survey: HostSurvey, foreseen: Foreseen) -> Iterator[Finding]:
    """The findings about addresses that would be on two interfaces; those that move with the plan are none."""
    for name, wanted in foreseen.wanted.items():
        for address in wanted.addresses:
            for other in survey.interfaces:
                if other.name == name or not _keeps(other, address.ip, foreseen.wanted.get(other.name)):
                    continue
                yield finding(
                    "on-another-interface",
                    f"{other.name} of {host} has {address.ip}, too, and keeps it"
                    + (f"; its link is {other.state}" if other.is_down else ""),
                    severity=WARNING if other.is_down else None,
                    host=host,
                    interface=name,
                    address=address.ip,
                    seen_in=str(other.declared_in[0]) if other.declared_in else f"the kernel of {survey.host}",
                )


def _keeps(other: SurveyedInterface, address: IPAddress, planned: InterfaceConfig | None) -> bool:
    """Whether an interface has an address, in force or declared, that it will have after the change as well."""
    there = {a.address.ip for a in other.addresses}
    fixed = {a.ip for a in other.declared.addresses} if other.declared is not None else set()
    if address not in there | fixed:
        return False
    method = "untouched" if planned is None else planned.method(address.version)
    if method == "untouched":
        return True
    # What is fixed goes with the files; a lease is asked for once more.
    return method in ("dhcp", "ra") and address in there - fixed
