"""netplan YAML, netplan(5), carried out by systemd-networkd or by NetworkManager: the format, and its editing."""

from __future__ import annotations

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.aside import Aside
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Wireless, differences
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.formats.netplan_asides import asides_of, ports_in, tunnels_in
from fixed_anchor.formats.netplan_edit import edit_entries
from fixed_anchor.formats.netplan_entries import (
    SECTIONS,
    InterfaceEntry,
    all_but,
    boolean,
    daemon_of,
    entries_of,
    in_order,
    read_entries,
)
from fixed_anchor.formats.netplan_match import entries_for, is_shared, own_file
from fixed_anchor.formats.netplan_new import new_entry
from fixed_anchor.formats.protocol import Declaration, Loaded, Texts

#: Where netplan's generator puts the profile of an interface that NetworkManager shall carry out.
_PROFILE = "/run/NetworkManager/system-connections/netplan-{}.nmconnection"


class Netplan:
    """The format of ``/etc/netplan/*.yaml``."""

    name = "netplan"
    patterns: tuple[str, ...] = ("/lib/netplan/*.yaml", "/etc/netplan/*.yaml", "/run/netplan/*.yaml")
    # netplan wants its files for root alone: they may hold secrets.
    mode_taken = 0o177
    mode_given = 0
    created = 0o600
    # The generator stops at the first file that it cannot take.
    all_or_nothing = True
    run_wins = True
    time_daemon, has_fallback = "", False

    def check(self, file: FileText) -> None:
        for entry in entries_of(file):
            read_entries([entry], LinkFacts(entry.identity))

    def read(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Declaration, ...]:
        everything = _everything(files)
        found: list[Declaration] = []
        for link in links:
            mine = entries_for(files, everything, link)
            if mine:
                name, daemon = mine[0].identity, daemon_of(files, mine)
                config, places = read_entries(mine, link, daemon)
                on = [e.settings["dhcp4"] for e in mine if "dhcp4" in e.settings]
                dhcp_in = Place(on[-1].file, on[-1].line) if on and boolean(on[-1]) else None
                profile = Loaded(_PROFILE.format(name), (f"netplan-{name}",)) if daemon == "NetworkManager" else None
                found.append(Declaration(link, config, daemon, places, name, profile, dhcp_in))
        return tuple(found)

    def asides(self, files: Files, links: tuple[LinkFacts, ...]) -> tuple[Aside, ...]:
        everything = _everything(files)
        found = [a for link in links for a in asides_of(entries_for(files, everything, link), link)]
        return (*ports_in(everything, links), *tunnels_in(everything), *found)

    def named(self, files: Files) -> dict[str, str]:
        names: dict[str, str] = {}
        for entry in _everything(files):
            settings = entry.settings
            kind = SECTIONS.get(entry.section, "ethernet")
            if "set-name" in settings:
                names[settings["set-name"].text()] = kind
            elif "match" not in settings:
                names[entry.identity] = kind
        return names

    def edit(
        self,
        files: Files,
        declared: Declaration,
        wanted: InterfaceConfig,
        todo: tuple[str, ...],
        links: tuple[LinkFacts, ...],
    ) -> Texts:
        _refuse_unsupported(wanted)
        mine = entries_for(files, _everything(files), declared.link)
        if is_shared(mine):
            own = own_file(files, mine, declared)
            mine = [entry for entry in entries_of(own) if entry.identity]
        return dict(edit_entries(mine, declared.config, wanted, todo, declared.daemon, declared.link.lacks))

    def declare(
        self, files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str, wireless: Wireless | None = None
    ) -> Texts:
        _refuse_unsupported(wanted)
        entry = new_entry(files, link, wanted, daemon, wireless)
        now, _ = read_entries([entry], link, daemon)
        texts = dict(edit_entries([entry], now, wanted, differences(now, wanted), daemon, link.lacks))
        return texts or {entry.file.path: entry.file.text}

    def names_files(self, files: Files) -> tuple[str, ...]:
        return ()

    def others(self, files: Files, declared: Declaration) -> object:
        paths = {place.file for place in declared.places}
        return {path: all_but(files[path], declared.identity) for path in paths}


def _everything(files: Files) -> list[InterfaceEntry]:
    return [entry for path in in_order(files) for entry in entries_of(files[path])]


def _refuse_unsupported(wanted: InterfaceConfig) -> None:
    refused = []
    if wanted.time_servers is not None:
        refused.append("`time_servers`")
    if refused:
        raise NotSupported(f"{', '.join(refused)} on {wanted.interface}: netplan files have no key for it")
