"""How Windows changes resolvers, suffixes, the category of a network and its own name: on a simulated machine."""

from __future__ import annotations

from fixed_anchor.standins.windows.addressing import NOT_ENABLED, Failed, adapter_of
from fixed_anchor.standins.windows.state import INTERFACES, INTERFACES6, NETBT, POLICIES, State

#: What stands as IPv6 resolvers where none are set.
_OF_OLD = ["fec0:0:0:ffff::1%1", "fec0:0:0:ffff::2%1"]
#: The category that nobody can set.
_DOMAIN = "DomainAuthenticated"


def set_resolvers(state: State, index: int, servers: list[str]) -> None:
    """``Set-DnsClientServerAddress``: those of the versions that are named; none at all: those of the lease again."""
    adapter = adapter_of(state, index)
    four = state["registry"].setdefault(f"{INTERFACES}\\{adapter['guid']}", {})
    six = state["registry"].setdefault(f"{INTERFACES6}\\{adapter['guid']}", {})
    versions = {6 if ":" in s else 4 for s in servers} or {4, 6}
    for family, version, key in ((2, 4, four), (23, 6, six)):
        if version not in versions:
            continue
        named = [s for s in servers if (":" in s) == (version == 6)]
        key["NameServer"] = ",".join(named)
        leased = four.get("DhcpNameServer", "").split() if version == 4 and _is_leased(adapter) else []
        for said in adapter["resolvers"]:
            if said["family"] == family:
                said["servers"] = named or leased or (_OF_OLD if version == 6 else [])


def _is_leased(adapter: State) -> bool:
    return any(a["prefix_origin"] == "Dhcp" for a in adapter["addresses"])


def set_suffix(state: State, index: int, suffix: str) -> None:
    """``Set-DnsClient``: the domain of the connection; empty: that of the lease."""
    adapter = adapter_of(state, index)
    key = state["registry"].setdefault(f"{INTERFACES}\\{adapter['guid']}", {})
    if not suffix and state.get("keeps_names"):
        # Some releases do nothing where it is to be empty.
        return
    key["Domain"] = suffix
    adapter["suffix"] = suffix or (key.get("DhcpDomain", "") if _is_leased(adapter) else "")


def set_netbios(state: State, index: int, servers: list[str]) -> int:
    """``SetWINSServer``: two name servers of NetBIOS; texts that are empty: none of its own."""
    adapter = adapter_of(state, index)
    if adapter["status"] != "Up":
        return NOT_ENABLED
    key = state["registry"].setdefault(f"{NETBT}\\Tcpip_{adapter['guid']}", {})
    key["NameServerList"] = [server for server in servers if server]
    return 0


def set_search(state: State, domains: list[str]) -> None:
    """``Set-DnsClientGlobalSetting``: the list of the whole machine."""
    if domains or not state.get("keeps_names"):
        state["search"] = [d for d in domains if d]


def effective_resolvers(state: State, adapter: State) -> list[str]:
    """What is asked in the end: a policy wins over what is set."""
    said = state["registry"].get(POLICIES, {}).get("NameServer", "")
    policy = said.replace(",", " ").split() if isinstance(said, str) else list(said)
    return policy or [s for r in adapter["resolvers"] for s in r["servers"]]


def set_category(state: State, index: int, category: str) -> None:
    """``Set-NetConnectionProfile``: refused for that of a domain, and while the network is being identified."""
    adapter = adapter_of(state, index)
    if category == _DOMAIN:
        raise Failed("The network category cannot be set to DomainAuthenticated.")
    if adapter["category"] == _DOMAIN:
        raise Failed("Unable to set the NetworkCategory: it is a domain network.")
    if state.get("category_policy"):
        raise Failed("Unable to set NetworkCategory: it is set by policy.")
    if adapter.get("identified") is not None or not adapter["category"]:
        raise Failed("Unable to set NetworkCategory: the network is being identified.")
    adapter["category"] = category


def register(state: State) -> None:
    """``Register-DnsClient``: the machine's addresses that may be a source; the records of earlier ones stay."""
    held = [
        a["address"]
        for adapter in state["adapters"]
        for a in adapter["addresses"]
        if adapter["registers"] and a["store"] == "ActiveStore" and a["state"] == "Preferred"
        and not a["skip_as_source"] and "%" not in a["address"]
    ]  # fmt: skip
    records = state.setdefault("records", [])
    records += [a for a in held if a not in records]


def rename(state: State, name: str) -> None:
    """``Rename-Computer``: in force after a restart."""
    state["coming_name"] = name
