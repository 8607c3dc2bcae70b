"""The corpus: host configurations as folders of files, each with its plan and what must come out of it.

``tests/corpus/STACK/CASE/`` holds the files as they lie on the host, and ``case.yaml``:

    about      what it stands for, in a line
    runs       the daemons that run; that of the stack unless said
    links      the links of the host (eth0 alone unless said): mac, driver, path, kind, master, holds, leased,
               profile, altnames
    resolv     who writes /etc/resolv.conf: nobody, systemd-resolved, resolvconf (a link there is made)
    starts     the daemons that a boot starts; nobody knows unless said
    disabled   units that nothing starts at boot
    processes  command lines of lease clients that run
    masks      paths that are links to /dev/null
    plan       the interfaces of the plan, as in a plan file
    told       the codes of all findings about the declared state that must be told, and no others
    refused    a regular expression: the draft is refused with such a message
    has, gone  lines that the drafted files must have, or must not have, by path
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import msgspec
import yaml

from fixed_anchor.change.files import Files, FileText
from fixed_anchor.daemons import is_active, netplan, starts_at_boot, units
from fixed_anchor.formats.interfaces2 import IFUP, PROGRAM
from fixed_anchor.machines.collected import HEADER, Collected
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.workflow.reached.site import Site

CORPUS = Path(__file__).with_name("corpus")
LEASED = "203.0.113.107/24"
MACS = {f"eth{n}": f"00:00:5e:00:53:{0x11 + n:02x}" for n in range(4)}
#: What runs on a host of each stack, and the daemon of netplan's second backend.
RUNS = {
    "netplan": "systemd-networkd", "networkd": "systemd-networkd", "NetworkManager": "NetworkManager",
    "ifupdown": "ifupdown", "ifupdown2": "ifupdown2", "ifcfg": "NetworkManager",
}  # fmt: skip

PLAN = """\
plan: 1
segments:
  quay:
    subnet: [203.0.113.0/24, "2001:db8:7e:1::/64"]
    gateway: [203.0.113.1, "2001:db8:7e:1::1"]
    resolvers: [203.0.113.2, 203.0.113.3]
    search: [ternpoint.example]
    pools: [203.0.113.100 - 203.0.113.199]
  labs:
    subnet: 198.51.100.0/24
    gateway: 198.51.100.1
    resolvers: 198.51.100.2
    search: [labs.ternpoint.example]
    pools: [198.51.100.100 - 198.51.100.199]
hosts:
  tide-db:
    reach: collected:tide-db.collection
    interfaces: {interfaces}
