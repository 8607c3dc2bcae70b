"""Which entries of netplan YAML are for an interface, netplan(5); and one of its own where the entry is for several."""

from __future__ import annotations

from fnmatch import fnmatchcase

import yaml

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.formats.netplan_entries import InterfaceEntry, daemon_of, entries_of, in_order
from fixed_anchor.formats.protocol import Declaration
from fixed_anchor.text.lines import MARK
from fixed_anchor.text.yaml_splice import plain, true_end


def governs(entry: InterfaceEntry, link: LinkFacts) -> bool:
    """Whether ``entry`` is for ``link``: by name, or by its ``match`` (netplan(5), physical devices)."""
    settings = entry.settings
    match = settings.get("match")
    if match is None:
        return entry.identity == link.name
    # What is made of a physical device, a VLAN say, has its MAC too, and is not meant.
    if link.has_mac_of_another:
        return False
    rules = {name: value for name, _, value in match.entries("`name`, `macaddress` or `driver`")}
    if "set-name" in settings and settings["set-name"].text() == link.name:
        return True
    if not rules:
        return entry.section == "ethernets"
    if "macaddress" in rules and rules["macaddress"].text().lower() != (link.permanent_mac or link.mac):
        return False
    if "name" in rules and not fnmatchcase(link.name, rules["name"].text()):
        return False
    if "driver" in rules:
        if link.driver is None:
            raise NotSupported(
                f"whether this entry is for {link.name} cannot be told: it matches by driver",
                file=entry.file.path,
                line=rules["driver"].line,
            )
        return any(fnmatchcase(link.driver, i.text()) for i in rules["driver"].items())
    return True


def entries_for(files: Files, entries: list[InterfaceEntry], link: LinkFacts) -> list[InterfaceEntry]:
    """Those of ``entries``, all of a host, that count for ``link``, in the order in which they are merged.

    All have one identity. Of several that match, systemd-networkd takes the one whose generated file
    comes first by name. Raises :class:`NotSupported` where NetworkManager would have to choose.
    """
    direct = [entry for entry in entries if governs(entry, link)]
    identities = sorted({entry.identity for entry in direct}, key=_generated)
    for identity in identities[1:]:
        other = next(e for e in direct if e.identity == identity)
        every = [daemon_of(files, [e for e in entries if e.identity == i]) for i in identities]
        if set(every) != {"systemd-networkd"}:
            raise NotSupported(
                f"{len(identities)} entries of different names are for {link.name}: "
                + ", ".join(f"{e.identity} ({e.file.path}:{e.key.line})" for e in direct)
                + ", and which one NetworkManager takes is left to chance",
                file=other.file.path,
                line=other.key.line,
                remedy="leave only one of them",
            )
    # A later file may add to an entry without repeating its `match`.
    return [entry for entry in entries if entry.identity in identities[:1]]


def _generated(identity: str) -> str:
    """The name of the file that the generator makes for systemd-networkd."""
    return f"10-netplan-{identity}.network"


def is_shared(entries: list[InterfaceEntry]) -> bool:
    """Whether the entries may be for further interfaces too: they name neither one MAC nor one name."""
    matches = [entry.settings["match"] for entry in entries if "match" in entry.settings]
    rules = {name: value.text() for match in matches for name, _, value in match.entries() if not value.is_list}
    one_name = "name" in rules and not any(c in rules["name"] for c in "*?[")
    return bool(matches) and "macaddress" not in rules and not one_name


def own_file(files: Files, entries: list[InterfaceEntry], declared: Declaration) -> FileText:
    """A file of its own for the interface, that says what the shared ``entries`` say and comes before them.

    Raises :class:`NotSupported` where none is sure to be taken instead of them.
    """
    name, shared = declared.link.name, entries[0]

    def refusal(why: str) -> NotSupported:
        return NotSupported(
            f"the entry {shared.identity} is for every interface that it matches, not for {name} alone, and {why}",
            file=shared.file.path,
            line=shared.key.line,
            remedy=f"give {name} an entry of its own, and take it out of the match of {shared.identity}",
        )

    if declared.daemon != "systemd-networkd":
        raise refusal("NetworkManager would choose between two by chance")
    if len(entries) > 1:
        raise refusal(f"{len(entries)} files make it up")
    taken = {entry.identity for path in in_order(files) for entry in entries_of(files[path])}
    identities = [i for i in (name, f"0-{name}", f"00-{name}") if i not in taken]
    identity = next((i for i in identities if _generated(i) < _generated(shared.identity)), None)
    if identity is None:
        raise refusal("no name comes before it")
    node = shared.value.node
    assert isinstance(node, yaml.MappingNode)
    settings = [(k, v) for k, v in node.value if k.value not in ("match", "set-name")]
    lines = ["network:", "  version: 2", f"  {shared.section}:", f"    {plain(identity)}:"]
    if identity != name:
        lines += ["      match:", f"        name: {plain(name)}"]
    if daemon_of(files, []) != declared.daemon:
        lines.append("      renderer: networkd")
    for key, value in settings:
        first, *more = shared.file.text.removeprefix(MARK)[key.start_mark.index : true_end(value)].splitlines()
        # As they stand there, as deep as they belong here.
        depth = 0 if node.flow_style else int(key.start_mark.column)
        lines += [f"      {first}", *(f"      {line[min(depth, len(line) - len(line.lstrip())) :]}" for line in more)]
    path = next(p for n in range(90, 100) if (p := f"/etc/netplan/{n}-{name}.yaml") not in files)
    return FileText(path, "\n".join(lines) + "\n", 0o600)
