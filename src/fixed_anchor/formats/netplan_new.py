"""A first entry in netplan YAML for an interface that no file declares, netplan(5)."""

from __future__ import annotations

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Wireless
from fixed_anchor.formats.netplan_entries import (
    SECTIONS,
    InterfaceEntry,
    daemon_of,
    entries_of,
    in_order,
    renderer_of,
)
from fixed_anchor.formats.wireless import kept_elsewhere, unknown_network
from fixed_anchor.text.yaml_splice import Splices, plain, true_end

_ETC = "/etc/netplan/"


def new_entry(
    files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None
) -> InterfaceEntry:
    """An entry that declares ``link`` for ``daemon`` and says how it comes by IPv4, in the text of its file.

    It stands below the others of its kind where these are in one file, else in a file of its own.
    """
    section = next(name for name, kind in SECTIONS.items() if kind == link.kind)
    others = [entry for path in in_order(files) for entry in entries_of(files[path])]
    identity = _identity(link, {entry.identity for entry in others})
    beside = _beside([entry for entry in others if entry.section == section], section)
    own = [f"dhcp4: {'true' if wanted.ipv4 == 'dhcp' else 'false'}"]
    if identity != link.name:
        own = ["match:", f"  name: {plain(link.name)}", *own]
    own += _access_points(others, wireless) if wireless is not None else []
    for renderer in ([], [f"renderer: {renderer_of(daemon)}"]):
        file = _with_lines(files, link, section, beside, identity, [*renderer, *own])
        entry = next(e for e in entries_of(file) if e.identity == identity)
        if daemon_of({**files, file.path: file}, [entry]) == daemon:
            break
    return entry


def _identity(link: LinkFacts, taken: set[str]) -> str:
    """The name of the entry: that of the link, unless an entry for another one has it."""
    return next(name for name in (link.name, *(f"{link.name}-{n}" for n in range(2, 1000))) if name not in taken)


def _beside(others: list[InterfaceEntry], section: str) -> InterfaceEntry | None:
    """The last of the ``others`` in a section, where one file of ours to edit has them all, a line or more each."""
    files = {entry.file.path for entry in others}
    if len(files) != 1 or not others[0].file.path.startswith(_ETC):
        return None
    last = others[-1]
    start, end = int(last.key.node.start_mark.index), true_end(last.value.node)
    line = last.file.text[last.file.text.rfind("\n", 0, start) + 1 : start]
    # In a flow mapping entries stand side by side.
    return last if not line.strip() and end > start else None


def _with_lines(
    files: Files, link: LinkFacts, section: str, beside: InterfaceEntry | None, identity: str, settings: list[str]
) -> FileText:
    """The text of the file with an entry of these ``settings``."""
    if beside is None:
        path = next(p for n in range(90, 1000) if (p := f"{_ETC}{n}-{link.name}.yaml") not in files)
        lines = ["network:", "  version: 2", f"  {section}:", f"    {plain(identity)}:"]
        return FileText(path, "".join(f"{line}\n" for line in (*lines, *(f"      {s}" for s in settings))), 0o600)
    file, depth = beside.file, int(beside.key.node.start_mark.column)
    splices = Splices(file.text)
    lines = [f"{' ' * depth}{plain(identity)}:", *(f"{' ' * (depth + 2)}{s}" for s in settings)]
    splices.insert_lines(max(true_end(beside.value.node) - 1, 0), lines)
    return FileText(file.path, splices.result(), file.mode, file.uid, file.gid)


def _access_points(others: list[InterfaceEntry], wireless: Wireless) -> list[str]:
    """The lines that name the network; its passphrase is the plan's, else that of another entry for the network."""
    password = wireless.password
    if password is None:
        known = [
            (entry.file.path, {name: value for name, _, value in point.entries()} if not point.is_null else {})
            for entry in others
            if "access-points" in entry.settings
            for name, _, point in entry.settings["access-points"].entries("networks by name")
            if name == wireless.network
        ]
        if not known:
            raise unknown_network(wireless)
        path, settings = known[0]
        if "password" not in settings and settings:
            raise kept_elsewhere(wireless, path)
        password = settings["password"].text() if "password" in settings else None
    # Always quoted: it may look like a number.
    lines = ["access-points:", f"  {_text(wireless.network)}:" + (" {}" if password is None else "")]
    return lines + ([f"    password: {_text(password)}"] if password is not None else [])


def _text(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
