"""Where resolvers go when the interface files are no place for them: resolv.conf(5), or a resolved.conf.d drop-in."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.dialects.ini_lines import by_newline
from fixed_anchor.dialects.protocol import FileEdit, FileText

RESOLV_CONF = "/etc/resolv.conf"
DROP_IN = "/etc/systemd/resolved.conf.d/50-fixed-anchor.conf"

#: At most this many servers are used, and the rest silently passed over (MAXNS, resolv.conf(5)).
MAXNS = 3


def edit_resolv_conf(
    before: FileText | None, resolvers: tuple[IPAddress, ...], search: tuple[str, ...] | None
) -> FileEdit | None:
    """The plain file with these servers; options and comments stay. ``None`` where nothing changes.

    Raises :class:`ValueError` for more servers than are used.
    """
    if len(resolvers) > MAXNS:
        raise ValueError(f"{len(resolvers)} resolvers, and /etc/resolv.conf uses the first {MAXNS} only")
    lines = by_newline(before.text) if before else []
    kept: list[str] = []
    for line in lines:
        word = line.split()[0] if line.split() else ""
        # "domain" and "search" replace each other: the last one counts.
        if word == "nameserver" or (word in ("search", "domain") and search is not None):
            continue
        kept.append(line if line.endswith("\n") else line + "\n")
    if search:
        kept.append(f"search {' '.join(search)}\n")
    kept += [f"nameserver {r}\n" for r in resolvers]
    after = FileText(RESOLV_CONF, "".join(kept), 0o644)
    if before is not None and says_resolv_conf(before.text) == says_resolv_conf(after.text):
        return None
    return FileEdit(RESOLV_CONF, before, after)


def says_resolv_conf(text: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Servers and search list of a resolv.conf text, as the resolver uses them."""
    servers: list[str] = []
    search: tuple[str, ...] = ()
    for line in text.splitlines():
        words = line.split()
        if len(words) < 2 or line[:1] in ("#", ";"):
            continue
        if words[0] == "nameserver":
            servers.append(words[1])
        elif words[0] in ("search", "domain"):
            search = tuple(words[1:])
    return tuple(servers[:MAXNS]), search


def edit_drop_in(
    before: FileText | None, resolvers: tuple[IPAddress, ...], search: tuple[str, ...] | None
) -> FileEdit | None:
    """The drop-in of systemd-resolved with these servers; removed where there are none."""
    if not resolvers and not search:
        return None if before is None else FileEdit(DROP_IN, before, None)
    text = "# Written with the address plan of this host.\n[Resolve]\n"
    if resolvers:
        text += f"DNS={' '.join(map(str, resolvers))}\n"
    if search:
        text += f"Domains={' '.join(search)}\n"
    if before is not None and before.text == text:
        return None
    return FileEdit(DROP_IN, before, FileText(DROP_IN, text, 0o644))
