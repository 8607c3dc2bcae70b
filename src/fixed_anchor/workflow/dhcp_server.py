"""What must be told to a DHCP server so that it leaves an address alone: a reservation in its own format."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec

from fixed_anchor.change.files import FileEdit, FileText, decode
from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.sources import RESERVE
from fixed_anchor.sources.protocol import Reader, Reservation
from fixed_anchor.workflow.site import Site

#: Findings that a reservation clears.
CLEARED = ("lease-not-reserved", "expected-not-reserved")


class ServerDraft(msgspec.Struct, frozen=True):
    """The configuration of one DHCP server as it shall become; ``why_not`` says what could not be drafted."""

    label: str
    edit: FileEdit | None
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


def _reservation(site: Site, found: Finding) -> Reservation | None:
    host = site.plan.hosts.get(found.host or "")
    interface = next((i for i in host.interfaces if i.name == found.interface), None) if host else None
    if host is None or interface is None or found.address is None:
        return None
    mac = interface.mac
    if mac is None:
        survey = site.survey(host)
        there = survey.interface(interface.name) if survey else None
        mac = (there.link.permanent_mac or there.link.mac) if there else None
    return None if mac is None else Reservation(mac, found.address, _name(host))


def _name(host: HostPlan) -> str:
    """The host's name as every server takes one: a single label."""
    return re.sub(r"[^A-Za-z0-9-]", "-", (host.hostname or host.name).partition(".")[0])


def with_reservation_lines(site: Site, known: Knowledge, findings: list[Finding]) -> list[Finding]:
    """The findings; the remedy of those that a reservation clears names it in the server's own format."""
    made = []
    for found in findings:
        if found.code in CLEARED and found.address is not None:
            server = _server_of(known, parse_address(found.address))
            wanted = _reservation(site, found)
            if server is not None and wanted is not None:
                wanted = _in_subnet(server, wanted)
                line = RESERVE[server.kind].line(wanted)
                remedy = f"add to {server.path}: {line}   (`fixed-anchor draft` shows it in its place)"
                found = msgspec.structs.replace(found, remedy=remedy)
        made.append(found)
    return made


def draft_reservations(site: Site, known: Knowledge, findings: tuple[Finding, ...]) -> list[ServerDraft]:
    """The servers' configurations with the reservations that ``findings`` miss, one draft a file."""
    wanted: dict[str, list[Reservation]] = {}
    servers: dict[str, Claims] = {}
    for found in findings:
        if found.code not in CLEARED or found.address is None:
            continue
        server = _server_of(known, parse_address(found.address))
        reservation = _reservation(site, found)
        if server is not None and reservation is not None:
            servers[server.label] = server
            wanted.setdefault(server.label, []).append(reservation)
    reader = Reader(Path(site.plan.file).parent)
    drafts: list[ServerDraft] = []
    for label, reservations in wanted.items():
        path = reader.path(servers[label].path)
        try:
            before = after = decode(reader.read(path))
            for reservation in reservations:
                after = RESERVE[servers[label].kind].insert(after, path, reservation)
        except InputError as error:
            drafts.append(ServerDraft(label, None, str(error)))
            continue
        shown = servers[label].path
        drafts.append(ServerDraft(label, FileEdit(shown, FileText(shown, before), FileText(shown, after))))
    return drafts
