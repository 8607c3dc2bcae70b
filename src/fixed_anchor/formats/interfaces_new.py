"""A first stanza in interfaces(5) for an interface that no file declares: where it stands, and what brings it up."""

from __future__ import annotations

import re

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Wireless
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.formats.interfaces_read import MAIN, stanzas_in
from fixed_anchor.formats.interfaces_text import Stanza
from fixed_anchor.formats.wireless import kept_elsewhere, unknown_network


def place_for(files: Files, link: LinkFacts, second: bool = False) -> str:
    """The file for the stanza: the one that declares the others, or a new one in the folder where each has its own.

    With ``second`` the reader is ifupdown2.
    """
    others = _others(stanzas_in(files, second), link)
    paths = list(dict.fromkeys(stanza.path for stanza in others))
    if not paths or MAIN in paths:
        return MAIN
    last = paths[-1]
    if len({stanza.name for stanza in others if stanza.path == last}) > 1:
        return last
    folder, _, name = last.rpartition("/")
    # Which names count there, the pattern of `source` says: the new one ends as the others do.
    suffix = re.search(r"\.[A-Za-z0-9_-]+$", name.removeprefix(others[-1].name))
    path = f"{folder}/{link.name}{suffix[0] if suffix else ''}"
    tried = {**files, path: FileText(path, f"iface {link.name} inet manual\n", 0o644)}
    is_read = path not in files and any(stanza.path == path for stanza in stanzas_in(tried, second))
    return path if is_read else MAIN


def with_stanzas(files: Files, path: str, link: LinkFacts, stanzas: list[str], second: bool = False) -> str:
    """The text of ``path`` with the lines of ``stanzas``, and what brings the interface up, at its end."""
    before = files[path].text if path in files else ""
    known = stanzas_in(files, second)
    lines = [] if link.name in _brought_up(known) else [f"{_word(known, link)} {link.name}"]
    end = "" if not before or before.endswith("\n") else "\n"
    gap = "\n" if before.strip() and not before.endswith("\n\n") else ""
    return before + end + gap + "".join(f"{line}\n" for line in (*lines, *stanzas))


def _others(stanzas: list[Stanza], link: LinkFacts) -> list[Stanza]:
    """The stanzas of other interfaces: loopback is the host's own."""
    return [s for s in stanzas if s.kind == "iface" and s.name not in ("lo", link.name) and s.method != "loopback"]


def _brought_up(stanzas: list[Stanza]) -> set[str]:
    return {word for stanza in stanzas if stanza.brings_up for word in stanza.head.words[1:]}


def _word(stanzas: list[Stanza], link: LinkFacts) -> str:
    """``auto``, or ``allow-hotplug`` where the host's others have that and nothing else."""
    names = {stanza.name for stanza in _others(stanzas, link)}
    words = {s.kind for s in stanzas if s.brings_up and names & set(s.head.words[1:])}
    return "allow-hotplug" if words == {"allow-hotplug"} else "auto"


def radio_lines(files: Files, wireless: Wireless, second: bool = False) -> list[str]:
    """The options by which wpa_supplicant's hook joins the network, wpasupplicant's README.Debian.

    The passphrase is the plan's, else that of another stanza for the network. Raises :class:`NotSupported`.
    """
    password = wireless.password
    if password is None:
        known = [
            (stanza.path, {line.key: line.value for line in stanza.options})
            for stanza in stanzas_in(files, second)
            if any(line.key == "wpa-ssid" and line.value.strip('"') == wireless.network for line in stanza.options)
        ]
        if not known:
            raise unknown_network(wireless)
        path, options = known[0]
        password = options.get("wpa-psk")
        if password is None:
            raise kept_elsewhere(wireless, path)
    else:
        password = _word_of(password)
    return [f"    wpa-ssid {_word_of(wireless.network)}", f"    wpa-psk {password}"]


def _word_of(text: str) -> str:
    """A text as the value of an option: the hook takes the rest of the line, and leading blanks would be lost."""
    if text != text.strip() or "\\" in text[-1:] or not text.isprintable():
        raise NotSupported(f"{len(text)} characters of a wireless key cannot be written into interfaces(5) as they are")
    return text


def refuse_odd_name(wanted: InterfaceConfig) -> None:
    """Raises :class:`NotSupported` where the name of an interface would be more than a word to the shell of a hook."""
    if not re.fullmatch(r"[A-Za-z0-9._-]+", wanted.interface):
        raise NotSupported(f"{wanted.interface!r} cannot stand in a command of interfaces(5)")
