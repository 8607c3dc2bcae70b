"""Who is in charge of an interface: which stack declares it, runs, and has not let go of it."""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec

from fixed_anchor.core.config import LinkFacts
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.protocol import Declaration
from fixed_anchor.machines.protocol import Machine

#: The service that carries a stack's files out.
UNITS = {
    "networkd": "systemd-networkd.service",
    "NetworkManager": "NetworkManager.service",
    "ifupdown": "networking.service",
    "network-scripts": "network.service",
    "systemd-resolved": "systemd-resolved.service",
}
_IFSTATE = "/run/network/ifstate"


class Charge(msgspec.Struct, frozen=True):
    """Who governs one interface. ``stack`` is a dialect's name or ``None``; ``evidence`` says why.

    ``rivals`` are further stacks that claim it as well, each with its declaration.
    """

    stack: str | None
    declaration: Declaration | None
    evidence: tuple[str, ...]
    rivals: tuple[tuple[str, Declaration], ...] = ()


class Services(msgspec.Struct, frozen=True):
    """What runs on the machine: active units by the names of :data:`UNITS`, and stacks' own word per interface."""

    active: frozenset[str]
    known: bool
    unmanaged_by_nm: frozenset[str]
    up_by_ifupdown: frozenset[str]


def services(machine: Machine) -> Services:
    """Asks systemd, NetworkManager and ifupdown what they run."""
    names = list(UNITS)
    ran = machine.run(("systemctl", "is-active", *UNITS.values()))
    answers = ran.out.split()
    known = len(answers) == len(names)
    active = frozenset(name for name, answer in zip(names, answers, strict=False) if answer == "active")
    unmanaged: set[str] = set()
    if "NetworkManager" in active:
        devices = machine.run(("nmcli", "-t", "-f", "DEVICE,STATE", "device"))
        for line in devices.out.splitlines():
            device, _, state = line.partition(":")
            if state.startswith("unmanaged"):
                unmanaged.add(device)
    ifstate = machine.read(_IFSTATE)
    up = {line.partition("=")[0] for line in (ifstate.text if ifstate else "").split()}
    return Services(active, known, frozenset(unmanaged), frozenset(up))


def in_charge(link: LinkFacts, declarations: Mapping[str, Declaration], running: Services | None) -> Charge:
    """Who governs ``link``, from what the files of each stack declare and what runs.

    ``declarations`` maps dialects to what they declare for this link. ``running`` is
    ``None`` where only files were read.
    """
    claims = [(name, declarations[name]) for name in DIALECTS if name in declarations]
    if running is not None and running.known:
        live = [(name, d) for name, d in claims if _runs(name, d, link, running)]
        # Nothing of what declares it runs: the files are still what a boot would load.
        claims = live or claims
    # A stanza or file that leaves the interface to others is no claim.
    claiming = [(n, d) for n, d in claims if d.config.ipv4 != "off" or d.config.ipv6 not in ("off", "ra")] or claims[:1]
    if not claiming:
        return Charge(None, None, ("no file of a supported stack declares it",))
    stack, declaration = claiming[0]
    evidence = [f"{declaration.places[0]} declares it"]
    if running is not None and running.known:
        service = _service(stack, declaration)
        is_up = service in running.active or (stack == "ifupdown" and link.name in running.up_by_ifupdown)
        evidence.append(f"{UNITS.get(service, service)} {'runs' if is_up else 'does not run'}")
        if stack == "ifupdown" and link.name in running.up_by_ifupdown:
            evidence.append(f"{_IFSTATE} lists it as up")
    return Charge(stack, declaration, tuple(evidence), tuple(claiming[1:]))


def _service(stack: str, declaration: Declaration) -> str:
    return declaration.backend if stack in ("netplan", "ifcfg") else stack


def _runs(stack: str, declaration: Declaration, link: LinkFacts, running: Services) -> bool:
    service = _service(stack, declaration)
    if stack == "ifupdown":
        return link.name in running.up_by_ifupdown or "ifupdown" in running.active
    if service == "NetworkManager" and link.name in running.unmanaged_by_nm:
        return False
    return service in running.active


#: What regenerates an interface file at boot, and how its own documentation says to stop that.
PROVISIONING_CONFIG = "/etc/cloud/cloud.cfg"
PROVISIONING_SWITCH = "/etc/cloud/cloud.cfg.d/99-fixed-anchor.cfg"
PROVISIONING_OFF = (
    "# The addresses of this host are kept by hand: first-boot provisioning must not write them again.\n"
    "network: {config: disabled}\n"
)
_GENERATED = re.compile(r"cloud-init|generated from .*datasource", re.IGNORECASE)


def regenerates(machine: Machine, path: str) -> bool:
    """Whether first-boot provisioning writes ``path`` again at boot, and nothing has switched that off yet."""
    if machine.read(PROVISIONING_CONFIG) is None or machine.read("/etc/cloud/cloud-init.disabled") is not None:
        return False
    file = machine.read(path)
    head = "\n".join(file.text.splitlines()[:12]) if file else ""
    if not (_GENERATED.search(head) or "cloud-init" in path.rpartition("/")[2]):
        return False
    for config in (PROVISIONING_CONFIG, *machine.glob("/etc/cloud/cloud.cfg.d/*.cfg")):
        text = machine.read(config)
        if text and re.search(
            r"^network:\s*(\{\s*config:\s*disabled\s*\}|\n\s+config:\s*disabled)", text.text, re.MULTILINE
        ):
            return False
    return True
