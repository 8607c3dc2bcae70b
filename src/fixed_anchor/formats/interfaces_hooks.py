"""The commands of interfaces(5)'s hooks that add addresses and routes, in the forms of ip(8) and route(8)."""

from __future__ import annotations

import re

import msgspec

from fixed_anchor.core.addresses import (
    IPInterface,
    default_network,
    parse_address,
    parse_destination,
    parse_interface_address,
    parse_prefix,
)
from fixed_anchor.core.config import Route

#: Options whose value is a command that runs when the interface comes up.
UP_HOOKS = frozenset({"up", "pre-up", "post-up"})
_BEFORE_A_COMMAND = frozenset({"if", "then", "do", "else", "!", "exec", "command", "sudo", "{"})
_ADDING = frozenset({"add", "replace", "append", "change", "a"})


class Added(msgspec.Struct, frozen=True):
    """What a hook adds or takes away: an address, or a route; ``interface`` is the one that it names, if any.

    ``adds`` is false for a command that takes it away.
    """

    address: IPInterface | None = None
    route: Route | None = None
    interface: str = ""
    adds: bool = True


def read_hook(command: str, interface: str) -> Added | None:
    """What ``command``, a hook of ``interface``, adds or takes away in the main table; ``None`` where that is unclear.

    Understood are a single call of ip(8) or route(8), with its folder or without, and a ``|| true`` behind it.
    """
    words = re.sub(r"\s*\|\|\s*(true|:)\s*$", "", command).split()
    words = [interface if w in ("$IFACE", "${IFACE}", '"$IFACE"') else w for w in words]
    if not words or re.search(r"[|&;<>`$()]", " ".join(words)):
        return None
    program, rest = words[0].rpartition("/")[2], words[1:]
    try:
        if program == "ip":
            return _ip(rest)
        return _route(rest) if program == "route" else None
    except (ValueError, IndexError):
        return None


def adds_something(command: str) -> bool:
    """Whether a line of a shell looks as if it added addresses or routes, by ip(8), route(8) or ifconfig(8)."""
    return any(_adds(piece.split()) for piece in re.split(r"[;&|]+", command))


def _adds(words: list[str]) -> bool:
    while words and words[0] in _BEFORE_A_COMMAND:
        words = words[1:]
    program = words[0].rpartition("/")[2] if words else ""
    if program == "ifconfig":
        return any(re.match(r"[0-9]+\.[0-9]+\.|[0-9a-f]*:[0-9a-f]*:", w) for w in words) or "add" in words
    kinds = {"addr", "address", "a", "route", "r", "ro"}
    return (program == "route" or (program == "ip" and bool(kinds & set(words)))) and bool(_ADDING & set(words))


def _ip(words: list[str]) -> Added | None:
    version = 4
    while words and words[0].startswith("-"):
        version = 6 if words[0] == "-6" else version
        words = words[1:]
    kind, verb, what, rest = words[0], words[1], words[2], words[3:]
    if kind in ("a", "addr", "address") and verb in ("add", "replace", "a", "del", "delete"):
        pairs = _pairs([w for w in rest if w not in ("noprefixroute", "nodad")])
        if "dev" not in pairs or not set(pairs) <= {"dev", "brd", "broadcast", "label", "scope"}:
            return None
        held = parse_interface_address(what, 128 if ":" in what else 32)
        return Added(address=held, interface=pairs["dev"], adds=verb not in ("del", "delete"))
    if kind not in ("r", "ro", "route") or verb not in ("add", "replace", "append", "a", "del", "delete"):
        return None
    on_link = "onlink" in rest
    pairs = _pairs([w for w in rest if w != "onlink"])
    if not set(pairs) <= {"dev", "via", "metric", "proto", "scope", "src", "table"}:
        return None
    if pairs.get("table", "main") not in ("main", "254"):
        return None
    hop = parse_address(pairs["via"]) if "via" in pairs else None
    if what == "default":
        destination = default_network(hop.version if hop is not None else version)
    else:
        destination = parse_destination(what)
    metric = int(pairs["metric"]) if "metric" in pairs else None
    return Added(
        route=Route(destination, hop, metric, on_link),
        interface=pairs.get("dev", ""),
        adds=verb not in ("del", "delete"),
    )


def _route(words: list[str]) -> Added | None:
    """route(8): ``add default gw A``, ``add -net A netmask M gw G``, ``add -host A gw G``, each with ``dev IF``."""
    if words[0] in ("-A", "--inet", "inet"):
        words = words[1:]
    adds, words = words[0] == "add", words[1:]
    host = words[0] == "-host"
    what, rest = (words[1], words[2:]) if words[0] in ("-net", "-host") else (words[0], words[1:])
    interface = rest.pop() if len(rest) % 2 else ""
    pairs = _pairs(rest)
    if not set(pairs) <= {"gw", "netmask", "dev", "metric"}:
        return None
    hop = parse_address(pairs["gw"]) if "gw" in pairs else None
    if what == "default":
        if hop is None:
            return None
        destination = default_network(hop.version)
    elif "netmask" in pairs:
        destination = parse_destination(f"{what}/{parse_prefix(pairs['netmask'], 4)}")
    else:
        destination = parse_destination(what if "/" in what or host else f"{what}/32")
    metric = int(pairs["metric"]) if "metric" in pairs else None
    return Added(route=Route(destination, hop, metric), interface=pairs.get("dev", interface), adds=adds)


def _pairs(words: list[str]) -> dict[str, str]:
    if len(words) % 2:
        raise ValueError("a word without its value")
    return dict(zip(words[::2], words[1::2], strict=True))
