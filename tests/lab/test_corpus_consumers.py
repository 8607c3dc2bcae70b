"""Each draft of the corpus as its real consumer reads it, held against the plan.

netplan's generator, NetworkManager's own reader and ifup's dry run take the files of every step.
systemd-networkd has no dry run: it runs in a host. The ifcfg files have no consumer here; they are
sourced by a shell, which is what the network scripts do.
"""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterator
from fnmatch import fnmatchcase
from pathlib import Path

import msgspec
import pytest

from fixed_anchor.change.files import Files
from fixed_anchor.core.addresses import parse_address, parse_interface_address, parse_prefix
from fixed_anchor.core.config import InterfaceConfig, LinkFacts
from fixed_anchor.formats import FORMATS
from tests.corpus_hosts import MACS, Case, cases, site_of
from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.image import in_image
from tests.lab.network import run, wait_for
from tests.test_corpus import after_draft, declares, sound

pytestmark = pytest.mark.one_in(3)


class Read(msgspec.Struct):
    """What a consumer made of an interface."""

    addresses: list[str] = []
    gateways: set[str] = set()
    resolvers: list[str] = []
    dhcp: bool = False


def steps(stack: str, folder: Path) -> Iterator[tuple[Case, Files, dict[str, InterfaceConfig]]]:
    """Every case of a stack that can be drafted, at each of its steps: the files, and what is wanted."""
    for case in cases():
        if case.stack != stack or "refused" in case.spec or "stops-at-unreadable" in case.spec.get("told", []):
            continue
        files = sound(case)
        for plan in [case.plan, *case.later_plans()]:
            site = site_of(case, folder, files, plan)
            files, wanted = after_draft(site, files)
            declares(case, site, files, wanted)
            yield case, files, wanted


def agrees(case: Case, read: Read, wanted: InterfaceConfig) -> None:
    said = (case.name, wanted.interface, read)
    for version in (4, 6):
        if not wanted.touches(version):
            continue
        held = [a for a in map(parse_interface_address, read.addresses) if a.version == version]
        assert tuple(dict.fromkeys(held)) == wanted.of_family(version), said
        gateways = {g for g in map(parse_address, read.gateways) if g.version == version}
        assert gateways == {r.next_hop for r in wanted.default_routes(version)}, said
    if wanted.resolvers is not None:
        assert sorted(read.resolvers) == sorted(map(str, wanted.resolvers)), said
    if wanted.touches(4):
        assert read.dhcp == (wanted.ipv4 == "dhcp"), said


def lay(root: Path, files: Files) -> None:
    for path, file in files.items():
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(file.text)
        target.chmod(0o600)


def sections(text: str) -> list[tuple[str, dict[str, list[str]]]]:
    """A file of sections and assignments, read in the plainest way."""
    found: list[tuple[str, dict[str, list[str]]]] = []
    for line in text.splitlines():
        if line.startswith("["):
            found.append((line.strip("[]"), {}))
        elif "=" in line and not line.startswith("#"):
            key, _, value = line.partition("=")
            found[-1][1].setdefault(key, []).append(value)
    return found


def of_network(text: str) -> Read:
    read = Read([], set(), [], False)
    for name, said in sections(text):
        if name == "Network":
            read.dhcp = said.get("DHCP", ["no"])[-1] in ("yes", "ipv4")
            read.resolvers += said.get("DNS", [])
        if name in ("Network", "Address"):
            read.addresses += said.get("Address", [])
        if name == "Network":
            read.gateways |= set(said.get("Gateway", []))
        if name == "Route" and said.get("Destination", ["0.0.0.0/0"])[0] in ("0.0.0.0/0", "::/0"):
            read.gateways |= set(said.get("Gateway", []))
    return read


def of_keyfile(text: str) -> Read:
    read = Read([], set(), [], False)
    for name, said in sections(text):
        if name not in ("ipv4", "ipv6"):
            continue
        if name == "ipv4":
            read.dhcp = said["method"] == ["auto"]
        never = said.get("never-default", ["false"]) == ["true"]
        for key, values in said.items():
            if re.fullmatch(r"address\d+", key):
                address, _, gateway = values[0].partition(",")
                read.addresses.append(address)
                read.gateways |= {gateway} if gateway and not never else set()
            elif re.fullmatch(r"route\d+", key) and values[0].split(",")[0] in ("0.0.0.0/0", "::/0") and not never:
                read.gateways.add(values[0].split(",")[1])
        read.gateways |= set(said.get("gateway", [])) if not never else set()
        read.resolvers += [w for v in said.get("dns", []) for w in v.split(";") if w]
    return read


