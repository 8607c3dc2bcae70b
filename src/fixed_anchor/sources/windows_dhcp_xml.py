"""The elements of a Windows DHCP server's export: what is known of them, and how they are reached."""

from __future__ import annotations

from fixed_anchor.sources.xml_elements import Element


def _names(text: str) -> frozenset[str]:
    return frozenset(text.split())


#: What each element may hold; what says nothing of addresses is passed over. Others are named.
KNOWN: dict[str, frozenset[str]] = {
    "DHCPServer": _names("MajorVersion MinorVersion IPv4 IPv6"),
    "IPv4": _names(
        "ConflictDetectionAttempts NapEnabled NpsUnreachableAction ActivatePolicies Classes OptionDefinitions "
        "OptionValues Filters Policies Scopes MulticastScopes Superscopes DynamicBootp RestoreStatus IsAuthorized "
        "IsDomainJoined RogueDetection"
    ),
    "IPv6": _names("Classes OptionDefinitions OptionValues Scopes StatelessStatistics StatelessStore"),
    "Scope": _names(
        "ScopeId Name Description SuperscopeName SubnetMask StartRange EndRange Prefix LeaseDuration State Type "
        "MaxBootpClients NapEnable NapProfile Delay ActivatePolicies ExclusionRanges Policies OptionValues "
        "Reservations Leases DnsSettings Preference PreferredLifetime ValidLifetime T1 T2 StatelessStore"
    ),
    "Policy": _names(
        "Name Description Enabled ProcessingOrder Condition MacAddress ClientId RelayAgent CircuitId RemoteId "
        "SubscriberId Fqdn VendorClass UserClass LeaseDuration IPRanges IPRange OptionValues DnsSettings"
    ),
}


def local(element: Element) -> str:
    """The name without its namespace."""
    return element.name.rpartition(" ")[2]


def below(element: Element, *names: str) -> list[Element]:
    """The elements that are reached by these names, one below the other."""
    found = [element]
    for name in names:
        found = [child for one in found for child in one.children if local(child) == name]
    return found


def text_of(element: Element, name: str) -> str:
    """The text of the first element of that name; empty without one."""
    return next((child.text.strip() for child in below(element, name)), "")
