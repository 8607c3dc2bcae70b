"""Words that people write where a plan has another one: what is meant by them."""

from __future__ import annotations

import difflib
from collections.abc import Collection

#: Common words of the trade, and our keys for them; the first one that is known at the place counts.
OTHERS: dict[str, tuple[str, ...]] = {
    "address": ("hold", "subnet"),
    "addresses": ("hold", "subnet"),
    "ip": ("hold", "subnet"),
    "ips": ("hold",),
    "ip_address": ("hold",),
    "ipaddress": ("hold",),
    "ipaddr": ("hold",),
    "network": ("subnet", "segment", "segments"),
    "networks": ("segments", "subnet"),
    "net": ("subnet",),
    "cidr": ("subnet",),
    "subnets": ("subnet", "segments"),
    "vlan": ("segment",),
    "vlans": ("segments",),
    "lan": ("segment",),
    "dns": ("resolvers",),
    "dns_server": ("resolvers",),
    "dns_servers": ("resolvers",),
    "dns-servers": ("resolvers",),
    "dns-nameservers": ("resolvers",),
    "nameserver": ("resolvers",),
    "nameservers": ("resolvers",),
    "resolver": ("resolvers",),
    "gw": ("gateway",),
    "router": ("gateway",),
    "routers": ("gateway",),
    "gateways": ("gateway",),
    "gateway4": ("gateway",),
    "gateway6": ("gateway",),
    "default_gateway": ("gateway",),
    "via": ("next_hop", "gateway"),
    "to": ("destination",),
    "target": ("destination",),
    "dest": ("destination",),
    "onlink": ("on_link",),
    "on-link": ("on_link",),
    "domain": ("search",),
    "domains": ("search",),
    "dns_search": ("search",),
    "dns-search": ("search",),
    "search_domains": ("search",),
    "pool": ("pools",),
    "range": ("pools",),
    "ranges": ("pools",),
    "dhcp_range": ("pools",),
    "dhcp_pool": ("pools",),
    "dhcp": ("dhcp_servers",),
    "dhcp_server": ("dhcp_servers",),
    "exclude": ("set_aside",),
    "excluded": ("set_aside",),
    "reserved": ("set_aside", "reservations"),
    "ntp": ("time_servers",),
    "ntp_servers": ("time_servers",),
    "timeservers": ("time_servers",),
    "mac_address": ("mac",),
    "macaddress": ("mac",),
    "hwaddr": ("mac",),
    "hwaddress": ("mac",),
    "ether": ("mac",),
    "name": ("hostname", "site"),
    "fqdn": ("hostname",),
    "interface": ("interfaces",),
    "nic": ("interfaces",),
    "nics": ("interfaces",),
    "ethernets": ("interfaces",),
    "servers": ("hosts",),
    "machines": ("hosts",),
    "clients": ("hosts",),
    "host": ("hosts",),
    "method": ("ipv4",),
    "version": ("plan",),
    "format": ("plan",),
    "static": ("hold",),
    "fixed": ("hold",),
    "ignore": ("leave_alone",),
    "route": ("routes",),
    "netmask": ("prefix",),
    "mask": ("prefix",),
}

#: Where no key of ours stands for the word: what is written instead.
INSTEAD: dict[str, str] = {
    "netmask": "the prefix belongs to the segment (subnet: 203.0.113.0/24) or to one address (hold: 203.0.113.20/25)",
    "mask": "the prefix belongs to the segment (subnet: 203.0.113.0/24) or to one address (hold: 203.0.113.20/25)",
    "prefix": "the prefix belongs to the segment (subnet: 203.0.113.0/24) or to one address (hold: 203.0.113.20/25)",
    "dhcp": "write `ipv4: dhcp` for an interface that keeps its lease",
    "dhcp4": "write `ipv4: dhcp` for an interface that keeps its lease; `hold` makes it fixed",
    "dhcp6": "write `ipv6: dhcp` for an interface that keeps its lease; `hold` makes it fixed",
    "ra": "write `ipv6: ra`",
    "accept_ra": "write `ipv6: ra`",
}

#: The same for the ways in which an interface comes by its addresses.
METHODS = {
    "static": "fixed",
    "manual": "fixed",
    "none": "off",
    "disabled": "off",
    "ignore": "untouched",
    "auto": "dhcp",
    "automatic": "dhcp",
    "slaac": "ra",
}

#: Which mapping each key belongs to, for one that stands in another.
HOMES: dict[str, str] = {
    **dict.fromkeys(("segments", "hosts", "sources", "site"), "the top of the plan"),
    **dict.fromkeys(("subnet", "pools", "reservations", "set_aside", "reachable", "dhcp_servers", "was"), "a segment"),
    **dict.fromkeys(("interfaces", "hostname", "reach"), "a host"),
    **dict.fromkeys(
        (
            "segment",
            "mac",
            "hold",
            "ipv4",
            "ipv6",
            "expect",
            "fallback",
            "leave_alone",
            "mtu",
            "routes",
            "time_servers",
            "netbios_servers",
        ),
        "an interface, below `interfaces:` of a host",
    ),
    **dict.fromkeys(("routes", "time_servers"), "an interface, below `interfaces:` of a host"),
}


def meant_by(name: str, known: Collection[str]) -> tuple[str | None, str | None]:
    """Which of the ``known`` keys was meant by ``name``, if any, and what to tell of it."""
    word = name.lower()
    if word in known:
        return word, f"did you mean {word!r}? Keys are in lower case"
    for meant in OTHERS.get(word, ()):
        if meant in known:
            return meant, f"did you mean {meant!r}?"
    if word in INSTEAD:
        return None, INSTEAD[word]
    if word in HOMES:
        return None, f"{word!r} is a key of {HOMES[word]}"
    near = difflib.get_close_matches(word, known, 1, 0.6)
    return (near[0], f"did you mean {near[0]!r}?") if near else (None, None)
