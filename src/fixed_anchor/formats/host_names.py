"""The host's own name: hostname(5), and its own line in hosts(5)."""

from __future__ import annotations

import re

from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.text.lines import LineEditor

HOSTNAME = "/etc/hostname"
HOSTS = "/etc/hosts"


def edit_hostname(before: FileText | None, name: str) -> FileEdit | None:
    """The file with ``name``: whole where it held a whole name before, else its first label."""
    old = before.text.strip() if before else ""
    new = name if "." in old else name.partition(".")[0]
    if old == new:
        return None
    return FileEdit(HOSTNAME, before, FileText(HOSTNAME, new + "\n", before.mode if before else 0o644))


def edit_hosts(
    before: FileText | None, old_name: str, name: str, old_addresses: tuple[IPAddress, ...], address: IPAddress | None
) -> FileEdit | None:
    """The host's own line with its new name, and its new address where it had the old one.

    Its own line is the one for 127.0.1.1 (Debian's habit), or one that has the old name
    with an address the host held. Every other line stays. Without such a line one is added.
    """
    editor = LineEditor(before.text if before else "", forget=True)
    names = f"{name} {name.partition('.')[0]}" if "." in name else name
    found = False
    old_names = {old_name, old_name.partition(".")[0]} - {""}
    for number, line in enumerate(editor.lines):
        content, hash_, comment = line.rstrip("\r\n").partition("#")
        words = content.split()
        own = len(words) > 1 and (
            words[0] == "127.0.1.1"
            or (bool(old_names & set(words[1:])) and words[0] in {str(a) for a in old_addresses} | {str(address)})
        )
        if not own:
            continue
        editor.drop(number)
        if found:
            continue
        found = True
        first = words[0] if words[0] == "127.0.1.1" or address is None else str(address)
        others = [
            w for w in words[1:] if w not in old_names and w not in names.split() and not w.startswith(old_name + ".")
        ]
        gap = re.match(r"\S+(\s+)", content.lstrip())
        between = gap[1] if gap else "\t"
        text = f"{first}{between}{' '.join([names, *others])}"
        editor.insert(number, [text + (f" {hash_}{comment}" if hash_ else "")])
    if not found:
        editor.append([f"127.0.1.1\t{names}"])
    text = editor.result()
    if before is not None and text == before.text:
        return None
    return FileEdit(HOSTS, before, FileText(HOSTS, text, before.mode if before else 0o644))