def test_netplan_generator(image_copy: Path, tmp_path: Path) -> None:
    # For wireless links the generator asks another program, whose streams it redirects.
    run("mknod", "-m", "666", str(image_copy / "dev/null"), "c", "1", "3", check=False)
    looked_at = 0
    for number, (case, files, wanted) in enumerate(steps("netplan", tmp_path)):
        root = image_copy / f"mnt/{number}"
        lay(root, {p: f for p, f in files.items() if "/netplan/" in p})
        done = in_image(image_copy, "/usr/libexec/netplan/generate", "--root-dir", f"/mnt/{number}")
        assert done.returncode == 0, (case.name, done.stderr)
        networks = sorted((root / "run/systemd/network").glob("*.network"))
        profiles = sorted((root / "run/NetworkManager/system-connections").glob("*.nmconnection"))
        for name, config in wanted.items():
            text = next((t for p in networks if is_for(t := p.read_text(), case, name)), None)
            if text is not None:
                agrees(case, of_network(text), config)
            else:
                (profile,) = [t for p in profiles if f"interface-name={name}\n" in (t := p.read_text())]
                agrees(case, of_keyfile(profile), config)
            looked_at += 1
    assert looked_at > 90


def is_for(text: str, case: Case, name: str) -> bool:
    """Whether a generated file is for a link, by the rules that the generator writes."""
    (match,) = [said for section, said in sections(text) if section == "Match"]
    link = case.spec.get("links", {}).get(name, {})
    own = {
        # What is named at boot has its new name by then.
        "Name": name if "name-changes" not in case.spec.get("told", []) else match.get("Name", [name])[0],
        "PermanentMACAddress": MACS.get(name, ""),
        "MACAddress": MACS.get(name, ""),
        "Driver": link.get("driver", ""),
    }
    return all(any(fnmatchcase(own[k], w) for w in v[0].split()) for k, v in match.items() if k in own)


def test_network_manager_reads_it(image_copy: Path, tmp_path: Path) -> None:
    looked_at = 0
    for case, files, wanted in steps("NetworkManager", tmp_path):
        for name, config in wanted.items():
            said = case.spec.get("links", {}).get(name, {})
            link = LinkFacts(name, MACS.get(name), MACS.get(name), said.get("driver"), said.get("kind", "ethernet"))
            (declared,) = FORMATS["NetworkManager"].read(files, (link,))
            argv = ["chroot", str(image_copy), "nmcli", "--offline", "connection", "modify", "connection.id", "Read"]
            text = files[declared.file].text
            done = subprocess.run(["unshare", "--net", *argv], input=text, capture_output=True, text=True, check=False)
            assert done.returncode == 0, (case.name, done.stderr, text)
            agrees(case, of_keyfile(done.stdout), config)
            looked_at += 1
    assert looked_at > 80


def test_ifup_without_acting(image_copy: Path, tmp_path: Path) -> None:
    looked_at = 0
    for case, files, wanted in steps("ifupdown", tmp_path):
        lay(image_copy, {p: f for p, f in files.items() if p.startswith("/etc/network/interfaces")})
        for name, config in wanted.items():
            # What belongs to bridges and bonds is done by scripts that `--no-act` does not run.
            done = in_image(
                image_copy, "ifup", "--no-act", "--verbose", "--force", "-i", "/etc/network/interfaces", name
            )
            said = done.stdout + done.stderr
            assert done.returncode == 0, (case.name, said)
            read = Read([], set(), [], "dhclient -4" in said)
            for address, mask in re.findall(r"^ip (?:-6 )?addr(?:ess)? (?:add|replace) (\S+?)(?:/(\S+))? ", said, re.M):
                read.addresses.append(f"{address}/{parse_prefix(mask, 6 if ':' in address else 4)}")
            read.gateways |= set(re.findall(r"route (?:add|replace) default via (\S+)", said))
            agrees(case, read, msgspec.structs.replace(config, resolvers=None))
            looked_at += 1
        for path in files:
            if path.startswith("/etc/network/interfaces.d/"):
                (image_copy / path.lstrip("/")).unlink()
    assert looked_at > 100


