"""A first ifcfg file of the Red Hat family for an interface that none declares."""

from __future__ import annotations

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Wireless
from fixed_anchor.formats.ifcfg_read import FOLDER, mains
from fixed_anchor.formats.wireless import kept_elsewhere, unknown_network
from fixed_anchor.text.shell import ShellFile, quoted


def new_lines(files: Files, link: LinkFacts, wanted: InterfaceConfig, daemon: str) -> list[str]:
    """The lines of a file that binds a connection to ``link``, as those of the host's other interfaces are bound."""
    others = [ShellFile(files[path]) for path in mains(files) if not path.endswith("ifcfg-lo")]
    said = {
        "TYPE": "Wireless" if link.kind == "wireless" else "Ethernet",
        "NAME": link.name if any(other.get("NAME") for other in others) else "",
        "DEVICE": link.name,
        "HWADDR": (link.mac or "") if any(other.get("HWADDR") for other in others) else "",
        "ONBOOT": "yes",
        "NM_CONTROLLED": "no" if daemon == "network-scripts" else "",
        "BOOTPROTO": "dhcp" if wanted.ipv4 == "dhcp" else "none",
    }
    return [f"{name}={quoted(value)}\n" for name, value in said.items() if value]


def radio_of(files: Files, link: LinkFacts, wireless: Wireless) -> tuple[dict[str, str], dict[str, str | None]]:
    """The assignments that name a radio network, and the file beside it that has its passphrase (``keys-IF``).

    The passphrase is the plan's, else that of another file for the network. Raises :class:`NotSupported`.
    """
    password = wireless.password
    if password is None:
        known = [path for path in mains(files) if ShellFile(files[path]).get("ESSID") == wireless.network]
        if not known:
            raise unknown_network(wireless)
        keys = files.get(known[0].replace("/ifcfg-", "/keys-"))
        password = ShellFile(keys).get("WPA_PSK") if keys is not None else ""
        if not password:
            raise kept_elsewhere(wireless, known[0])
    path = f"{FOLDER}keys-{link.name}"
    text = ShellFile(FileText(path, "", 0o600))
    text.set("WPA_PSK", password)
    return {"MODE": "Managed", "ESSID": wireless.network, "KEY_MGMT": "WPA-PSK"}, {path: text.result()}