"""


class Case(msgspec.Struct, frozen=True):
    """One host of the corpus: its folder, what ``case.yaml`` says, and its files."""

    name: str
    stack: str
    spec: dict[str, Any]
    files: Files

    @property
    def plan(self) -> dict[str, dict[str, Any]]:
        """The interfaces of its plan, each with its segment."""
        planned = self.spec.get("plan", {"eth0": {"hold": "203.0.113.20"}})
        return {name: {"segment": "quay", **said} for name, said in planned.items()}

    def later_plans(self) -> list[dict[str, dict[str, Any]]]:
        """What the host is then planned for: other fixed addresses, and back to DHCP."""
        if "refused" in self.spec:
            return []
        kept = {n: {k: v for k, v in p.items() if k in ("segment", "gateway")} for n, p in self.plan.items()}
        moved = {
            n: p | {"hold": "198.51.100.31" if p["segment"] == "labs" else "203.0.113.31"} for n, p in kept.items()
        }
        leased = {n: {"segment": p["segment"], "ipv4": "dhcp"} for n, p in kept.items()}
        return [moved, leased]


def cases() -> list[Case]:
    """All of them, by name."""
    return [_case(path.parent) for path in sorted(CORPUS.glob("*/*/case.yaml"))]


def _case(folder: Path) -> Case:
    spec = yaml.safe_load((folder / "case.yaml").read_text()) or {}
    stack = folder.parent.name
    mode = 0o600 if stack in ("netplan", "NetworkManager") else 0o644
    files = {}
    for path in sorted(folder.rglob("*")):
        if path.is_file() and path.name != "case.yaml":
            name = "/" + str(path.relative_to(folder))
            files[name] = FileText(name, path.read_text(), mode)
    for name in spec.get("masks", ()):
        files[name] = FileText(name, "", mode)
    return Case(f"{stack}-{folder.name}", stack, spec, files)


def site_of(case: Case, folder: Path, files: Files, interfaces: dict[str, Any]) -> Site:
    """The site whose one host is that of ``case``, with these ``files`` and planned ``interfaces``."""
    (folder / "tide-db.collection").write_text(_collection(case, files))
    (folder / "plan.yaml").write_text(PLAN.replace("{interfaces}", json.dumps(interfaces)))
    return Site(read_plan(folder / "plan.yaml"), Collected(folder / "tide-db.collection"))


def _collection(case: Case, files: Files) -> str:
    """The document that the collector would print on such a host."""
    links = case.spec.get("links", {"eth0": {}})
    resolv = case.spec.get("resolv", "systemd-resolved")
    active = set(case.spec.get("runs", [RUNS[case.stack]])) | ({resolv} & set(units()))
    if case.stack == "netplan" and "renderer: NetworkManager" in "".join(f.text for f in files.values()):
        active = (active - {"systemd-networkd"}) | {"NetworkManager"}
    lines = [HEADER, "host tide-db"]
    address, route, devices = [], [], []
    for number, (name, said) in enumerate(links.items(), 2):
        held = said.get("holds", [] if said.get("master") else [said.get("leased", LEASED)] if name == "eth0" else [])
        infos = [_address(text, text == said.get("leased", LEASED)) for text in held]
        link: dict[str, Any] = {
            "ifname": name, "ifindex": number, "link_type": "ether", "operstate": "UP", "addr_info": infos,
            "address": said.get("mac", MACS.get(name, f"00:00:5e:00:53:{number + 0x40:02x}")),
        }  # fmt: skip
        if "altnames" in said:
            link["altnames"] = said["altnames"]
        if "kind" in said:
            link["linkinfo"] = {"info_kind": said["kind"]}
        if "master" in said:
            link["master"] = said["master"]
            link.setdefault("linkinfo", {})["info_slave_kind"] = said.get("port_of", "bridge")
        address.append(link)
        via = said.get("gateway", "203.0.113.1" if name == "eth0" and held else None)
        if via:
            route.append({"dst": "default", "gateway": via, "dev": name, "protocol": "dhcp"})
        profile = said.get("profile")
        if profile:
            devices.append(f"{name}:connected:{profile[0]}:{profile[1]}")
        if "driver" in said:
            lines += [f"link /sys/class/net/{name}/device/driver", f"|/sys/bus/drivers/{said['driver']}"]
        if "path" in said:
            lines += [f"file 644 0 0 /run/udev/data/n{number}", f"|E:ID_PATH={said['path']}"]
    answers = {u: "inactive" for u in units().values()} | {u: "active" for n, u in units().items() if n in active}
    ran = {
        ("ip", "-j", "-d", "address", "show"): json.dumps(address),
        ("ip", "-j", "route", "show"): json.dumps(route),
        ("ip", "-j", "-6", "route", "show"): "[]",
        is_active(): "\n".join(answers.values()),
        ("nmcli", "-t", "-f", "DEVICE,STATE,CONNECTION,CON-UUID", "device"): "\n".join(devices),
        ("ps", "-eo", "args"): "\n".join(case.spec.get("processes", ())),
        **{("systemctl", "is-enabled", unit): "disabled" for unit in case.spec.get("disabled", ())},
        **_starts(case.spec.get("starts")),
        ("ip", "rule", "show"): "",
        ("ip", "-6", "rule", "show"): "",
    }
    for argv, out in ran.items():
        lines += [f"run {len(argv)}", *(f" {word}" for word in argv), *(f"|{x}" for x in out.splitlines()), "status 0"]
    if case.stack == "netplan":
        lines += [f"link {netplan.GENERATORS[0]}", "|/usr/libexec/netplan/generate"]
    if case.stack == "ifupdown2":
        lines += [f"link {IFUP}", f"|{PROGRAM}"]
    if resolv in ("systemd-resolved", "resolvconf"):
        target = {"systemd-resolved": "../run/systemd/resolve/stub-resolv.conf", "resolvconf": "../run/resolvconf/r"}
        lines += ["link /etc/resolv.conf", f"|{target[resolv]}"]
    for path, file in files.items():
        lines.append(f"file {file.mode:o} 0 0 {path}")
        parts = file.text.split("\n")
        lines += [f"|{part}" for part in parts[:-1]] + ([f"+{parts[-1]}"] if parts[-1] else [])
    return "\n".join([*lines, "end", ""])


def _starts(daemons: list[str] | None) -> dict[tuple[str, ...], str]:
    """The answer of the host which daemons a boot starts."""
    if daemons is None:
        return {}
    return {starts_at_boot(): "".join(f"{units()[name]} enabled enabled\n" for name in daemons)}


def _address(text: str, leased: bool) -> dict[str, Any]:
    base, _, prefix = text.partition("/")
    life = {"dynamic": True, "valid_life_time": 3000} if leased else {}
    return {"family": "inet6" if ":" in base else "inet", "local": base, "prefixlen": int(prefix), **life}
