"""What evidence is about: a host's interfaces, their addresses, and their segments; remarks are no part of it."""

from __future__ import annotations

from typing import Any

from fixed_anchor.core.errors import Refused
from fixed_anchor.core.plan import HostPlan, Plan


def subject(plan: Plan, host: HostPlan) -> dict[str, Any]:
    """What of ``plan`` evidence about ``host`` rests on, as plain values."""
    segments = {interface.segment for interface in host.interfaces}
    return {
        "interfaces": {
            i.name: {
                "segment": i.segment,
                "mac": i.mac,
                "hold": [str(h.address) for h in i.hold],
                "expect": [str(a) for a in i.expect],
                **({"fallback": [str(f.address) for f in i.fallback]} if i.fallback else {}),
                "ipv4": i.ipv4,
                "ipv6": i.ipv6,
                "gateways": None if i.gateways is None else [str(g.address) for g in i.gateways],
            }
            for i in host.interfaces
        },
        "segments": {
            name: {
                "subnets": [str(s) for s in plan.segments[name].subnets],
                "gateways": [str(g.address) for g in plan.segments[name].gateways],
                "pools": None if (pools := plan.segments[name].pools) is None else [str(p) for p in pools],
            }
            for name in sorted(segments)
        },
    }


def refuse_unless_about(about: dict[str, Any], plan: Plan, host: HostPlan, path: str) -> None:
    """Raises :class:`Refused` where evidence with the subject ``about`` (by host) is not about ``host`` as planned."""
    again = f"save it again: fixed-anchor check {plan.file} --evidence {path}"
    known = about.get(host.name)
    if not isinstance(known, dict):
        raise Refused(f"the evidence is not about {host.name}", file=path, remedy=again)
    now = subject(plan, host)
    for part in ("interfaces", "segments"):
        before = known.get(part)
        before = before if isinstance(before, dict) else {}
        for name in sorted({*before, *now[part]}):
            was, will = before.get(name), now[part].get(name)
            if was != will:
                raise Refused(
                    f"the evidence is about another plan: {name} of {host.name} {_differs(was, will)}",
                    file=path,
                    remedy=again,
                )


def _differs(was: Any, will: Any) -> str:
    """How the two differ, in the first key that does."""
    if not isinstance(was, dict) or not isinstance(will, dict):
        return "is in one of them only"
    key = next(k for k in sorted({*was, *will}) if was.get(k) != will.get(k))
    return f"has {key} {_said(was.get(key))} there, and {_said(will.get(key))} in the plan"


def _said(value: Any) -> str:
    if value is None:
        return "(none)"
    return (", ".join(map(str, value)) or "(none)") if isinstance(value, list) else str(value)
