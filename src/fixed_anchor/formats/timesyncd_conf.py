"""A drop-in of timesyncd.conf(5), where the time servers of a plan go for systemd-timesyncd."""

from __future__ import annotations

from fixed_anchor.change.files import FileEdit, FileText

DROP_IN = "/etc/systemd/timesyncd.conf.d/50-fixed-anchor.conf"


def edit_drop_in(before: FileText | None, servers: tuple[str, ...]) -> FileEdit | None:
    """The drop-in with these servers, and no others of earlier files; removed where there are none."""
    if not servers:
        return None if before is None else FileEdit(DROP_IN, before, None)
    text = f"# Written with the address plan of this host.\n[Time]\nNTP=\nNTP={' '.join(servers)}\n"
    if before is not None and before.text == text:
        return None
    return FileEdit(DROP_IN, before, FileText(DROP_IN, text, 0o644))


def says_drop_in(text: str) -> tuple[str, ...]:
    """The servers that such a drop-in declares: each ``NTP=`` adds, an empty one begins anew."""
    servers: tuple[str, ...] = ()
    for line in text.splitlines():
        key, equals, value = line.partition("=")
        if equals and key.strip() == "NTP":
            servers = (*servers, *value.split()) if value.strip() else ()
    return servers
