"""Findings about the host itself: rival stacks, files written again at boot, lease clients, open files, lost state."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial

from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.dialects.protocol import FileText
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.kernel import KernelRoute
from fixed_anchor.observe.stack import PROVISIONING_CONFIG, Charge, regenerates

_CLIENTS = ("dhclient", "dhcpcd", "udhcpc")


def host_facts(
    machine: Machine,
    interfaces: tuple[SurveyedInterface, ...],
    charges: Mapping[str, Charge],
    routes: tuple[KernelRoute, ...],
    files: Mapping[str, Mapping[str, FileText]],
    writer: str,
) -> tuple[Finding, ...]:
    """All of them, for the survey of ``machine``."""
    clients = _clients(machine) if machine.running else {}
    found: list[Finding] = []
    for interface in interfaces:
        charge = charges[interface.name]
        found += _two_stacks(machine, interface, charge)
        found += _still_asks(machine, interface, charge, clients)
        if charge.declaration is not None:
            found += _regenerated(machine, interface, charge)
            found += _kernel_only(machine, interface, routes)
    found += _too_open(machine, files)
    if writer != "nobody":
        found.append(
            finding(
                "resolv-conf-not-ours",
                f"/etc/resolv.conf is written by {writer}",
                host=machine.name,
                seen_in=f"/etc/resolv.conf of {machine.name}",
            )
        )
    return tuple(found)


def _two_stacks(machine: Machine, interface: SurveyedInterface, charge: Charge) -> Iterator[Finding]:
    for stack, declaration in charge.rivals:
        assert charge.declaration is not None
        yield finding(
            "two-stacks",
            f"{interface.name} is claimed by {charge.stack} ({charge.declaration.places[0]}) "
            f"and by {stack} ({declaration.places[0]})",
            host=machine.name,
            interface=interface.name,
            seen_in=str(declaration.places[0]),
            remedy=f"remove it from {declaration.places[0].file}, or from {charge.declaration.places[0].file}",
        )


def _still_asks(
    machine: Machine, interface: SurveyedInterface, charge: Charge, clients: Mapping[str, str]
) -> Iterator[Finding]:
    raised = partial(finding, "still-asks-dhcp", host=machine.name, interface=interface.name)
    declaration = charge.declaration
    if declaration is not None and declaration.config.ipv4 == "dhcp" and declaration.config.of_family(4):
        held = ", ".join(str(a) for a in declaration.config.of_family(4))
        where = str(declaration.dhcp_in or declaration.places[0])
        yield raised(
            f"{interface.name} holds {held}, and {where} turns DHCP on again beside it",
            seen_in=where,
            remedy=f"switch DHCP off in {where}; `fixed-anchor draft` does so",
        )
    client = clients.get(interface.name)
    if client is not None and declaration is not None and declaration.config.ipv4 != "dhcp":
        yield raised(
            f"a lease client runs for {interface.name} although its files do not ask for one: {client}",
            seen_in=f"processes of {machine.name}",
            remedy="end it, and see what starts it",
        )


def _clients(machine: Machine) -> dict[str, str]:
    """Lease clients that run as processes of their own, by interface."""
    found: dict[str, str] = {}
    for line in machine.run(("ps", "-eo", "args")).out.splitlines():
        words = line.split()
        if words and words[0].rpartition("/")[2].rstrip(":") in _CLIENTS:
            for word in words[1:]:
                found.setdefault(word, " ".join(words))
    return found


def _regenerated(machine: Machine, interface: SurveyedInterface, charge: Charge) -> Iterator[Finding]:
    assert charge.declaration is not None
    for path in dict.fromkeys(p.file for p in charge.declaration.places):
        if regenerates(machine, path):
            line = next(p.line for p in charge.declaration.places if p.file == path)
            yield finding(
                "rewritten-at-boot",
                f"{path} is written again at boot by first-boot provisioning ({PROVISIONING_CONFIG})",
                host=machine.name,
                interface=interface.name,
                seen_in=f"{path}:{line}",
                remedy="`fixed-anchor draft` switches that off, in the documented way",
            )


def _kernel_only(machine: Machine, interface: SurveyedInterface, routes: tuple[KernelRoute, ...]) -> Iterator[Finding]:
    declared = interface.declared
    if declared is None:
        return
    raised = partial(
        finding, "kernel-only-state", host=machine.name, interface=interface.name, seen_in=f"kernel of {machine.name}"
    )
    for found in interface.addresses:
        if found.origin == "fixed" and found.address not in declared.addresses:
            yield raised(f"{found.address} is on {interface.name}, and no file declares it", address=found.address.ip)
    known = {(r.destination, r.next_hop) for r in declared.routes}
    for entry in routes:
        route = entry.route
        by_hand = entry.protocol in ("boot", "static") and (route.destination, route.next_hop) not in known
        # dhclient installs its routes as if by hand.
        of_lease = declared.ipv4 == "dhcp" and (
            route.is_default or (interface.lease is not None and route in interface.lease.routes)
        )
        if entry.interface == interface.name and by_hand and not of_lease:
            yield raised(f"the route {route} leaves by {interface.name}, and no file declares it")


def _too_open(machine: Machine, files: Mapping[str, Mapping[str, FileText]]) -> Iterator[Finding]:
    for stack in ("netplan", "NetworkManager"):
        for file in files[stack].values():
            if file.mode & 0o077 and file.path.startswith("/etc/"):
                yield finding(
                    "file-too-open",
                    f"{file.path} has the mode {file.mode:04o}; {stack} wants 0600",
                    host=machine.name,
                    seen_in=f"{file.path}:1",
                )
