"""A drop-in of resolved.conf(5), where resolvers go that the interface files have no working place for."""

from __future__ import annotations

from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.core.addresses import IPAddress

DROP_IN = "/etc/systemd/resolved.conf.d/50-fixed-anchor.conf"


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


def says_drop_in(text: str) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Servers and search list that such a drop-in declares."""
    said = dict(line.partition("=")[::2] for line in text.splitlines())
    return tuple(said.get("DNS", "").split()), tuple(said.get("Domains", "").split())
