"""A simulated host: its real interface files, and a kernel that holds what they declare once loaded."""

from __future__ import annotations

import contextlib
import json
import re
import time
from collections.abc import Callable
from typing import Any, Protocol

from fixed_anchor.change.files import FileText
from fixed_anchor.core.addresses import IPAddress, default_network, parse_address, parse_interface_address, with_prefix
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.daemons import programs
from fixed_anchor.formats import FORMATS, interfaces2
from fixed_anchor.packets.ipv6 import link_local_of
from fixed_anchor.standins.station import SimulatedHost, SimulatedInterface, Station

KERNEL_FILE = "/run/standin-kernel.json"
#: When a daemon loaded the files last.
RELOADED_FILE = "/run/standin-reloaded"
#: What listens on every simulated host, as ss(8) prints it.
_SOCKETS = 'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:(("sshd",pid=612,fd=3))\n'
_NOT_KEPT = (("ip", "address"), ("ip", "route"), ("ip", "-4"), ("ip", "rule"))


class TreeAccess(Protocol):
    """The file access a simulated host needs; paths are the host's own."""

    def read(self, path: str) -> FileText | None: ...
    def glob(self, pattern: str) -> list[str]: ...
    def put(self, path: str, data: bytes, mode: int = 0o600) -> None: ...


