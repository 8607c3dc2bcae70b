"""chrony.conf(5): the folders that it reads, and a file of our own in one of them for the time servers of a plan."""

from __future__ import annotations

from collections.abc import Iterator

from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.text.lines import LineEditor

#: Where distributions have the main file.
MAIN = ("/etc/chrony/chrony.conf", "/etc/chrony.conf")
#: The folders in which a file of our own is looked for.
FOLDERS = ("/etc/chrony/*", "/etc/chrony.d")
#: The one that a main file without any is told to read.
NEW_FOLDER = "/etc/chrony.d"
OWN = "fixed-anchor"

_REMARKS = ("!", ";", "#", "%")


def drop_in_of(text: str) -> tuple[str, bool]:
    """The file for servers in a folder that the main file ``text`` reads, and whether it must be told to first.

    Files of a ``sourcedir`` are read again without a restart; ``confdir`` and ``include`` take whole
    configurations. Folders under /run are those of lease clients.
    """
    folders = {"sourcedir": ".sources", "confdir": ".conf"}
    said = list(_directives(text))
    for directive, suffix in folders.items():
        for words in said:
            for folder in words[1:] if words[0] == directive else ():
                if _is_ours_to_use(folder.rstrip("/")):
                    return f"{folder.rstrip('/')}/{OWN}{suffix}", False
    for words in said:
        folder, _, pattern = words[1].rpartition("/") if words[0] == "include" and len(words) > 1 else ("", "", "")
        if _is_ours_to_use(folder) and pattern in ("*.conf", "*"):
            return f"{folder}/{OWN}.conf", False
    return f"{NEW_FOLDER}/{OWN}.conf", True


def _is_ours_to_use(folder: str) -> bool:
    parent, _, name = folder.rpartition("/")
    return folder == NEW_FOLDER or (parent == "/etc/chrony" and bool(name))


def _directives(text: str) -> Iterator[list[str]]:
    for line in text.splitlines():
        words = line.split()
        if words and not words[0].startswith(_REMARKS):
            yield [words[0].lower(), *words[1:]]


def edit_drop_in(path: str, before: FileText | None, servers: tuple[str, ...]) -> FileEdit | None:
    """The file at ``path`` with these servers; removed where there are none."""
    if not servers:
        return None if before is None else FileEdit(path, before, None)
    text = "# Written with the address plan of this host.\n" + "".join(f"server {s} iburst\n" for s in servers)
    if before is not None and before.text == text:
        return None
    return FileEdit(path, before, FileText(path, text, 0o644))


def edit_main(before: FileText) -> FileEdit:
    """The main file told to read :data:`NEW_FOLDER`."""
    editor = LineEditor(before.text)
    editor.append([f"confdir {NEW_FOLDER}"])
    return FileEdit(before.path, before, FileText(before.path, editor.result(), before.mode, before.uid, before.gid))


def says_drop_in(text: str) -> tuple[str, ...]:
    """The servers, pools and peers that a file declares."""
    return tuple(w[1] for w in _directives(text) if w[0] in ("server", "pool", "peer") and len(w) > 1)
