"""Resolvers and search domains in force: resolv.conf(5), or systemd-resolved's per link."""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.survey import FOR_EACH_LINK, NOBODY
from fixed_anchor.daemons.network_manager import NetworkManager
from fixed_anchor.machines.readable import Readable

RESOLV_CONF = "/etc/resolv.conf"
#: At most this many servers of resolv.conf are used (MAXNS, resolv.conf(5)).
MAXNS = 3


def owner(machine: Readable, active: frozenset[str]) -> str:
    """Who writes /etc/resolv.conf: ``systemd-resolved``, ``resolvconf``, ``NetworkManager``, or ``nobody``.

    ``active`` are the names of running services, as in :mod:`fixed_anchor.observe.stack`.
    """
    target = machine.link_target(RESOLV_CONF) or ""
    if "systemd/resolve/" in target:
        return FOR_EACH_LINK
    if "resolvconf" in target:
        return "resolvconf"
    if NetworkManager.name in active:
        return NetworkManager.name
    return NOBODY


def of_link(machine: Readable, interface: str) -> tuple[tuple[IPAddress, ...], tuple[str, ...]]:
    """Resolvers and search domains that systemd-resolved uses for ``interface``.

    Where it knows none, a lease client may have written its own into the file that the
    daemon made: then those are in force, by luck, until it makes the file again.
    """
    servers = _words(machine, "dns", interface) or _global_words(machine, "dns")
    domains = _words(machine, "domain", interface) or _global_words(machine, "domain")
    if not servers:
        plain, search = of_resolv_conf(machine)
        outside = tuple(a for a in plain if not a.is_loopback)
        if outside:
            return outside, search
    searched = [d.lstrip("~").rstrip(".").lower() for d in domains if d != "~."]
    # resolvectl(1) sorts them; the daemon's own file has them in the order in which they are searched.
    order = {domain: number for number, domain in enumerate(of_resolv_conf(machine)[1])}
    searched.sort(key=lambda domain: order.get(domain, len(order)))
    return tuple(a for w in servers if (a := _address(w)) is not None), tuple(searched)


def _words(machine: Readable, what: str, interface: str) -> list[str]:
    ran = machine.run(("resolvectl", what, interface))
    if not ran.good:
        return []
    # "Link 2 (eth0): 203.0.113.2 203.0.113.3"
    return ran.out.partition("): ")[2].split()


def _global_words(machine: Readable, what: str) -> list[str]:
    """What is set for the whole host: it serves every link that has none of its own."""
    lines = machine.run(("resolvectl", what)).out.splitlines()
    return next((line.partition(":")[2].split() for line in lines if line.startswith("Global:")), [])


def _address(word: str) -> IPAddress | None:
    # resolvectl may add a port, an interface and a server name: 203.0.113.2:53%2#name
    base = word.partition("#")[0].partition("%")[0]
    try:
        return parse_address(base)
    except ValueError:
        pass
    try:
        return parse_address(base.rpartition(":")[0].strip("[]"))
    except ValueError:
        return None


def of_resolv_conf(machine: Readable) -> tuple[tuple[IPAddress, ...], tuple[str, ...]]:
    """What /etc/resolv.conf says (resolv.conf(5)): the first three servers, the last search list."""
    file = machine.read(RESOLV_CONF)
    servers: list[IPAddress] = []
    search: tuple[str, ...] = ()
    for line in file.text.splitlines() if file else ():
        words = line.split()
        if len(words) < 2 or line[0] in "#;":
            continue
        if words[0] == "nameserver" and (address := _address(words[1])) is not None:
            servers.append(address)
        elif words[0] in ("search", "domain"):
            search = tuple(w.rstrip(".").lower() for w in words[1:])
    return tuple(servers[:MAXNS]), search