class StandinHost:
    """The running side of a simulated host.

    Its kernel is a JSON file in its tree, so that it outlives a command: a first
    access boots the host, which loads the files once.
    """

    def __init__(self, station: Station, host: SimulatedHost, files: TreeAccess) -> None:
        self.station = station
        self.host = host
        self.files = files

    # --- the simulated kernel ---------------------------------------------------------

    def kernel(self) -> dict[str, dict[str, Any]]:
        """Per interface: ``addresses``, ``routes``, ``resolvers``, ``search``, ``mtu``, and whether it is ``off``."""
        stored = self.files.read(KERNEL_FILE)
        if stored is None:
            return self.load()
        return json.loads(stored.text)  # type: ignore[no-any-return]

    def store(self, kernel: dict[str, dict[str, Any]]) -> None:
        """Keeps the simulated kernel for the next command."""
        self.files.put(KERNEL_FILE, json.dumps(kernel, indent=1).encode(), 0o644)

    def load(self) -> dict[str, dict[str, Any]]:
        """Loads the interface files into the kernel, as a boot or a reload of the stack would."""
        stored = self.files.read(KERNEL_FILE)
        before = json.loads(stored.text) if stored is not None else {}
        kernel = {i.name: self._from_files(i) for i in self.host.interfaces}
        for name, state in kernel.items():
            # What no file declares stays as it is, which at boot is off; what one declares is switched on.
            state["off"] = not state.pop("declared") and before.get(name, {}).get("off", True)
        self.store(kernel)
        return kernel

    def _from_files(self, interface: SimulatedInterface) -> dict[str, Any]:
        state: dict[str, Any] = {"addresses": [], "routes": [], "resolvers": [], "search": [], "mtu": 1500}
        state["declared"] = False
        link = LinkFacts(interface.name, interface.mac, interface.mac)
        for name, form in FORMATS.items():
            if name == interfaces2.READERS[1]:
                # Of the two that read interfaces(5) it is ifupdown that is installed here.
                continue
            files = {p: f for pattern in form.patterns for p in self.files.glob(pattern) if (f := self.files.read(p))}
            for declaration in form.read(files, (link,)):
                config = declaration.config
                state["declared"] = True
                if config.ipv4 == "dhcp":
                    self._lease(interface, state)
                if config.hears_routers:
                    self._announced(interface, state, config.ipv6 == "dhcp")
                for address in config.addresses:
                    state["addresses"].append({"address": str(address), "leased": False})
                for route in config.routes:
                    state["routes"].append(
                        {"to": str(route.destination), "via": str(route.next_hop), "metric": route.metric}
                    )
                state["resolvers"] += [str(r) for r in config.resolvers or ()]
                state["search"] += list(config.search or ())
        return state

    def _lease(self, interface: SimulatedInterface, state: dict[str, Any]) -> None:
        segment = self.station.segments[interface.segment]
        address = segment.lease_for(interface.mac)
        if address is None:
            state["addresses"].append({"address": "169.254.17.4/16", "leased": False})
            return
        leased = with_prefix(address, segment.subnet.prefixlen)
        state["addresses"].append({"address": str(leased), "leased": True, "seconds": segment.lease_seconds * 3 // 4})
        if segment.router:
            state["routes"].append({"to": "0.0.0.0/0", "via": str(segment.router), "metric": 100, "dhcp": True})
        state["resolvers"] += [str(r) for r in segment.resolvers]
        state["search"] += list(segment.search)

    def _announced(self, interface: SimulatedInterface, state: dict[str, Any], asks: bool) -> None:
        """What the routers of the segment announce, and with ``asks`` what DHCPv6 leases beside."""
        segment = self.station.segments[interface.segment]
        if segment.announces is None:
            return
        held = [with_prefix(segment.announces[int(link_local_of(interface.mac)) & 0xFFFFFFFF], 64)]
        if asks and segment.leases6:
            held.append(with_prefix(segment.announces[0x100 + interface.index], 128))
        state["addresses"] += [{"address": str(a), "leased": True, "seconds": segment.lease_seconds} for a in held]
        state["routes"].append({"to": "::/0", "via": "fe80::1", "metric": None, "ra": True})

    def addresses_of(self, interface: SimulatedInterface) -> list[IPAddress]:
        """The addresses that the kernel holds on ``interface``, the link-local one among them."""
        held = [parse_interface_address(a["address"]).ip for a in self.kernel()[interface.name]["addresses"]]
        return [*held, link_local_of(interface.mac)]

    def first_address(self) -> IPAddress | None:
        """The one by which it is reached."""
        first = next(iter(self.host.interfaces), None)
        return next(iter(self.addresses_of(first)), None) if first is not None else None

    def own_addresses(self) -> list[IPAddress]:
        """Those of all its interfaces."""
        return [address for interface in self.host.interfaces for address in self.addresses_of(interface)]

    def since_reload(self) -> float | None:
        """Seconds since a daemon loaded the files last; ``None`` where none did since the host booted."""
        stored = self.files.read(RELOADED_FILE)
        return time.time() - float(stored.text) if stored is not None else None

    def gateway_of(self, interface: str, version: int) -> IPAddress | None:
        """The next hop of the default route of an interface."""
        routes = self.kernel()[interface]["routes"]
        hops = [r["via"] for r in routes if r["to"] == str(default_network(version))]
        return parse_address(hops[0]) if hops else None

    # --- commands ---------------------------------------------------------------------

    def command(self, argv: tuple[str, ...]) -> tuple[int, str, str]:
        """Status, output and error output of one of the commands that the stand-in knows."""
        commands: dict[tuple[str, ...], Callable[[tuple[str, ...]], tuple[int, str, str]]] = {
            ("ip", "-j", "-d", "address", "show"): self._ip_address,
            ("ip", "-j", "route", "show"): self._ip_route,
            ("ip", "-j", "-6", "route", "show"): self._ip_route6,
            ("ip", "rule", "show"): self._ip_rule,
            ("resolvectl", "dns"): self._resolvectl_dns,
            ("resolvectl", "domain"): self._resolvectl_domain,
            ("netplan", "generate"): self._netplan_generate,
            ("networkctl", "reload"): self._reload,
            ("ip", "link", "set", "dev"): self._link_set,
            ("systemctl", "list-unit-files"): lambda _: (0, "systemd-networkd.service enabled enabled\n", ""),
            ("networkctl", "reconfigure"): self._reload,
            ("systemctl", "restart"): self._reload,
            ("systemctl", "is-active"): self._is_active,
            ("ps", "-eo", "args"): lambda _: (0, "ARGS\n/sbin/init\n", ""),
            ("dpkg-query", "-W"): lambda _: (0, self._packages(), ""),
            ("ss",): lambda _: (0, _SOCKETS, ""),
            ("hostname", "-F"): lambda _: (0, "", ""),
            ("test", "-d", "/run/systemd/system"): lambda _: (0, "", ""),
            ("systemctl", "list-jobs"): lambda _: (0, "", ""),
        }
        # A state that the simulated kernel does not keep.
        kept_by_none = argv[:2] in _NOT_KEPT or (argv[0] == "tee" and argv[-1].startswith("/proc/sys/"))
        if kept_by_none and argv[2:] != ("show",):
            return 0, "", ""
        for length in range(len(argv), 0, -1):
            known = commands.get(argv[:length])
            if known is not None:
                return known(argv[length:])
        return 127, "", f"{argv[0]}: not found"

    def _packages(self) -> str:
        """The packages that the record in its tree has, a line each."""
        status = self.files.read(programs.STATUS)
        fields = re.findall(r"^(?:Package|Version): (.*)$", status.text if status is not None else "", re.MULTILINE)
        return "".join(f"installed {n} {v}\n" for n, v in zip(fields[::2], fields[1::2], strict=True))

    def _link_set(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        kernel = self.kernel()
        if len(rest) < 2 or rest[0] not in kernel:
            return 1, "", "Cannot find device"
        kernel[rest[0]]["off"] = rest[1] == "down" or (rest[1] != "up" and kernel[rest[0]].get("off", False))
        self.store(kernel)
        return 0, "", ""

    def _is_active(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        states = [
            "active" if unit.startswith(("systemd-networkd", "systemd-resolved")) else "inactive" for unit in rest
        ]
        return (0 if "active" in states else 3), "\n".join(states) + "\n", ""

    def _netplan_generate(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        try:
            for interface in self.host.interfaces:
                self._from_files(interface)
        except AnchorError as error:
            return 78, "", str(error)
        return 0, "", ""

    def _reload(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        # The real one ignores what it cannot read, and says nothing.
        with contextlib.suppress(InputError):
            self.load()
        self.files.put(RELOADED_FILE, f"{time.time()}\n".encode(), 0o644)
        return 0, "", ""

    def _ip_address(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        links: list[dict[str, Any]] = [
            {"ifindex": 1, "ifname": "lo", "link_type": "loopback", "operstate": "UNKNOWN", "addr_info": []}
        ]
        kernel = self.kernel()
        for interface in self.host.interfaces:
            infos = []
            for held in kernel[interface.name]["addresses"]:
                address = parse_interface_address(held["address"])
                info: dict[str, Any] = {
                    "family": "inet" if address.version == 4 else "inet6",
                    "local": str(address.ip),
                    "prefixlen": address.network.prefixlen,
                    "scope": "link" if address.is_link_local else "global",
                    "valid_life_time": held.get("seconds", 2**32 - 1),
                }
                if held["leased"]:
                    info["dynamic"] = True
                infos.append(info)
            local = str(link_local_of(interface.mac))
            is_off = bool(kernel[interface.name].get("off"))
            if not is_off:
                infos.append({"family": "inet6", "local": local, "prefixlen": 64, "scope": "link"})
            links.append(
                {
                    "ifindex": interface.index,
                    "ifname": interface.name,
                    "link_type": "none" if interface.point_to_point else "ether",
                    "operstate": "DOWN" if is_off else "UP",
                    "flags": ["BROADCAST", "MULTICAST"] if is_off else ["BROADCAST", "MULTICAST", "UP", "LOWER_UP"],
                    "mtu": kernel[interface.name]["mtu"],
                    **({} if interface.point_to_point else {"address": interface.mac}),
                    "addr_info": infos,
                }
            )
        return 0, json.dumps(links), ""

    def _ip_route(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        return self._routes(4, rest == ("table", "all"))

    def _ip_route6(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        return self._routes(6, rest == ("table", "all"))

    def _ip_rule(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        has_vrf = any(interface.table is not None for interface in self.host.interfaces)
        return 0, "1000:\tfrom all lookup [l3mdev-table]\n" if has_vrf else "", ""

    def _routes(self, version: int, every_table: bool) -> tuple[int, str, str]:
        routes: list[dict[str, Any]] = []
        tables = {interface.name: interface.table for interface in self.host.interfaces}
        for name, state in self.kernel().items():
            if tables[name] is not None and not every_table:
                continue
            for route in state["routes"]:
                if (":" in route["to"]) != (version == 6):
                    continue
                destination = "default" if route["to"] == str(default_network(version)) else route["to"]
                entry = {"dst": destination, "gateway": route["via"], "dev": name}
                entry["protocol"] = "dhcp" if route.get("dhcp") else "ra" if route.get("ra") else "static"
                if tables[name] is not None:
                    entry["table"] = str(tables[name])
                if route["metric"] is not None:
                    entry["metric"] = route["metric"]
                routes.append(entry)
        return 0, json.dumps(routes), ""

    def _resolvectl_dns(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        return self._of_link(rest, "resolvers")

    def _resolvectl_domain(self, rest: tuple[str, ...]) -> tuple[int, str, str]:
        return self._of_link(rest, "search")

    def _of_link(self, rest: tuple[str, ...], what: str) -> tuple[int, str, str]:
        interface = next((i for i in self.host.interfaces if rest and i.name == rest[0]), None)
        if interface is None:
            return 1, "", "no such link"
        values = self.kernel()[interface.name][what]
        return 0, f"Link {interface.index} ({interface.name}): {' '.join(values)}\n", ""