def test_ifcfg_files_are_sourced(tmp_path: Path) -> None:
    """No consumer of these is at hand: a shell reads them as the network scripts do."""
    looked_at = 0
    for case, files, wanted in steps("ifcfg", tmp_path):
        for name, config in wanted.items():
            link = LinkFacts(name, MACS.get(name), MACS.get(name), kind=case_kind(case, name))
            (declared,) = FORMATS["ifcfg"].read(files, (link,))
            (tmp_path / "ifcfg").write_text(files[declared.file].text)
            done = subprocess.run(
                ["sh", "-euc", ". ./ifcfg; set"], cwd=tmp_path, capture_output=True, text=True, check=True
            )
            said = dict(re.findall(r"^([A-Z0-9_]+)='?([^'\n]*)'?$", done.stdout, re.M))
            read = Read([], set(), [], said["BOOTPROTO"] == "dhcp")
            for n in ("", *map(str, range(8))):
                if f"IPADDR{n}" in said:
                    prefix = said.get(f"PREFIX{n}") or parse_prefix(said[f"NETMASK{n}"], 4)
                    read.addresses.append(f"{said[f'IPADDR{n}']}/{prefix}")
            read.addresses += [w for k in ("IPV6ADDR", "IPV6ADDR_SECONDARIES") for w in said.get(k, "").split()]
            read.gateways |= {said[k] for k in ("GATEWAY", "IPV6_DEFAULTGW") if said.get(k)}
            read.resolvers += [said[f"DNS{n}"] for n in range(1, 8) if f"DNS{n}" in said]
            assert said.get("DEFROUTE", "yes") == "yes" or not config.default_routes(4), (case.name, said)
            agrees(case, read, config)
            looked_at += 1
    assert looked_at > 60


def case_kind(case: Case, name: str) -> str:
    return str(case.spec.get("links", {}).get(name, {}).get("kind", "ethernet"))


# --- systemd-networkd, which runs ------------------------------------------------------

#: What the lab has no devices for, or what waits for a person.
_NOT_IN_THE_LAB = ("bridge-itself", "member-of-vrf", "brought-up-by-hand", "unmanaged", "cloud-addresses")


def test_networkd_takes_it(make_host: MakeHost, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    whole = request.config.getoption("--whole-matrix")
    host = make_host({"/etc/hosts": "127.0.0.1 localhost\n"}, ("systemd-networkd.service",), lease=False, links=2)
    # A cover of it in every run; all of it behind the flag.
    for number, (case, files, wanted) in enumerate(steps("networkd", tmp_path)):
        if case.name.removeprefix("networkd-") in _NOT_IN_THE_LAB or not (whole or number % 8 == 0):
            continue
        host("sh", "-c", "rm -rf /etc/systemd/network/* /usr/lib/systemd/network/*-vendor.network")
        for path, file in files.items():
            if "/systemd/network/" in path:
                host.write(path, file.text, 0o644)
        for path in case.spec.get("masks", ()):
            host("ln", "-sf", "/dev/null", path)
        for name, said in case.spec.get("links", {}).items():
            for other in said.get("altnames", ()):
                host("ip", "link", "property", "add", "dev", name, "altname", other, check=False)
        host("networkctl", "reload")
        for name, config in wanted.items():
            wait_for(f"{case.name}: {name} as wanted", lambda n=name, c=config: holds(host, n, c), 30)  # type: ignore[misc]


def holds(host: LabHost, name: str, wanted: InterfaceConfig) -> bool:
    """Whether the kernel holds exactly what is wanted: addresses, and their default routes."""
    for version in (4, 6):
        if wanted.method(version) not in ("fixed", "dhcp") or (version == 6 and wanted.ipv6 == "dhcp"):
            continue
        shown = host("ip", "-o", f"-{version}", "address", "show", "dev", name, "scope", "global").stdout
        if wanted.method(version) == "dhcp":
            # On the second link no server answers.
            return name != "eth0" or " dynamic " in shown
        held = [parse_interface_address(line.split()[3]) for line in shown.splitlines()]
        routes = host("ip", f"-{version}", "route", "show", "default", "dev", name).stdout
        hops = {parse_address(hop) for hop in re.findall(r"via (\S+)", routes)}
        if sorted(held) != sorted(wanted.of_family(version)):
            return False
        if hops != {r.next_hop for r in wanted.default_routes(version)}:
            return False
    return True
