"""What a lease supplies beyond address, gateway and resolvers, from the records that the lease clients keep."""

from __future__ import annotations

import re
import shlex
from ipaddress import IPv4Address, IPv4Network

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.config import LinkFacts, Route
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.survey import FoundAddress, Lease
from fixed_anchor.daemons import ifupdown, network_manager, networkd
from fixed_anchor.daemons.protocol import with_interface
from fixed_anchor.machines.readable import Readable

#: The command lines of all processes.
PROCESSES = ("ps", "-eo", "args")
_WORDS = {
    "SERVER_ADDRESS": "server", "MTU": "mtu", "NTP": "ntp", "HOSTNAME": "hostname", "ROUTES": "routes",
    "CLIENTID": "client_id", "DNS": "dns", "domain_name_servers": "dns", "domain-name-servers": "dns",
    "dhcp_server_identifier": "server", "interface_mtu": "mtu", "ntp_servers": "ntp", "host_name": "hostname",
    "rfc3442_classless_static_routes": "rfc3442", "dhcp_client_identifier": "client_id",
    "dhcp-server-identifier": "server", "interface-mtu": "mtu", "ntp-servers": "ntp", "host-name": "hostname",
    "rfc3442-classless-static-routes": "rfc3442", "dhcp-client-identifier": "client_id",
    "classless_static_routes": "classless",
    "DOMAINNAME": "domain", "DOMAIN_SEARCH_LIST": "search", "domain_name": "domain", "domain_search": "search",
    "domain-name": "domain", "domain-search": "search",
}  # fmt: skip


def lease_of(machine: Readable, link: LinkFacts, index: int, leased: FoundAddress) -> Lease:
    """The lease of ``link``, of that number, that ``leased`` comes from, with all that a record of it tells."""
    interface = link.name
    options = (
        _networkd(machine, index)
        or _network_manager(machine, interface)
        or _dhcpcd(machine, link, leased.address.ip)
        or _dhclient(machine, interface)
    )
    server = _ipv4(options.get("server", ""))
    mtu = options.get("mtu", "")
    return Lease(
        address=leased.address.ip,
        seconds_left=leased.seconds_left,
        server=server,
        mtu=int(mtu) if mtu.isdecimal() and int(mtu) >= 68 else None,
        time_servers=tuple(re.split(r"[ ,]+", options["ntp"].strip())) if options.get("ntp", "").strip() else (),
        routes=_routes(options),
        hostname=options.get("hostname") or None,
        client_id=_identifier(options.get("client_id", "")),
        search=_search(options),
        resolvers=tuple(a for word in re.split(r"[ ,]+", options.get("dns", "")) if (a := _ipv4(word)) is not None),
    )


def _search(options: dict[str, str]) -> tuple[str, ...]:
    """The search list, and the domain name, which clients search as well (RFC 2132, 3.17; RFC 3397)."""
    words = re.split(r"[\s,]+", f"{options.get('search', '')} {options.get('domain', '')}")
    return tuple(dict.fromkeys(w.strip('"').rstrip(".").lower() for w in words if w.strip('".')))


def _networkd(machine: Readable, index: int) -> dict[str, str]:
    """systemd-networkd's own record, lines of ``KEY=VALUE``."""
    file = machine.read(f"{networkd.LEASES}{index}")
    pairs = (line.partition("=")[::2] for line in (file.text if file else "").splitlines())
    return {_WORDS[key]: value for key, value in pairs if key in _WORDS}


def _network_manager(machine: Readable, interface: str) -> dict[str, str]:
    """``DHCP4.OPTION[1]:interface_mtu = 1400``, as nmcli(1) prints it for scripts."""
    ran = machine.run(with_interface(network_manager.LEASE, interface))
    if not ran.good:
        return {}
    pairs = (line.partition(":")[2].partition(" = ")[::2] for line in ran.out.splitlines())
    return {_WORDS[key]: value.replace("\\:", ":") for key, value in pairs if key in _WORDS}


def _dhclient(machine: Readable, interface: str) -> dict[str, str]:
    """The last lease in dhclient's own file, dhclient.leases(5)."""
    for path in ifupdown.LEASES:
        file = machine.read(path.format(interface))
        leases = [part for part in (file.text if file else "").split("lease {") if f'interface "{interface}"' in part]
        if leases:
            options = re.findall(r"option ([a-z0-9-]+) ([^;]*);", leases[-1])
            return {_WORDS[key]: value.strip('"') for key, value in options if key in _WORDS}
    return {}


