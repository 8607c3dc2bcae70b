"""resolv.conf(5), where resolvers go when neither the interface files nor another daemon is their place."""

from __future__ import annotations

from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.text.lines import LineEditor

RESOLV_CONF = "/etc/resolv.conf"

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
    # Whoever reads the file takes the last word of each kind: the former lines are of no more use.
    editor = LineEditor(before.text if before else "", forget=True)
    for number, line in enumerate(editor.lines):
        word = line.split()[0] if line.split() else ""
        # "domain" and "search" replace each other: the last one counts.
        if word == "nameserver" or (word in ("search", "domain") and search is not None):
            editor.drop(number)
    if search:
        editor.append([f"search {' '.join(search)}"])
    editor.append(f"nameserver {r}" for r in resolvers)
    after = FileText(RESOLV_CONF, editor.result(), 0o644)
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
