"""A wireless link that nothing declares: the real programs read what is written; its passphrase is shown nowhere."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from click.testing import CliRunner

from fixed_anchor.cli import cli
from fixed_anchor.core.errors import AnchorError
from tests.lab.conftest import MakeHost
from tests.lab.image import in_image

pytestmark = pytest.mark.one_in(3)

SECRET = 'under "the" third stone\\7'
NETWORK = "Tern Point; guests"
PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2, pools: []}
hosts:
  gannet-ws:
    reach: tree:root
    interfaces:
      wlan0: {segment: quay, hold: 203.0.113.20, wifi: {network: "%s"%s}}
"""
WIRED = {
    "netplan": ("/etc/netplan/50-tide.yaml", "network:\n  version: 2\n  ethernets:\n    eth0:\n      dhcp4: true\n"),
    "NetworkManager": (
        "/etc/NetworkManager/system-connections/quay.nmconnection",
        "[connection]\nid=Quay\nuuid=5b0f6f6c-1111-4222-8333-944455556666\ntype=ethernet\ninterface-name=eth0\n\n[ipv4]\nmethod=auto\n",
    ),
    "ifupdown": ("/etc/network/interfaces", "auto lo eth0\niface lo inet loopback\n\niface eth0 inet dhcp\n"),
    "ifcfg": ("/etc/sysconfig/network-scripts/ifcfg-eth0", "DEVICE=eth0\nBOOTPROTO=dhcp\nONBOOT=yes\n"),
}


def drafted(folder: Path, stack: str, files: dict[str, str] | None = None, secret: str | None = SECRET) -> Path:
    """The folder of the files of a draft, which shows the passphrase nowhere."""
    path, text = WIRED[stack]
    for name, content in {path: text, **(files or {})}.items():
        file = folder / "root" / name.lstrip("/")
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(content)
    password = ""
    if secret is not None:
        (folder / "key").write_text(secret + "\n")
        (folder / "key").chmod(0o600)
        password = ", password: file:key"
    (folder / "plan.yaml").write_text(PLAN % (NETWORK, password))
    for words in ((), ("--json",), ("-o", str(folder / "out"))):
        shown = CliRunner().invoke(cli, ["--log-level", "debug", "draft", str(folder / "plan.yaml"), *words])
        assert shown.exit_code == 0, shown.output
        assert "third stone" not in shown.output
    return folder / "out/gannet-ws"


def only_new(out: Path, name: str) -> Path:
    (path,) = out.rglob(name)
    assert path.stat().st_mode & 0o077 == 0
    return path


def test_netplan(tmp_path: Path, make_host: MakeHost) -> None:
    made = only_new(drafted(tmp_path, "netplan"), "90-wlan0.yaml")
    host = make_host()
    host.write("/root/tree/etc/netplan/90-wlan0.yaml", made.read_text())
    host("netplan", "generate", "--root-dir", "/root/tree")
    joins = host.read("/root/tree/run/netplan/wpa-wlan0.conf")
    assert f'ssid="{NETWORK}"' in joins
    assert f'psk="{SECRET}"' in joins
    assert "203.0.113.20/24" in host.read("/root/tree/run/systemd/network/10-netplan-wlan0.network")


def test_a_network_that_the_files_know(tmp_path: Path, image_copy: Path) -> None:
    known = "network:\n  wifis:\n    wlan1:\n      dhcp4: true\n      access-points:\n"
    known += f'        "{NETWORK}": {{password: known already}}\n'
    out = drafted(tmp_path, "netplan", {"/etc/netplan/60-radio.yaml": known}, None)
    text = only_new(out, "60-radio.yaml").read_text()
    assert text.startswith(known)
    assert text.count("known already") == 2


def test_networkmanager(tmp_path: Path, make_host: MakeHost) -> None:
    made = only_new(drafted(tmp_path, "NetworkManager"), "wlan0.nmconnection")
    host = make_host({"/etc/hosts": "127.0.0.1 localhost\n"}, ("NetworkManager.service",))
    path = "/etc/NetworkManager/system-connections/wlan0.nmconnection"
    host.write(path, made.read_text())
    loaded = host("nmcli", "connection", "load", path)
    assert "Could not" not in loaded.stdout + loaded.stderr
    fields = "802-11-wireless.ssid,802-11-wireless-security.psk,802-11-wireless-security.key-mgmt,ipv4.addresses"
    said = host("nmcli", "-s", "-e", "no", "-g", fields, "connection", "show", "wlan0").stdout.splitlines()
    assert said == [NETWORK, SECRET, "wpa-psk", "203.0.113.20/24"]


def test_ifupdown(tmp_path: Path, image_copy: Path) -> None:
    made = only_new(drafted(tmp_path, "ifupdown"), "interfaces")
    (image_copy / "etc/network/interfaces").write_text(made.read_text())
    said = in_image(image_copy, "ifquery", "wlan0").stdout.splitlines()
    assert f"wpa-ssid: {NETWORK}" in said
    assert f"wpa-psk: {SECRET}" in said
    assert "address: 203.0.113.20" in said


def test_ifcfg_and_its_shell(tmp_path: Path) -> None:
    out = drafted(tmp_path, "ifcfg")
    made, keys = only_new(out, "ifcfg-wlan0"), only_new(out, "keys-wlan0")
    assert "third stone" not in made.read_text()
    script = f'. {made}; . {keys}; printf "%s|%s|%s" "$ESSID" "$WPA_PSK" "$TYPE"'
    said = subprocess.run(["sh", "-euc", script], capture_output=True, text=True, check=True).stdout
    assert said == f"{NETWORK}|{SECRET}|Wireless"


@pytest.mark.parametrize(
    ("mode", "text", "said"),
    [
        (0o644, "long enough\n", "others may read the passphrase: mode 0644"),
        (0o600, "short\n", "there is no passphrase in this file"),
        (0o600, "\u00e9" * 10 + "\n", "there is no passphrase in this file"),
        (0o600, None, "the passphrase cannot be read"),
    ],
)
def test_a_file_that_is_none(mode: int, text: str | None, said: str, tmp_path: Path) -> None:
    path, wired = WIRED["netplan"]
    (tmp_path / "root/etc/netplan").mkdir(parents=True)
    (tmp_path / "root" / path.lstrip("/")).write_text(wired)
    if text is not None:
        (tmp_path / "key").write_text(text)
        (tmp_path / "key").chmod(mode)
    (tmp_path / "plan.yaml").write_text(PLAN % (NETWORK, ", password: file:key"))
    shown = CliRunner().invoke(cli, ["draft", str(tmp_path / "plan.yaml")])
    assert isinstance(shown.exception, AnchorError)
    assert said in str(shown.exception)
    assert text is None or text.strip() not in f"{shown.output}{shown.exception}"