def _dhcpcd(machine: Readable, link: LinkFacts, address: IPAddress) -> dict[str, str]:
    """What dhcpcd holds of ``address``, of several protocols a block each, dhcpcd-run-hooks(8)."""
    ran = machine.run(with_interface(ifupdown.DUMP_LEASE, link.name))
    for block in ran.out.split("\n\n") if ran.good else ():
        pairs = dict(line.partition("=")[::2] for line in block.splitlines())
        if pairs.get("ip_address") == str(address):
            options = {_WORDS[key]: _unquoted(value) for key, value in pairs.items() if key in _WORDS}
            return options | {"client_id": _id_of_dhcpcd(machine, link.mac or "")}
    return {}


def _unquoted(value: str) -> str:
    """A value as the shell reads it; one that no shell would take stays as it is."""
    try:
        return " ".join(shlex.split(value))
    except ValueError:
        return value


def _id_of_dhcpcd(machine: Readable, mac: str) -> str:
    """What dhcpcd calls itself to the server (RFC 4361, 6.1): its DUID behind the last four octets of the MAC.

    Nothing where its configuration may say otherwise, or where the DUID is for root alone to read.
    """
    try:
        conf, duid = (machine.read(path) for path in (ifupdown.DHCPCD_CONF, ifupdown.DHCPCD_DUID))
    except NoAccess:
        return ""
    words = {line.split()[0] for line in (conf.text if conf else "").splitlines() if line.split()}
    if duid is None or "duid" not in words or {"clientid", "iaid", "interface", "profile"} & words:
        return ""
    return ":".join(("ff", *mac.split(":")[-4:], duid.text.strip())) if mac else ""


def _identifier(text: str) -> str | None:
    """Octets in hexadecimal, with colons or without, in the form without; a text is taken as its octets."""
    plain = "".join(part.zfill(2) for part in text.split(":")) if ":" in text else text
    if re.fullmatch(r"(?:[0-9a-fA-F]{2})+", plain):
        return plain.lower()
    return text.encode().hex() or None


def lease_clients(machine: Readable, version: int = 4) -> dict[str, str]:
    """The command lines of the lease clients of an IP version that run as processes of their own, by interface."""
    found: dict[str, str] = {}
    for line in machine.run(PROCESSES).out.splitlines():
        words = line.split()
        if words and client_name(line) in ifupdown.LEASE_CLIENTS and ("-6" in words) == (version == 6):
            for word in words[1:]:
                found.setdefault(word, " ".join(words))
    return found


def client_name(command_line: str) -> str:
    """The program of a lease client's command line: ``dhclient``."""
    return command_line.split()[0].rpartition("/")[2].rstrip(":")


def _ipv4(text: str) -> IPv4Address | None:
    try:
        address = parse_address(text)
    except ValueError:
        return None
    return address if isinstance(address, IPv4Address) else None


def _routes(options: dict[str, str]) -> tuple[Route, ...]:
    """Additional routes, the default route left out."""
    found: list[Route] = []
    for word in options.get("routes", "").split():
        # systemd-networkd: DESTINATION/PREFIX,GATEWAY
        destination, _, hop = word.partition(",")
        _add(found, destination, hop)
    words = options.get("classless", "").split()
    for destination, hop in zip(words[::2], words[1::2], strict=False):
        # dhcpcd: DESTINATION/PREFIX GATEWAY
        _add(found, destination, hop)
    numbers = [int(n) for n in re.split(r"[ ,.]+", options.get("rfc3442", "").strip()) if n.isdecimal()]
    while len(numbers) >= 5:
        # RFC 3442: the prefix, as many octets as it needs, and the router.
        length = numbers.pop(0)
        octets = (length + 7) // 8
        if length > 32 or len(numbers) < octets + 4:
            break
        base = [*numbers[:octets], 0, 0, 0, 0][:4]
        hop = ".".join(map(str, numbers[octets : octets + 4]))
        numbers = numbers[octets + 4 :]
        _add(found, ".".join(map(str, base)) + f"/{length}", hop)
    return tuple(found)


def _add(found: list[Route], destination: str, hop: str) -> None:
    try:
        route = Route(IPv4Network(destination, strict=False), _ipv4(hop))
    except ValueError:
        return
    if not route.is_default and route.next_hop is not None and int(route.next_hop):
        found.append(route)
