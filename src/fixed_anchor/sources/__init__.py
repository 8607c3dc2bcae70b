"""Outside knowledge of addresses, one module a kind. A new one is a new module and one line here."""

from __future__ import annotations

from fixed_anchor.sources import dhcpd_reserve, dnsmasq, kea, libvirt, windows_dhcp
from fixed_anchor.sources.address_list import AddressList
from fixed_anchor.sources.dhcpd import Dhcpd
from fixed_anchor.sources.dhcpd_leases import DhcpdLeases
from fixed_anchor.sources.dnsmasq import Dnsmasq
from fixed_anchor.sources.dnsmasq_leases import DnsmasqLeases
from fixed_anchor.sources.hosts_file import HostsFile
from fixed_anchor.sources.kea import Kea
from fixed_anchor.sources.kea_leases import KeaLeases
from fixed_anchor.sources.libvirt import Libvirt
from fixed_anchor.sources.protocol import Reserve, Source
from fixed_anchor.sources.windows_dhcp import WindowsDhcp
from fixed_anchor.sources.zone import Zone

#: What may stand before the colon of an entry of a plan's ``sources:``.
SOURCES: dict[str, Source] = {
    "kea": Kea(),
    "kea-leases": KeaLeases(),
    "dhcpd": Dhcpd(),
    "dhcpd-leases": DhcpdLeases(),
    "dnsmasq": Dnsmasq(),
    "dnsmasq-leases": DnsmasqLeases(),
    "libvirt": Libvirt(),
    "windows-dhcp": WindowsDhcp(),
    "zone": Zone(),
    "hosts": HostsFile(),
    "address-list": AddressList(),
}

#: Those into whose files a reservation can be drafted.
RESERVE: dict[str, Reserve] = {
    "kea": Reserve(kea.line, kea.reserve),
    "dhcpd": Reserve(dhcpd_reserve.line, dhcpd_reserve.reserve),
    "dnsmasq": Reserve(dnsmasq.line, dnsmasq.reserve),
    "libvirt": Reserve(libvirt.line, libvirt.reserve),
    "windows-dhcp": Reserve(windows_dhcp.line),
}
