"""What a Windows machine says of a plan."""

from __future__ import annotations

from fixed_anchor.core.catalogue.kinds import BLOCKER, NOTE, WARNING, Row

ROWS: tuple[Row, ...] = (
    (
        "in-cluster",
        "host",
        BLOCKER,
        "the machine is a node of a failover cluster",
        "The cluster knows its nodes and networks by their addresses, and may take the machine out in the middle.",
        "Change the address the way the cluster wants it: evict or pause the node, or change its network there.",
    ),
    (
        "role-moves",
        "host",
        WARNING,
        "a server role here goes by the address that goes",
        "Domain controllers, DNS, DHCP and the like are found by their addresses, by others and in their own settings.",
        "Change what names the address together with it, and look at the role's own log afterwards.",
    ),
    (
        "on-virtual-switch",
        "host",
        NOTE,
        "the address is on the adapter of a virtual switch",
        "Virtual machines use the physical adapter below; a restart of it would take them off the network, too.",
        "Plan for the adapter vEthernet alone, and never for the physical one.",
    ),
    (
        "on-team",
        "host",
        NOTE,
        "the address is on the adapter of a team",
        "Its members have no addresses of their own; a team that is made anew loses its addresses.",
        "Plan for the adapter of the team, and leave its members alone.",
    ),
    (
        "policy-wins",
        "host",
        BLOCKER,
        "a group policy says otherwise, and wins",
        "What the machine's own settings say of resolvers or search domains has no effect beside the policy.",
        "Have the policy changed, or plan what it says.",
    ),
    (
        "policy-says",
        "host",
        NOTE,
        "a group policy sets resolvers or search domains",
        "They come from the policy whatever is set on the machine.",
        "Plan what the policy says.",
    ),
    (
        "category-may-change",
        "host",
        WARNING,
        "the network of an adapter may become a public one",
        "By another gateway, or none, the network is identified anew. In a public one the firewall shuts out remote "
        "desktop, SSH and file sharing, although every ping from the machine works.",
        "Have somebody at the console, or firewall rules that let you in from public networks as well.",
    ),
    (
        "name-not-unique",
        "host",
        BLOCKER,
        "several adapters have the same name",
        "The plan calls an adapter by its name, and this one could be either.",
        "Give each a name of its own there (Rename-NetAdapter), and collect again.",
    ),
    (
        "duplicate-seen",
        "host",
        BLOCKER,
        "the machine itself sees somebody else with its address",
        "Windows does not use an address that another machine answered for.",
        "Find the other machine by its MAC, or take another address.",
    ),
    (
        "kept-for-absent-adapter",
        "host",
        WARNING,
        "the address is kept for an adapter that is not there",
        "An adapter that was taken out keeps its settings. When it comes back, two adapters have the address.",
        "Remove the absent adapter (Device Manager, hidden devices), or its address.",
    ),
    (
        "old-record-stays",
        "host",
        NOTE,
        "the machine's own DNS record of an address that goes stays for a while",
        "It registers its name by itself; the record of the old address is left until DNS scavenges it.",
        "Remove the old record, and have the machine register again after the change (ipconfig /registerdns).",
    ),
    (
        "traffic-moves",
        "host",
        WARNING,
        "another adapter would carry the traffic to everywhere",
        "Of several default routes the lowest metric wins, its own and the adapter's together.",
        "Give the gateways metrics in the plan, so that the one that is meant is the lowest.",
    ),
)
