"""What must be told to a DHCP server so that it leaves an address alone: a reservation in its own format."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec

from fixed_anchor.change.files import FileEdit, FileText, decode
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.sources import RESERVE
from fixed_anchor.sources.protocol import Reader, Reservation

#: Findings that a reservation clears.
CLEARED = ("lease-not-reserved", "expected-not-reserved")


class ServerDraft(msgspec.Struct, frozen=True):
    """What one DHCP server is to be told: its configuration as it shall become, or the ``commands`` that it takes.

    ``why_not`` says what could not be drafted. ``path`` is the source that says what the server has.
    """

    label: str
    path: str
    edit: FileEdit | None = None
    commands: tuple[str, ...] = ()
    why_not: str | None = None


def _server_of(known: Knowledge, address: IPAddress) -> Claims | None:
    """The source that is the configuration of the server which serves the subnet of ``address``."""
    for claims in known.claims:
        if claims.kind in RESERVE and any(address in s.network for s in claims.subnets):
            return claims
    return None


def _in_subnet(server: Claims, wanted: Reservation) -> Reservation:
    address = parse_address(wanted.address)
    subnet = next(str(s.network) for s in server.subnets if address in s.network)
    return msgspec.structs.replace(wanted, subnet=subnet)


def _reservation(facts: Facts, found: Finding) -> Reservation | None:
    host = facts.plan.hosts.get(found.host or "")
    interface = next((i for i in host.interfaces if i.name == found.interface), None) if host else None
    if host is None or interface is None or found.address is None:
        return None
    mac = interface.mac
    if mac is None:
        survey = facts.surveys.get(host.name)
        there = survey.interface(interface.name) if survey else None
        mac = (there.link.permanent_mac or there.link.mac) if there else None
    return None if mac is None else Reservation(mac, found.address, _name(host))


def _name(host: HostPlan) -> str:
    """The host's name as every server takes one: a single label."""
    return re.sub(r"[^A-Za-z0-9-]", "-", (host.hostname or host.name).partition(".")[0])


def with_reservation_lines(facts: Facts, findings: list[Finding]) -> list[Finding]:
    """The findings; the remedy of those that a reservation clears names it in the server's own format."""
    made = []
    for found in findings:
        if found.code in CLEARED and found.address is not None:
            server = _server_of(facts.known, parse_address(found.address))
            wanted = _reservation(facts, found)
            if server is not None and wanted is not None:
                wanted = _in_subnet(server, wanted)
                reserve = RESERVE[server.kind]
                line = reserve.line(wanted)
                if reserve.insert is None:
                    remedy = f"run on the DHCP server: {line}   and export {server.path} again"
                else:
                    remedy = f"add to {server.path}: {line}   (`fixed-anchor draft` shows it in its place)"
                found = msgspec.structs.replace(found, remedy=remedy)
        made.append(found)
    return made


def draft_reservations(facts: Facts, findings: tuple[Finding, ...]) -> list[ServerDraft]:
    """What the servers are to be told of the reservations that ``findings`` miss, one draft a source."""
    wanted: dict[str, list[Reservation]] = {}
    servers: dict[str, Claims] = {}
    for found in findings:
        if found.code not in CLEARED or found.address is None:
            continue
        server = _server_of(facts.known, parse_address(found.address))
        reservation = _reservation(facts, found)
        if server is not None and reservation is not None:
            servers[server.label] = server
            wanted.setdefault(server.label, []).append(reservation)
    reader = Reader(Path(facts.plan.file).parent)
    drafts: list[ServerDraft] = []
    for label, reservations in wanted.items():
        server = servers[label]
        reserve = RESERVE[server.kind]
        if reserve.insert is None:
            drafts.append(_commands(server, [_in_subnet(server, r) for r in reservations]))
            continue
        path = reader.path(server.path)
        try:
            before = after = decode(reader.read(path))
            for reservation in reservations:
                after = reserve.insert(after, path, reservation)
        except InputError as error:
            drafts.append(ServerDraft(label, server.path, why_not=str(error)))
            continue
        edit = FileEdit(server.path, FileText(server.path, before), FileText(server.path, after))
        drafts.append(ServerDraft(label, server.path, edit))
    return drafts


def _commands(server: Claims, wanted: list[Reservation]) -> ServerDraft:
    """For a server that is told by commands; an IPv6 client has a DUID there, which is not known."""
    unknown = ", ".join(r.address for r in wanted if ":" in r.address)
    return ServerDraft(
        server.label,
        server.path,
        commands=tuple(RESERVE[server.kind].line(r) for r in wanted if ":" not in r.address),
        why_not=f"{unknown}: a reservation wants the client's DUID, which is not known" if unknown else None,
    )
