"""Networks of a hypervisor in XML: those that its daemon takes, and those that it refuses."""

from __future__ import annotations

RANGE = "<range start='203.0.113.100' end='203.0.113.199'/>"
SIX = "<ip family='ipv6' address='2001:db8:7e:1::1' prefix='64'>{}</ip>"


def network(dhcp: str | None = RANGE, more: str = "", ip: str = "address='203.0.113.1' prefix='24'") -> str:
    """A network with one IPv4 subnet, each element on a line of its own."""
    inside = "" if dhcp is None else f"\n<dhcp>\n{dhcp}\n</dhcp>\n"
    own = f"\n<ip {ip}>{inside}</ip>" if ip else ""
    return f"<network>\n<name>quay</name>\n<bridge name='brq' stp='off' delay='0'/>\n{more}{own}\n</network>\n"


def host(said: str) -> str:
    return f"{RANGE}\n<host {said}/>"


ACCEPTED = {
    "isolated": network(),
    "natted": network(more="<forward/>"),
    "natted-to": network(
        more="<forward mode='nat'><nat><address start='198.51.100.60' end='198.51.100.61'/></nat></forward>"
    ),
    "routed": network(more="<forward mode='route'/>"),
    "open": network(more="<forward mode='open'/>"),
    "netmask": network(ip="address='203.0.113.1' netmask='255.255.255.0' family='ipv4'"),
    "no-prefix": network(ip="address='203.0.113.1'"),
    "no-prefix-of-class-b": network("<range start='172.31.2.4' end='172.31.2.9'/>", ip="address='172.31.9.1'"),
    "prefix-zero": network(ip="address='203.0.113.1' prefix='0'"),
    "wide": network("<range start='198.18.5.0' end='198.18.5.255'/>", ip="address='198.18.4.1' prefix='22'"),
    "no-dhcp": network(None),
    "empty-dhcp": network(""),
    "boot-file-alone": network("<bootp file='x'/>"),
    "two-ranges": network(RANGE + "\n<range start='203.0.113.40' end='203.0.113.49'/>"),
    "overlapping-ranges": network(RANGE + "\n<range start='203.0.113.150' end='203.0.113.220'/>"),
    "hosts-alone": network("<host mac='00:00:5e:00:53:21' ip='203.0.113.50'/>"),
    "by-mac": network(host("mac='00:00:5e:00:53:21' ip='203.0.113.50'")),
    "by-short-mac": network(host("mac='0:0:5E:0:53:21' ip='203.0.113.50'")),
    "by-mac-and-name": network(host("mac='00:00:5e:00:53:21' name='tide-db' ip='203.0.113.50'")),
    "by-name": network(host("name='tide-db' ip='203.0.113.50'")),
    "outside-subnet": network(host("mac='00:00:5e:00:53:21' ip='198.51.100.50'")),
    "same-address-twice": network(
        host("name='a' ip='203.0.113.50'") + "<host mac='00:00:5e:00:53:21' ip='203.0.113.50'/>"
    ),
    "lease-times": network(
        "<range start='203.0.113.100' end='203.0.113.199'><lease expiry='5' unit='minutes'/></range>"
        "<host mac='00:00:5e:00:53:21' ip='203.0.113.50'><lease expiry='0'/></host>"
    ),
    "second-service-of-a-subnet": network(RANGE + "</dhcp><dhcp><range start='203.0.113.40' end='203.0.113.49'/>"),
    "second-address": network(more="<ip address='198.51.100.1' prefix='24'/>"),
    "ipv6-alone": network(ip="", more=SIX.format("")),
    "ipv6-no-prefix": network(ip="", more=SIX.format("").replace("prefix='64'", "")),
    "ipv6-range": network(more=SIX.format("<dhcp><range start='2001:db8:7e:1::100' end='2001:db8:7e:1::1ff'/></dhcp>")),
    "ipv6-hosts": network(
        more=SIX.format(
            "<dhcp><host id='0:3:0:1:0:0:5e:0:53:21' ip='2001:db8:7e:1::20'/>"
            "<host name='gull' ip='2001:db8:7e:1::21'/></dhcp>"
        )
    ),
    "domain": network(more="<domain name='ternpoint.example' localOnly='yes'/>"),
    "names": network(
        more="<dns><host ip='203.0.113.7'><hostname>puffin</hostname><hostname>auk</hostname></host></dns>"
    ),
    "no-names": network(more="<dns enable='no'/><forward/>"),
    "next-hop": network(more="<route address='198.18.16.0' prefix='24' gateway='203.0.113.9'/>"),
    "comments": network().replace("<name>", "<!-- <range start='203.0.113.2' end='203.0.113.9'/> -->\n<name>"),
    "options": network()
    .replace("<network>", "<network xmlns:own='http://libvirt.org/schemas/network/dnsmasq/1.0'>")
    .replace("<name>", "<own:options>\n<own:option value='dhcp-option=3,203.0.113.9'/>\n</own:options><name>"),
    "host-bridge": "<network><name>quay</name><forward mode='bridge'/><bridge name='br0'/></network>",
    "host-interface": "<network><name>quay</name><forward mode='bridge'><interface dev='eth0'/></forward></network>",
}

