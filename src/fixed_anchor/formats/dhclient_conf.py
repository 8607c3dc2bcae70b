"""Leases that are declared in dhclient.conf(5): what the client takes where no DHCP server answers.

It tries them in turn once it has waited for ``timeout`` seconds, and takes the first one whose router answers a ping.
"""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.core.addresses import IPAddress, parse_address, parse_interface_address
from fixed_anchor.core.config import Fallback
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.text.isc import Statement, parse

_KEY = "lease"


def read_fallback(file: FileText, interface: str) -> Fallback:
    """The first lease that is declared for ``interface``; none where there is none, or where it cannot be read."""
    for lease in _leases(file, interface):
        said = {statement.key: statement for statement in lease.block or ()}
        options = {s.texts()[0]: s.texts()[1:] for s in lease.block or () if s.key == "option" and s.texts()}
        try:
            address = said["fixed-address"].texts()[0]
            mask = (options.get("subnet-mask") or ["255.255.255.255"])[0]
            routers = list(map(parse_address, options.get("routers", ())))
            resolvers: tuple[IPAddress, ...] = tuple(map(parse_address, options.get("domain-name-servers", ())))
            return Fallback(parse_interface_address(f"{address}/{mask}"), routers[0] if routers else None, resolvers)
        except (KeyError, IndexError, ValueError):
            continue
    return Fallback()


def edit_fallback(path: str, file: FileText | None, interface: str, fallback: Fallback) -> FileEdit | None:
    """The file with ``fallback`` as the only lease that is declared for ``interface``; ``None`` where it says so now.

    Everything else stays byte for byte. Raises :class:`NotSupported` for a file that its reader would not take.
    """
    if file is not None:
        broken = parse(file.text, path)[1]
        if broken is not None:
            raise NotSupported(
                f"{path} cannot be read: {broken.what}", file=path, line=broken.line, remedy="correct it first"
            )
    if (Fallback() if file is None else read_fallback(file, interface)) == fallback:
        return None
    text = file.text if file is not None else ""
    for lease in reversed(list(_leases(file, interface)) if file is not None else []):
        end = lease.end + 1 if text[lease.end : lease.end + 1] == "\n" else lease.end
        text = text[: lease.words[0].start] + text[end:]
    if fallback.address is not None:
        text += ("" if not text or text.endswith("\n") else "\n") + _text(interface, fallback)
    if not text:
        return FileEdit(path, file, None)
    mode, uid, gid = (file.mode, file.uid, file.gid) if file is not None else (0o644, 0, 0)
    return FileEdit(path, file, FileText(path, text, mode, uid, gid))


def _leases(file: FileText, interface: str) -> Iterator[Statement]:
    """The leases that are declared for ``interface``, at the top or for it alone."""
    for statement in parse(file.text, file.path)[0]:
        if statement.key != _KEY or statement.block is None:
            continue
        named = statement.first("interface")
        if named is not None and named.texts() == [interface]:
            yield statement


def _text(interface: str, fallback: Fallback) -> str:
    assert fallback.address is not None
    lines = [
        "lease {",
        f'  interface "{interface}";',
        f"  fixed-address {fallback.address.ip};",
        f"  option subnet-mask {fallback.address.network.netmask};",
    ]
    if fallback.gateway is not None:
        lines.append(f"  option routers {fallback.gateway};")
    if fallback.resolvers:
        lines.append(f"  option domain-name-servers {', '.join(map(str, fallback.resolvers))};")
    # It never ends: without a server nobody could renew it.
    lines += ["  renew never;", "  rebind never;", "  expire never;", "}"]
    return "".join(f"{line}\n" for line in lines)
