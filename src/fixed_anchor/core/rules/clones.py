"""Hosts of one plan that are copies of one another: what should be one host's alone, and is on two."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.core.findings import BLOCKER, Finding, FindingKind, finding
from fixed_anchor.core.rules.case import SiteCase

CLONED_HOST = FindingKind(
    "cloned-host",
    "plan",
    BLOCKER,
    "two hosts share what should be one's alone",
    "Copies of one image with the same MAC, machine-id, DUID or SSH host key are taken for one host: by "
    "switches, by DHCP servers, and by whoever connects.",
    "Give one of them a new one.",
)

#: What follows for each kind.
_WHY = {
    "machine-id": "leases, and what is made of it, are the same on both",
    "DUID": "a DHCPv6 server takes both for one client",
    "SSH host key": "whoever connects cannot tell them apart",
    "MAC": "frames for the one reach the other",
}
_REMEDY = {
    "machine-id": "on one of them: empty /etc/machine-id, and boot it anew",
    "DUID": "on one of them: stop the lease client, and remove {place}",
    "SSH host key": "on one of them: remove /etc/ssh/ssh_host_*, and run `ssh-keygen -A`",
    "MAC": "give one of them a MAC of its own",
}


def clone_findings(case: SiteCase) -> Iterator[Finding]:
    """One finding for each further host that shares something with an earlier one."""
    seen: dict[tuple[str, str], tuple[str, str]] = {}
    told: set[tuple[str, str, str]] = set()
    for host, survey in case.facts.surveys.items():
        facts = [(i.kind, i.value, str(i.place)) for i in survey.identities]
        # Where only files were read, the MACs are those of the plan, which has a rule of its own for them.
        macs = survey.physical_macs() if survey.running else ()
        facts += [("MAC", mac, f"kernel of {survey.host}") for mac in sorted(macs)]
        for kind, value, where in facts:
            other, there = seen.setdefault((kind, value), (host, where))
            # Several keys of a kind are one copy.
            if other == host or (kind, host, other) in told:
                continue
            told.add((kind, host, other))
            yield finding(
                CLONED_HOST,
                f"{host} and {other} have the same {kind}: {_WHY[kind]}",
                host=host,
                seen_in=f"{where} of {host}, {there} of {other}",
                remedy=_REMEDY[kind].format(place=where.partition(":")[0]),
            )
