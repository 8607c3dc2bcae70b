"""A plan made from what is there."""

from __future__ import annotations

from typing import Any

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork, parse_address, parse_interface_address
from fixed_anchor.core.errors import InputError
from fixed_anchor.planfile.writer import ProposedPlan


def propose(
    survey: dict[str, Any],
    interface_name: str | None,
    at: IPAddress | None,
    pools: tuple[AddressRange, ...] | None,
) -> ProposedPlan:
    """The plan for one interface of a survey (in its JSON form).

    ``at`` is the address to hold, ``None`` keeps today's. ``pools`` is ``None`` where
    nothing is known. Raises :class:`InputError`.
    """
    interface = _choose(survey, interface_name)
    name = interface["name"]
    now = [
        parse_interface_address(a["address"])
        for a in interface["addresses"]
        if a["origin"] in ("dhcp", "fixed") and ":" not in a["address"]
    ]
    if not now:
        raise InputError(
            f"{name} has no IPv4 address to take the subnet from",
            remedy="bring it up on its lease first, or write the plan by hand",
        )
    current = now[0]
    subnet: IPNetwork = current.network
    address: IPAddress = current.ip if at is None else at
    if address not in subnet:
        fitting = next((a.network for a in now if address in a.network), None)
        if fitting is None:
            raise InputError(
                f"{address} is not in {subnet}, the subnet of {name}",
                expected=f"an address of {subnet}",
            )
        subnet = fitting
    gateways = [g for g in (parse_address(g) for g in interface["gateways"]) if g.version == 4]
    return ProposedPlan(
        host=survey["host"],
        interface=name,
        mac=interface["mac"],
        subnet=subnet,
        gateways=tuple(gateways),
        resolvers=tuple(parse_address(r) for r in interface["resolvers"]),
        search=tuple(interface["search"]),
        pools=pools,
        hold=(address,),
    )


def _choose(survey: dict[str, Any], name: str | None) -> dict[str, Any]:
    interfaces: list[dict[str, Any]] = survey["interfaces"]
    if name is not None:
        for interface in interfaces:
            if interface["name"] == name:
                return interface
        raise InputError(
            f"the survey has no interface {name}", expected="one of " + ", ".join(i["name"] for i in interfaces)
        )
    candidates = [i for i in interfaces if i["gateways"]] or [i for i in interfaces if i["addresses"]]
    if len(candidates) == 1:
        return candidates[0]
    if not candidates:
        raise InputError("no interface has an address", remedy="name the one that is meant with --interface")
    raise InputError(
        "several interfaces could be meant: " + ", ".join(i["name"] for i in candidates),
        remedy="name one with --interface",
    )