#: What the daemon refuses to define, with the line that we name.
REFUSED = {
    "no-name": (network().replace("<name>quay</name>", "\n"), 1),
    "mode": (network(more="<forward mode='tunnel'/>"), 4),
    "bridge-with-address": (network(more="<forward mode='bridge'/>"), 5),
    "interface-with-address": (network(more="<forward mode='vepa'><interface dev='eth0'/></forward>"), 5),
    "no-address": (network(ip="netmask='255.255.255.0'"), 5),
    "prefix-and-netmask": (network(ip="address='203.0.113.1' prefix='24' netmask='255.255.255.0'"), 5),
    "long-prefix": (network(ip="address='203.0.113.1' prefix='40'"), 5),
    "family": (network(ip="address='203.0.113.1' prefix='24' family='ipv6'"), 5),
    "no-family": (network(more="<ip address='2001:db8:7e:1::1' prefix='64'/>"), 4),
    "ipv6-netmask": (network(more=SIX.format("").replace("prefix='64'", "netmask='ffff:ffff:ffff:ffff::'")), 4),
    "no-start": (network("<range end='203.0.113.50'/>"), 7),
    "no-end": (network("<range start='203.0.113.50'/>"), 7),
    "reversed": (network("<range start='203.0.113.9' end='203.0.113.3'/>"), 7),
    "outside": (network("<range start='198.51.100.9' end='198.51.100.30'/>"), 7),
    "half-outside": (network("<range start='203.0.113.9' end='203.0.114.3'/>"), 7),
    "network-address": (network("<range start='203.0.113.0' end='203.0.113.3'/>"), 7),
    "broadcast-address": (network("<range start='203.0.113.9' end='203.0.113.255'/>"), 7),
    "spaces": (network("<range start=' 203.0.113.9' end='203.0.113.25'/>"), 7),
    "two-services": (
        network(more="<ip address='198.51.100.1' prefix='24'><dhcp>\n"
                     "<range start='198.51.100.5' end='198.51.100.6'/></dhcp></ip>"),
        7,
    ),
    "host-without-address": (network(host("mac='00:00:5e:00:53:21' name='tide-db'")), 8),
    "host-with-bad-address": (network(host("mac='00:00:5e:00:53:21' ip='203.0.113.500'")), 8),
    "host-of-nobody": (network(host("ip='203.0.113.50'")), 8),
    "host-by-id": (network(host("id='01:02' ip='203.0.113.50'")), 8),
    "mac-with-dashes": (network(host("mac='00-00-5e-00-53-21' ip='203.0.113.50'")), 8),
    "mac-of-many": (network(host("mac='01:00:5e:00:53:21' ip='203.0.113.50'")), 8),
    "ipv6-by-mac": (
        network(more=SIX.format("<dhcp>\n<host mac='00:00:5e:00:53:21' ip='2001:db8:7e:1::20'/></dhcp>")),
        5,
    ),
    "ipv6-of-nobody": (network(more=SIX.format("<dhcp>\n<host ip='2001:db8:7e:1::20'/></dhcp>")), 5),
    "name-of-nowhere": (network(more="<dns>\n<host><hostname>gull</hostname></host></dns>"), 5),
    "no-names-of": (network(more="<dns>\n<host ip='203.0.113.7'/></dns>"), 5),
    "next-hop-elsewhere": (network(more="<route address='198.18.16.0' prefix='24' gateway='198.51.100.9'/>"), 4),
}  # fmt: skip
