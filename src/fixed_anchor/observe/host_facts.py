"""Findings about the host itself: rival stacks, files written again at boot, lease clients, open files, lost state."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import partial

from fixed_anchor.change.files import FileText
from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.formats import FORMATS
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.provisioning import CONFIG, regenerates
from fixed_anchor.observe.stack import Charge


def host_facts(
    machine: Machine,
    interfaces: tuple[SurveyedInterface, ...],
    charges: Mapping[str, Charge],
    files: Mapping[str, Mapping[str, FileText]],
    writer: str,
    clients: Mapping[str, str],
    rules: tuple[tuple[str, ...], ...],
) -> tuple[Finding, ...]:
    """All of them, for the survey of ``machine``.

    ``clients`` are the running lease clients by interface, ``rules`` the routing rules that no stack made.
    """
    found: list[Finding] = []
    for interface in interfaces:
        charge = charges[interface.name]
        found += _two_stacks(machine, interface, charge)
        found += _still_asks(machine, interface, charge, clients)
        if charge.declaration is not None:
            found += _regenerated(machine, interface, charge)
            found += _kernel_only(machine, interface)
    for rule in rules:
        said = " ".join(rule[rule.index("add") + 1 :])
        found.append(
            finding(
                "kernel-only-state",
                f"the routing rule `{said}` is in the kernel, and no stack made it",
                host=machine.name,
                seen_in=f"kernel of {machine.name}",
            )
        )
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


def _regenerated(machine: Machine, interface: SurveyedInterface, charge: Charge) -> Iterator[Finding]:
    assert charge.declaration is not None
    for path in dict.fromkeys(p.file for p in charge.declaration.places):
        if regenerates(machine, path):
            line = next(p.line for p in charge.declaration.places if p.file == path)
            yield finding(
                "rewritten-at-boot",
                f"{path} is written again at boot by first-boot provisioning ({CONFIG})",
                host=machine.name,
                interface=interface.name,
                seen_in=f"{path}:{line}",
                remedy="`fixed-anchor draft` switches that off, in the documented way",
            )


def _kernel_only(machine: Machine, interface: SurveyedInterface) -> Iterator[Finding]:
    raised = partial(
        finding, "kernel-only-state", host=machine.name, interface=interface.name, seen_in=f"kernel of {machine.name}"
    )
    for address in interface.by_hand:
        yield raised(f"{address} is on {interface.name}, and no file declares it", address=address.ip)
    for route in interface.routes_by_hand:
        yield raised(f"the route {route} leaves by {interface.name}, and no file declares it")


def _too_open(machine: Machine, files: Mapping[str, Mapping[str, FileText]]) -> Iterator[Finding]:
    for stack, form in FORMATS.items():
        for file in files[stack].values():
            if file.mode & form.mode_taken & 0o077 and file.path.startswith("/etc/"):
                yield finding(
                    "file-too-open",
                    f"{file.path} has the mode {file.mode:04o}; {stack} wants {form.created:04o}",
                    host=machine.name,
                    seen_in=f"{file.path}:1",
                )
