"""Every example that the Debian packages of the stacks ship, through the parser of its format.

Each file is either read and round-tripped byte for byte for every interface in it, or
refused with a reason that names the file. The generators of the packages make more of them.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from fixed_anchor.change.files import Files, FileText, decode
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite
from tests.lab.image import base_image, in_image

MAC = "00:00:5e:00:53:11"
Case = tuple[str, str, Files]


def _file(path: str, source: Path) -> FileText:
    return FileText(path, decode(source.read_bytes()), 0o600)


def _netplan_examples() -> list[Path]:
    return sorted((base_image() / "usr/share/doc/netplan/examples").glob("*.yaml"))


def shipped() -> Iterator[Case]:
    """Dialect, name, and the files as the stack would see them."""
    root = base_image()
    for source in _netplan_examples():
        path = f"/etc/netplan/{source.name}"
        yield "netplan", source.name, {path: _file(path, source)}
    for source in sorted((root / "usr/share/doc/ifupdown/examples").iterdir()):
        if source.suffix not in (".sh", ".pl"):
            path = "/etc/network/interfaces"
            yield "ifupdown", source.name, {path: _file(path, source)}
    yield "ifupdown", "interfaces", {"/etc/network/interfaces": _file("/x", root / "etc/network/interfaces")}
    for source in sorted((root / "usr/lib/systemd/network").glob("*.network")):
        path = f"/etc/systemd/network/{source.name}"
        yield "networkd", source.name, {path: _file(path, source)}


def generated(root: Path) -> Iterator[Case]:
    """What netplan's generator makes of its own examples for each backend, and NetworkManager's of a command line.

    ``root`` is a copy of the image that may be written to.
    """
    for source in _netplan_examples():
        for backend in ("networkd", "NetworkManager"):
            tree = root / f"mnt/{source.stem}-{backend}"
            (tree / "etc/netplan").mkdir(parents=True)
            text = source.read_text()
            if "renderer:" not in text:
                text = text.replace("network:\n", f"network:\n  renderer: {backend}\n", 1)
            (tree / "etc/netplan/1.yaml").write_text(text)
            (tree / "etc/netplan/1.yaml").chmod(0o600)
            in_image(root, "/usr/libexec/netplan/generate", "--root-dir", f"/mnt/{tree.name}")
            for made in sorted((tree / "run").rglob("*.n*")):
                if made.suffix == ".nmconnection":
                    path = f"/etc/NetworkManager/system-connections/{made.name}"
                    yield "NetworkManager", f"{source.name}: {made.name}", {path: _file(path, made)}
                elif made.suffix == ".network":
                    path = f"/etc/systemd/network/{made.name}"
                    yield "networkd", f"{source.name}: {made.name}", {path: _file(path, made)}
    lines = (
        "ip=203.0.113.20::203.0.113.1:255.255.255.0:tide-db:eth0:none nameserver=203.0.113.2",
        "ip=eth0:dhcp rd.route=198.18.4.0/22:203.0.113.5:eth0",
        "ip=[2001:db8:7e:1::20]::[2001:db8:7e:1::1]:64::eth0:off vlan=eth0.7:eth0 bond=bond0:eth1,eth2 ip=bond0:auto6",
    )
    for number, line in enumerate(lines):
        place = root / f"mnt/initrd{number}"
        in_image(root, "/usr/lib/NetworkManager/nm-initrd-generator", "-c", f"/mnt/{place.name}", "--", *line.split())
        for made in sorted(place.iterdir()):
            path = f"/etc/NetworkManager/system-connections/{made.name}"
            yield "NetworkManager", f"{line}: {made.name}", {path: _file(path, made)}


def _outcome(stack: str, files: Files) -> str | None:
    """``None`` where every interface was round-tripped, else why not. Anything but our own error fails the test."""
    form = FORMATS[stack]
    try:
        names = form.named(files)
        kinds = ("ethernet", "wireless", "bond", "bridge", "vlan", "vrf", "tun")
        links = [LinkFacts(name, MAC, MAC, "r8169", kind) for name in names or ("eth0",) for kind in kinds]
        for link in links:
            for declaration in form.read(files, (link,)):
                assert rewrite(form, files, link, declaration.config) == (), (stack, link.name)
    except AnchorError as error:
        assert str(error).strip()
        assert "Traceback" not in str(error)
        return str(error)
    return None


def test_every_shipped_example(image_copy: Path, capsys: pytest.CaptureFixture[str]) -> None:
    counts: dict[str, list[int]] = {}
    reasons: list[str] = []
    for stack, name, files in [*shipped(), *generated(image_copy)]:
        why = _outcome(stack, files)
        counts.setdefault(stack, [0, 0])[why is not None] += 1
        if why is not None:
            reasons.append(f"{stack} {name}: {why}")
    with capsys.disabled():
        for stack, (whole, refused) in counts.items():
            print(f"\n{stack}: {whole} examples round-tripped, {refused} refused", end="")
        print("".join(f"\n  {reason}" for reason in reasons))
    assert counts["netplan"][0] + counts["netplan"][1] == len(_netplan_examples()) >= 20
    assert counts["NetworkManager"][0] >= 18
    # Ports take no addresses; what else is refused can be counted on one hand.
    assert len([reason for reason in reasons if "is a port of" not in reason]) <= 3, reasons
    assert counts["networkd"][0] >= 20
    assert counts["ifupdown"][0] >= 3
