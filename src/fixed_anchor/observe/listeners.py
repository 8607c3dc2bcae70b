"""Who waits for others on a host: its sockets, by ss(8), and where sshd is told to listen, by sshd_config(5)."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.config import Place
from fixed_anchor.core.elsewhere import ListenAddress, Listener
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.permitted import Permitted

#: All sockets that listen, of TCP and UDP, in numbers, each with its program.
SOCKETS = ("ss", "-H", "-l", "-n", "-t", "-u", "-p")
SSHD_CONFIG = "/etc/ssh/sshd_config"
#: Where systemd waits for connections in sshd's stead, by the names that distributions give it.
_SOCKET_UNITS = tuple(
    f"{folder}/{unit}{part}"
    for folder in ("/etc/systemd/system", "/run/systemd/generator", "/lib/systemd/system")
    for unit in ("ssh.socket", "sshd.socket")
    for part in ("", ".d/*.conf")
)

#: Lease clients hold a socket on the address that they lease: it goes with them.
_LEASE_CLIENTS = (68, 546)
_LOCAL = re.compile(r"(?P<host>\[[0-9a-fA-F:.]+\]|[0-9a-fA-F:.]+|\*)(?:%[^:\]]+)?(?:\])?:(?P<port>\d+)")
_PROGRAM = re.compile(r'\(\("([^"]+)"')
#: How deep files may include others, sshd_config(5).
_LEVELS = 16


def listeners(machine: Readable) -> tuple[Listener, ...] | None:
    """The sockets of a running machine but those of lease clients; ``None`` where nobody can tell."""
    ran = machine.run(SOCKETS) if machine.running else None
    if ran is None or not ran.good:
        return None
    return tuple(found for line in ran.out.splitlines() if (found := _listener(line.split())) is not None)


def _listener(words: list[str]) -> Listener | None:
    """``tcp LISTEN 0 128 198.51.100.7:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))``."""
    local = _LOCAL.fullmatch(words[4]) if len(words) > 4 else None
    if local is None or (words[0] == "udp" and int(local["port"]) in _LEASE_CLIENTS):
        return None
    program = _PROGRAM.search(" ".join(words[6:]))
    host = local["host"].strip("[]")
    address = None if host == "*" else parse_address(host)
    if address is not None and address.is_unspecified:
        address = None
    return Listener(words[0], address, int(local["port"]), program[1] if program else "")


def listen_addresses(machine: Readable) -> tuple[ListenAddress, ...]:
    """The ``ListenAddress`` lines of sshd's configuration, with all that it includes; names by the host's own table."""
    files = Permitted(machine)
    table = _names(files)
    found = []
    for place, argument in _arguments(files, SSHD_CONFIG, _LEVELS):
        host = _host_of(argument)
        try:
            found.append(ListenAddress((parse_address(host),), place))
        except ValueError:
            found.append(ListenAddress(table.get(host.lower(), ()), place))
    return tuple(found)


def ssh_ports(machine: Readable) -> frozenset[int]:
    """The ports at which systemd may wait for sshd: those of its socket units, of sshd's configuration, and 22."""
    files = Permitted(machine)
    said = [argument for _, argument in _arguments(files, SSHD_CONFIG, _LEVELS, "port")]
    for pattern in _SOCKET_UNITS:
        for _, _, line in files.lines(pattern):
            key, _, value = line.partition("=")
            said += [value.strip().rpartition(":")[2]] if key.strip() == "ListenStream" else []
    return frozenset({22, *(int(port) for port in said if port.isdecimal())})


def _arguments(files: Permitted, path: str, levels: int, wanted: str = "listenaddress") -> Iterator[tuple[Place, str]]:
    """The values of a keyword before the first ``Match``: these two are not allowed behind it."""
    for _, number, line in files.lines(path):
        keyword, _, rest = re.sub(r"^(\w+)\s*=\s*", r"\1 ", line).partition(" ")
        if keyword.lower() == "match":
            return
        if keyword.lower() not in ("include", wanted):
            continue
        try:
            words = shlex.split(rest, comments=True)
        except ValueError:
            continue
        if keyword.lower() == wanted:
            yield from ((Place(path, number), word) for word in words[:1])
        elif levels:
            for word in words:
                pattern = word if word.startswith("/") else f"/etc/ssh/{word}"
                for included in files.glob(pattern):
                    yield from _arguments(files, included, levels - 1, wanted)


def _host_of(argument: str) -> str:
    """``HOST``, ``HOST:PORT``, ``IPV6``, ``[IPV6]:PORT``: the part that is a host."""
    if argument.startswith("["):
        return argument[1:].partition("]")[0]
    return argument.partition(":")[0] if argument.count(":") == 1 else argument


def _names(files: Permitted) -> dict[str, tuple[IPAddress, ...]]:
    """The host table, hosts(5): the addresses of each name."""
    table: dict[str, list[IPAddress]] = {}
    for _, _, line in files.lines("/etc/hosts"):
        words = line.partition("#")[0].split()
        try:
            address = parse_address(words[0]) if words else None
        except ValueError:
            continue
        for name in words[1:]:
            if address is not None:
                table.setdefault(name.lower(), []).append(address)
    return {name: tuple(addresses) for name, addresses in table.items()}
