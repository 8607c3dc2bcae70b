"""A reservation for a Windows DHCP server: the command that it takes, or its place in an export to be imported."""

from __future__ import annotations

from html import escape

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources.protocol import Reservation
from fixed_anchor.sources.windows_dhcp import Export
from fixed_anchor.sources.windows_dhcp_xml import below
from fixed_anchor.sources.xml_elements import Element


def line(wanted: Reservation) -> str:
    """The command of its own administration; of IPv6 it wants the client's DUID, which nobody has told."""
    if ":" in wanted.address:
        return f"Add-DhcpServerv6Reservation -IPAddress {wanted.address} -Name {wanted.name} with the client's DUID"
    scope = wanted.subnet.partition("/")[0]
    client = wanted.mac.replace(":", "-")
    return (
        f"Add-DhcpServerv4Reservation -ScopeId {scope} -IPAddress {wanted.address} -ClientId {client} "
        f"-Name {wanted.name}"
    )


def reserve(text: str, path: str, wanted: Reservation) -> str:
    """``text`` with a ``<Reservation>`` in the scope of its address, for `Import-DhcpServer`.

    Raises :class:`InputError` where there is no such scope, and for IPv6, where the server knows clients by DUIDs.
    """
    address = parse_address(wanted.address)
    # The offsets of the parser count bytes.
    data = text.encode()
    export = Export(data, path)
    for scope, _, version in export.scopes():
        try:
            network = export.network(scope, version)
        except InputError:
            continue
        if address not in network:
            continue
        if version == 6:
            raise InputError(f"{address} is reserved for a DUID, which is not known", file=path, line=scope.line)
        return _inserted(data, scope, wanted).decode()
    raise InputError(f"no scope in this file is for {address}", file=path)


def _inserted(data: bytes, scope: Element, wanted: Reservation) -> bytes:
    kept = next(iter(below(scope, "Reservations")), None)
    inside = kept if kept is not None else scope
    model = next(iter(inside.children), inside)
    begin = data.rfind(b"\n", 0, model.start) + 1
    is_own_line = not data[begin : model.start].strip()
    indent = data[begin : model.start] if is_own_line else b""
    end = b"\r\n" if data[begin - 2 : begin] == b"\r\n" else b"\n" if is_own_line else b""
    # The names of its elements have the prefix that the export gives them.
    name = data[scope.start + 1 : data.index(b"Scope", scope.start)].decode()
    body = "".join(
        f"<{name}{key}>{escape(value, quote=False)}</{name}{key}>"
        for key, value in (
            ("Name", wanted.name),
            ("IPAddress", wanted.address),
            ("ClientId", wanted.mac.replace(":", "-")),
            ("Type", "Both"),
        )
    )
    entry = f"<{name}Reservation>{body}</{name}Reservation>"
    if kept is None:
        entry = f"<{name}Reservations>{entry}</{name}Reservations>"
    elif not kept.children and data[kept.close - 2 : kept.close] == b"/>":
        opened = data[: kept.close - 2].rstrip()
        return opened + b">" + entry.encode() + f"</{name}Reservations>".encode() + data[kept.close :]
    at = data.rfind(b"\n", 0, inside.close) + 1 if is_own_line and inside.children else inside.close
    return data[:at] + indent + entry.encode() + end + data[at:]
