"""The real consumers take what is written: netplan's generator, ifup's dry run, running NetworkManager and networkd."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from tests.lab.conftest import NETWORKD, MakeHost
from tests.lab.image import in_image
from tests.test_formats import (
    FIXED,
    INTERFACES,
    KEYFILE,
    LEASED,
    NETWORK,
    REFUSED,
    WANTED,
    Files,
    rewritten,
    start,
)

pytestmark = pytest.mark.one_in(3)

CASES = [(goal, kind) for goal in WANTED for kind in ("leased", "fixed")]


def results(name: str) -> list[tuple[str, str, Files]]:
    return [(g, k, rewritten(name, start(name, k), WANTED[g])) for g, k in CASES if (name, g) not in REFUSED]


def test_netplan_generator(image_copy: Path) -> None:
    for goal, kind, files in results("netplan"):
        tree = image_copy / f"mnt/{goal}-{kind}"
        for path, file in files.items():
            target = tree / path.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(file.text)
            target.chmod(0o600)
        done = in_image(image_copy, "/usr/libexec/netplan/generate", "--root-dir", f"/mnt/{tree.name}")
        assert done.returncode == 0, (goal, kind, done.stderr)
        made = "".join(p.read_text() for p in (tree / "run/systemd/network").glob("*.network"))
        for address in WANTED[goal].addresses:
            assert f"Address={address}\n" in made, (goal, kind, made)
        for route in WANTED[goal].routes:
            assert f"Gateway={route.next_hop}\n" in made, (goal, kind, made)


def test_ifup_without_acting(image_copy: Path) -> None:
    for goal, kind, files in results("ifupdown"):
        (image_copy / "mnt/interfaces").write_text(files[INTERFACES].text)
        done = in_image(image_copy, "ifup", "--no-act", "--verbose", "--force", "-i", "/mnt/interfaces", "eth0")
        said = done.stdout + done.stderr
        assert done.returncode == 0, (goal, kind, said)
        for address in WANTED[goal].addresses:
            assert re.search(rf"ip (-6 )?addr(ess)? (add|replace) {address.ip}", said), (goal, kind, said)
        assert ("dhclient" in said) == (WANTED[goal].ipv4 == "dhcp"), (goal, kind, said)


@pytest.mark.parametrize("stack", ["networkd", "NetworkManager"])
def test_running_daemon(make_host: MakeHost, stack: str) -> None:
    path, unit = (NETWORK, "systemd-networkd") if stack == "networkd" else (KEYFILE, "NetworkManager")
    units = NETWORKD if stack == "networkd" else ("NetworkManager.service",)
    host = make_host({"/etc/hosts": "127.0.0.1 localhost\n"}, units, lease=False)
    written: list[tuple[str, str]] = []
    for number, (goal, _, files) in enumerate(results(stack)):
        # Every result under a name of its own, for an interface that is not there: loaded, and not brought up.
        name = f"x{number}"
        text = re.sub(r"interface-name=eth0|^mac-address=.*$", f"interface-name={name}", files[path].text, flags=re.M)
        text = re.sub(r"^(Name=eth0|MACAddress=.*|Name=eth\*)$", f"Name={name}", text, flags=re.M)
        text = re.sub(r"uuid=........", f"uuid={number:08x}", text)
        if stack == "networkd":
            host.write(f"/etc/systemd/network/{number:02d}-{name}.network", text, 0o644)
        else:
            # NetworkManager wants more of a wired login than the secret that must survive an edit.
            text = text.replace("[802-1x]\npassword=tide;secret=1\n", "")
            target = f"/etc/NetworkManager/system-connections/{name}.nmconnection"
            host.write(target, re.sub(r"interface-name=x\d+\n(?=\n)", "", text) if "802-3" in text else text)
            loaded = host("nmcli", "connection", "load", target)
            assert "Could not load" not in loaded.stdout + loaded.stderr, (goal, text, loaded)
        written.append((goal, re.search(r"uuid=(\S+)", text)[1] if stack == "NetworkManager" else ""))
    if stack == "networkd":
        host("networkctl", "reload")
    for goal, identity in written:
        if identity:
            shown = host("nmcli", "-g", "ipv4.addresses,ipv6.addresses", "connection", "show", identity).stdout
            for address in WANTED[goal].addresses:
                assert str(address) in shown.replace("\\:", ":"), (goal, shown)
    complaints = host("journalctl", "--no-pager", "-u", unit).stdout
    assert not re.search(r"ignoring|Unknown|Failed to parse|invalid", complaints), complaints
    assert len(written) >= len(LEASED[stack]) + len(FIXED[stack])
