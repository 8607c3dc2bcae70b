"""What holds for every format: lossless, exact, idempotent, and no error but our own."""

from __future__ import annotations

import subprocess
from collections.abc import Iterable

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from fixed_anchor.change.files import Files, FileText, apply_edits
from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address, parse_network
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Route, differences
from fixed_anchor.core.errors import AnchorError, InputError, NotSupported
from fixed_anchor.daemons import interface_steps
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite

LINK = LinkFacts("eth0", "00:00:5e:00:53:11", "00:00:5e:00:53:11")
KEYFILE = "/etc/NetworkManager/system-connections/quay.nmconnection"
NETWORK = "/etc/systemd/network/20-quay.network"
INTERFACES = "/etc/network/interfaces"
IFCFG = "/etc/sysconfig/network-scripts/ifcfg-eth0"

#: Files on a lease, per format and case; what follows must hold for each of them.
LEASED: dict[str, dict[str, str]] = {
    "netplan": {
        "/etc/netplan/10-first.yaml": "network:\n  version: 2\n  ethernets:\n    eth0:\n      dhcp4: yes # first\n",
        "/etc/netplan/20-second.yaml": "network:\n  ethernets:\n    eth0: {mtu: 1500, nameservers: {search: [old.example]}}\n"
        "    eth1:\n      dhcp4: true\n",
    },
    "networkd": {
        NETWORK: "# quay\n[Match]\nName=eth0\n\n[Network]\nDHCP=yes   \nLLDP=no\n; kept\n\n[DHCPv4]\nUseMTU=true\n",
        "/etc/systemd/network/30-other.network": "[Match]\nName=eth1\n[Network]\nDHCP=ipv4\n",
        NETWORK + ".d/50-more.conf": "[Network]\nDomains=old.example ~corp.example\nNTP=203.0.113.9\n",
    },
    "NetworkManager": {
        KEYFILE: "[connection]\nid=Quay\nuuid=5b0f6f6c-1111-4222-8333-944455556666\ntype=ethernet\ninterface-name=eth0\n\n"
        "[ethernet]\n\n[802-1x]\npassword=tide;secret=1\n\n[ipv4]\nmethod=auto\ndns-search=old.example;~corp.example;\n\n"
        "[ipv6]\naddr-gen-mode=stable-privacy\nmethod=auto\n\n[proxy]\n",
    },
    "ifupdown": {
        INTERFACES: "# quay\nsource /etc/network/interfaces.d/*\n\nauto lo\niface lo inet loopback\n\nauto eth0\nallow-hotplug eth0\n"
        "iface eth0 inet dhcp\n    # kept\n    hostname tide\n    up echo up \\\n      again\n\niface eth1 inet dhcp\n",
        "/etc/network/interfaces.d/more": "iface wlan0 inet manual\n",
    },
    "ifupdown2": {
        INTERFACES: "# quay\nauto lo\niface lo inet loopback\n\nauto eth0\nallow-hotplug eth0\niface eth0 inet dhcp\n    # kept\n"
        "    up echo up \\\n      again\n\niface eth1 inet dhcp\n\nauto vmbr0\niface vmbr0 inet static\n"
        "    address 198.51.100.4/24\n    bridge-ports eth3\n    # eth1 stays\n\nsource /etc/network/interfaces.d/*\n",
        "/etc/network/interfaces.d/more": "iface eth[4-6]\n    mtu 1500\n",
    },
    "ifcfg": {
        IFCFG: 'DEVICE="eth0"\nBOOTPROTO=dhcp # for now\nONBOOT=yes\nUSERCTL=no\n\nTYPE=\'Ethernet\'\nNAME="The quay\'s \\"own\\""\n',
        "/etc/sysconfig/network-scripts/ifcfg-eth1": "DEVICE=eth1\nBOOTPROTO=dhcp\n",
    },
}
FIXED: dict[str, dict[str, str]] = {
    "netplan": {
        "/etc/netplan/10.yaml": "network:\n  ethernets:\n    quay:\n      match: {macaddress: '00:00:5e:00:53:11'}\n      addresses: [203.0.113.9/24]\n"
        "      gateway4: 203.0.113.200\n      link-local: []\n      accept-ra: no\n"
    },
    "networkd": {
        NETWORK: "[Match]\nMACAddress=00-00-5E-00-53-11 00:00:5e:00:53:99\nName=eth*\n[Network]\nAddress=203.0.113.9/24\nGateway=203.0.113.200\nIPv6AcceptRA=no\n"
        "[Address]\nAddress=203.0.113.8/24\nLabel=eth0:1\n[Route]\nGateway=203.0.113.7\nMetric=50\n[Route]\nDestination=198.18.4.0/22\nGateway=203.0.113.5\n".replace(
            " 00:00:5e:00:53:99", ""
        ),
    },
    "NetworkManager": {
        KEYFILE: "[connection]\nid=Quay\nuuid=5b0f6f6c-1111-4222-8333-944455556666\ntype=802-3-ethernet\n\n[802-3-ethernet]\nmac-address=00:00:5E:00:53:11\n\n"
        "[ipv4]\nmethod=manual\naddress1=203.0.113.9/24,203.0.113.200\naddress2=203.0.113.8/24\nroute1=198.18.4.0/22,203.0.113.5,7\nroute1_options=onlink=true\n"
        "route-metric=50\n[ipv6]\nmethod=disabled\n",
    },
    "ifupdown": {
        INTERFACES: "auto eth0\niface base inet static\n\tmtu 1500\n\nmapping eth1\n\tscript /bin/true\n\tmap x\n\niface eth0 inet static inherits base\n\taddress 203.0.113.9\n\tnetmask 255.255.255.0\n"
        "\tgateway 203.0.113.200\n\tdns-nameservers 203.0.113.77\n\tup ip route add 198.18.4.0/22 via 203.0.113.5 dev eth0\n\n"
        "iface eth0 inet static\n\taddress 203.0.113.8/24\n",
    },
    "ifupdown2": {
        INTERFACES: "auto eth0\niface eth0\n\taddress 203.0.113.9\n\tnetmask 255.255.255.0\n\taddress 2001:db8:7e:1::9/64\n"
        "\taddress 203.0.113.8/24\n\tgateway 203.0.113.200\n\tgateway 2001:db8:7e:1::200\n\tmtu 1500\n\tdns-nameservers 203.0.113.77\n"
        "\tup ip route add 198.18.4.0/22 via 203.0.113.5 dev eth0\n",
    },
    "ifcfg": {
        IFCFG: "HWADDR=00:00:5E:00:53:11\nBOOTPROTO=none\nIPADDR0=203.0.113.9\nNETMASK0=255.255.255.0\nGATEWAY=203.0.113.200\nNM_CONTROLLED=no\nDNS1=203.0.113.77\nDNS2=203.0.113.78\n"
        "IPV6INIT=no\n",
        IFCFG + ":1": "DEVICE=eth0:1\nIPADDR=203.0.113.8\nPREFIX=24\n",
        "/etc/sysconfig/network-scripts/route-eth0": "# routes\n198.18.4.0/22 via 203.0.113.5 dev eth0\ndefault via 203.0.113.6\n",
    },
}
START = [(name, kind) for name in FORMATS for kind in ("leased", "fixed")]


def files_of(texts: dict[str, str]) -> Files:
    return {path: FileText(path, text, 0o600) for path, text in texts.items()}


def start(name: str, kind: str) -> Files:
    return files_of((LEASED if kind == "leased" else FIXED)[name])


def addresses(*texts: str):
    return tuple(parse_interface_address(t) for t in texts)


GATEWAY = Route(default_network(4), parse_address("203.0.113.1"))
GATEWAY6 = Route(default_network(6), parse_address("2001:db8:7e:1::1"))
OFFLINK = Route(default_network(4), parse_address("198.51.100.1"), None, True)
RESOLVERS = (parse_address("203.0.113.2"), parse_address("203.0.113.3"))
SEARCH = ("ternpoint.example", "lab.ternpoint.example")

ONE = InterfaceConfig("eth0", "fixed", "untouched", addresses("203.0.113.20/24"), (GATEWAY,), RESOLVERS, SEARCH)
TWO = InterfaceConfig(
    "eth0", "fixed", "untouched", addresses("203.0.113.21/24", "203.0.113.20/24"), (GATEWAY,), RESOLVERS[:1], ()
)
BOTH = InterfaceConfig(
    "eth0",
    "fixed",
    "fixed",
    addresses("203.0.113.20/24", "2001:db8:7e:1::20/64", "2001:db8:7e:1::21/64"),
    (GATEWAY, GATEWAY6),
    RESOLVERS,
    SEARCH,
)
WITH_RA = InterfaceConfig("eth0", "fixed", "ra", addresses("203.0.113.20/24"), (GATEWAY,), RESOLVERS, None)
V6_OFF = InterfaceConfig("eth0", "fixed", "off", addresses("203.0.113.20/24"), (GATEWAY,), RESOLVERS, SEARCH)
LEASE = InterfaceConfig("eth0", "dhcp", "untouched", resolvers=(), search=())
LEASE6 = InterfaceConfig("eth0", "dhcp", "dhcp", resolvers=(), search=())
NO_WAY_OUT = InterfaceConfig(
    "eth0", "dhcp", "untouched", resolvers=(), search=(), lease_routes=False, lease_resolvers=False
)
WEIGHED = InterfaceConfig(
    "eth0",
    "fixed",
    "untouched",
    addresses("203.0.113.20/24"),
    (
        Route(default_network(4), parse_address("203.0.113.1"), 20),
        Route(default_network(4), parse_address("203.0.113.4"), 30),
    ),
)
ROUTED = InterfaceConfig(
    "eth0", "fixed", "untouched", addresses("203.0.113.20/24"),
    (GATEWAY, Route(parse_network("198.51.100.0/24"), parse_address("203.0.113.5"), 9), Route(parse_network("198.18.4.0/22"), parse_address("203.0.113.6"))),
    mtu=1400,
)  # fmt: skip
ON_LINK = InterfaceConfig("eth0", "fixed", "untouched", addresses("203.0.113.20/32"), (OFFLINK,), RESOLVERS, None)
PAIR = InterfaceConfig(
    "eth0",
    "fixed",
    "fixed",
    addresses("203.0.113.20/31", "2001:db8:7e:1::20/127"),
    (Route(default_network(4), parse_address("203.0.113.21")),),
)
TIMED = InterfaceConfig(
    "eth0", "fixed", "untouched", addresses("203.0.113.20/24"), (GATEWAY,), time_servers=("203.0.113.9",)
)
WANTED = {
    "one": ONE, "two": TWO, "both": BOTH, "with-ra": WITH_RA, "v6-off": V6_OFF, "lease": LEASE, "lease6": LEASE6,
    "no-way-out": NO_WAY_OUT, "weighed": WEIGHED, "routed": ROUTED, "on-link": ON_LINK, "pair": PAIR, "timed": TIMED,
}  # fmt: skip

#: What a format has no place for: refused by name, never half done.
REFUSED = {
    ("netplan", "timed"), ("NetworkManager", "timed"), ("ifupdown", "timed"), ("ifcfg", "timed"),
    ("ifupdown", "v6-off"), ("ifupdown", "no-way-out"), ("ifcfg", "weighed"),
    ("ifupdown2", "timed"), ("ifupdown2", "v6-off"), ("ifupdown2", "no-way-out"),
}  # fmt: skip


def declared(name: str, files: Files) -> InterfaceConfig:
    (found,) = FORMATS[name].read(files, (LINK,))
    return found.config


def rewritten(name: str, files: Files, wanted: InterfaceConfig) -> Files:
    return apply_edits(files, rewrite(FORMATS[name], files, LINK, wanted))


@pytest.mark.parametrize(("name", "kind"), START)
def test_what_is_read(name: str, kind: str) -> None:
    config = declared(name, start(name, kind))
    if kind == "leased":
        assert config.ipv4 == "dhcp"
        assert config.addresses == ()
    else:
        assert config.ipv4 == "fixed"
        assert config.addresses[0] == parse_interface_address("203.0.113.9/24")
        assert parse_address("203.0.113.200") in [r.next_hop for r in config.default_routes(4)]


@pytest.mark.parametrize(("name", "kind"), START)
@pytest.mark.parametrize("goal", WANTED)
def test_read_after_rewrite_is_what_was_wanted(name: str, kind: str, goal: str) -> None:
    before = start(name, kind)
    wanted = WANTED[goal]
    if (name, goal) in REFUSED:
        with pytest.raises(NotSupported, match="eth0"):
            rewritten(name, before, wanted)
        return
    after = rewritten(name, before, wanted)
    assert differences(declared(name, after), wanted) == ()
    # Once more changes nothing: byte for byte.
    assert rewrite(FORMATS[name], after, LINK, wanted) == ()
    # Back to what is declared now changes nothing either.
    assert rewrite(FORMATS[name], before, LINK, declared(name, before)) == ()
    if name == "networkd" and after[NETWORK] != before[NETWORK]:
        # networkd runs as its own user: what is for root alone would leave the interface unmanaged.
        assert after[NETWORK].mode & 0o044 == 0o044
    # What belongs to others is there still, in its order.
    for path, file in before.items():
        if "eth1" in path or "other" in path or path.endswith("/more"):
            assert after[path] == file
    if name in LEASED and kind == "leased":
        kept = [line for file in before.values() for line in file.text.split("\n") if _foreign(line)]
        now = [line for path in before for line in after[path].text.split("\n")]
        assert [line for line in now if line in kept] == kept


def _foreign(line: str) -> bool:
    marks = (
        "# ",
        "eth1",
        "LLDP",
        "; kept",
        "UseMTU",
        "password",
        "proxy",
        "addr-gen",
        "loopback",
        "allow-",
        "up echo",
        "again",
        "USERCTL",
        "TYPE",
        "NAME=",
    )
    return any(mark in line for mark in marks) and "dhcp4: yes" not in line and "BOOTPROTO" not in line


goals = st.lists(st.sampled_from(sorted(WANTED)), min_size=1, max_size=5)


@pytest.mark.parametrize("name", FORMATS)
@given(kind=st.sampled_from(["leased", "fixed"]), journey=goals)
@example(kind="fixed", journey=["lease6", "on-link", "v6-off"])
def test_any_journey_ends_where_it_should(name: str, kind: str, journey: list[str]) -> None:
    now = start(name, kind)
    for goal in journey:
        if (name, goal) in REFUSED or _would_mix(name, declared(name, now), WANTED[goal]):
            continue
        now = rewritten(name, now, WANTED[goal])
        assert differences(declared(name, now), WANTED[goal]) == ()
        assert rewrite(FORMATS[name], now, LINK, WANTED[goal]) == ()


def _would_mix(name: str, now: InterfaceConfig, wanted: InterfaceConfig) -> bool:
    """Whether DHCPv6 would stay beside fixed IPv4, which ifupdown2 refuses: it has one method for both."""
    return name == "ifupdown2" and (now.ipv6, wanted.ipv6, wanted.ipv4) == ("dhcp", "untouched", "fixed")


def _pieces(texts: Iterable[dict[str, str]]) -> list[str]:
    words = {
        w for files in texts for text in files.values() for line in text.split("\n") for w in (line, *line.split())
    }
    return sorted(
        words | {"\n", " ", "\\\n", "'", '"', "[", "]", "=", "\t", "#", ";", "\r", "\x00", "\udcff", "$", "`", "\x85"}
    )


@pytest.mark.parametrize("name", FORMATS)
@given(data=st.data())
def test_nothing_but_our_own_error(name: str, data: st.DataObject) -> None:
    pieces = st.lists(st.sampled_from(_pieces([LEASED[name], FIXED[name]])), max_size=25).map("\n".join)
    text = data.draw(st.one_of(st.text(), pieces, pieces.map(lambda t: t.replace("\n", " "))))
    path = next(iter(LEASED[name]))
    files = files_of({path: text})
    try:
        FORMATS[name].read(files, (LINK,))
    except InputError as error:
        assert error.file == path or isinstance(error, NotSupported)
        assert "\n" not in str(error)
    except NotSupported:
        pass
    try:
        FORMATS[name].named(files)
        rewrite(FORMATS[name], files, LINK, ONE)
    except AnchorError:
        pass


@pytest.mark.parametrize(
    ("name", "text", "where", "said"),
    [
        ("networkd", "[Match]\nName=eth0\n[Network]\nDHCP\n", f"{NETWORK}:4:1", "neither a section nor an assignment"),
        ("networkd", "[Match]\nName=eth0\n[Network]\nAddress=203.0.113.300/24\n", f"{NETWORK}:4:9", "octet 4 is 300"),
        ("networkd", "[Match]\nName=eth0\n[Network]\nDHCP=perhaps\n", f"{NETWORK}:4:6", "none of yes, no"),
        ("networkd", "Name=eth0\n", f"{NETWORK}:1:1", "before any section"),
        ("networkd", "[Match\nName=eth0\n", f"{NETWORK}:1:1", "is no section"),
        (
            "NetworkManager",
            LEASED["NetworkManager"][KEYFILE].replace("method=auto", "address1=203.0.113.9", 1),
            f"{KEYFILE}:13:10",
            "would take /24",
        ),
        ("ifupdown", "iface eth0 inet\n", f"{INTERFACES}:1:1", "is not whole"),
        ("ifupdown", "address 203.0.113.9\n", f"{INTERFACES}:1", "stands in no stanza"),
        (
            "ifupdown",
            "iface eth0 inet static\n address 203.0.113.9\n netmask 255.0.255.0\n",
            f"{INTERFACES}:2:1",
            "not contiguous",
        ),
        ("ifupdown", "iface eth0 inet static\n netmask 24\n", f"{INTERFACES}:1:1", "has no address"),
        ("ifupdown", "iface eth0 inet static\n address\n", f"{INTERFACES}:2", "has no value"),
        ("ifupdown2", "iface eth0 inet6 auto\n", f"{INTERFACES}:1", "is no method of ifupdown2"),
        ("ifupdown2", "iface eth0\n address 203.0.113.300/24\n", f"{INTERFACES}:2:1", "octet 4 is 300"),
        ("ifupdown2", "auto eth[0-3]\niface eth[0-3]\n mtu 1400\n", f"{INTERFACES}:2", "is declared at once"),
        ("ifcfg", "DEVICE=eth0\nIPADDR=203.0.113.9\n", f"{IFCFG}:2:1", "guessed from its class"),
        ("ifcfg", "DEVICE=eth0\nIPADDR=203.0.113.9\nNETMASK=255.0.255.0\n", f"{IFCFG}:3:1", "not contiguous"),
        ("ifcfg", "DEVICE=eth0\nNAME=$(id)\n", f"{IFCFG}:2:1", "stands in the value"),
        ("ifcfg", "DEVICE=eth0\nNAME='quay\n", f"{IFCFG}:2:1", "a quote is not closed"),
        ("ifcfg", "DEVICE=eth0\nreboot now\n", f"{IFCFG}:2:1", "is no assignment"),
    ],
)
def test_broken_files_are_named(name: str, text: str, where: str, said: str) -> None:
    path = where.split(":")[0]
    with pytest.raises(AnchorError, match=said) as raised:
        rewrite(FORMATS[name], files_of({path: text}), LINK, ONE)
    assert raised.value.where == where


@pytest.mark.parametrize("goal", ["one", "two", "both", "lease"])
@pytest.mark.parametrize("kind", ["leased", "fixed"])
def test_a_posix_shell_reads_the_ifcfg_values(kind: str, goal: str) -> None:
    after = rewritten("ifcfg", start("ifcfg", kind), WANTED[goal])
    done = subprocess.run(
        ["/bin/sh", "-eu"], input=after[IFCFG].text + "set\n", capture_output=True, text=True, check=True
    )
    values = dict(line.split("=", 1) for line in done.stdout.splitlines() if "=" in line)
    held = [a for a in WANTED[goal].addresses if a.version == 4]
    assert values["BOOTPROTO"].strip("'") == ("dhcp" if goal == "lease" else "none")
    for number, address in enumerate(held):
        suffix = str(number) if number or kind == "fixed" else ""
        assert values[f"IPADDR{suffix}"].strip("'") == str(address.ip)
        if kind == "fixed":
            assert values[f"NETMASK{suffix}"].strip("'") == "255.255.255.0"
        else:
            assert values[f"PREFIX{suffix}"].strip("'") == "24"


def test_a_drop_in_that_turns_dhcp_on_again_is_edited_too() -> None:
    files = start("networkd", "fixed") | files_of({NETWORK + ".d/99.conf": "[Network]\nDHCP=yes\n"})
    assert declared("networkd", files).ipv4 == "dhcp"
    after = rewritten("networkd", files, ONE)
    assert after[NETWORK + ".d/99.conf"].text == "[Network]\n# was: DHCP=yes\n"
    outside = start("networkd", "fixed") | files_of(
        {"/usr/lib/systemd/network/20-quay.network.d/99.conf": "[Network]\nDHCP=yes\n"}
    )
    with pytest.raises(NotSupported, match="only files under /etc"):
        rewritten("networkd", outside, ONE)


def test_precedence_of_network_files() -> None:
    early = "/run/systemd/network/10-early.network"
    files = start("networkd", "leased") | files_of(
        {early: "[Match]\nName=!eth1 wlan*\n[Network]\nAddress=203.0.113.5/24\n"}
    )
    assert declared("networkd", files).addresses == addresses("203.0.113.5/24")
    own = rewritten("networkd", files, ONE)
    assert own["/etc/systemd/network/00-eth0.network"].text.startswith("[Match]\nName=eth0\n")
    assert own[early] == files[early]
    # An empty file masks the one of its name.
    hidden = files | files_of({"/etc/systemd/network/10-early.network": ""})
    assert declared("networkd", hidden).ipv4 == "dhcp"
    generated = files_of({"/run/systemd/network/10-netplan-eth0.network": "[Match]\nName=eth0\n[Network]\nDHCP=yes\n"})
    assert FORMATS["networkd"].read(generated, (LINK,)) == ()


def test_the_automatic_profile_gets_a_file_of_its_own() -> None:
    memory = "/run/NetworkManager/system-connections/Wired connection 1.nmconnection"
    text = "[connection]\nid=Wired connection 1\nuuid=11111111-2222-3333-8444-555555555555\ntype=ethernet\nautoconnect-priority=-999\n[ethernet]\nmac-address=00:00:5E:00:53:11\n[ipv4]\nmethod=auto\n[ipv6]\nmethod=auto\n"
    files = files_of({memory: text})
    (edit,) = rewrite(FORMATS["NetworkManager"], files, LINK, ONE)
    assert (edit.path, edit.before) == ("/etc/NetworkManager/system-connections/eth0.nmconnection", None)
    assert edit.after is not None
    assert edit.after.mode == 0o600
    assert "11111111" not in edit.after.text
    assert "autoconnect-priority=10" in edit.after.text
    after = apply_edits(files, (edit,))
    assert declared("NetworkManager", after).addresses == ONE.addresses
    assert interface_steps("NetworkManager", files, after, LINK).activate[-1][-2] == "uuid"


def test_a_rival_profile_is_outranked() -> None:
    rival = LEASED["NetworkManager"][KEYFILE].replace("id=Quay", "id=Rival").replace("5b0f", "6b0f")
    files = start("NetworkManager", "leased") | files_of({KEYFILE.replace("quay", "rival"): rival})
    after = rewritten("NetworkManager", files, ONE)
    assert "autoconnect-priority=10" in after[KEYFILE].text
    assert declared("NetworkManager", after).ipv4 == "fixed"
    assert "password=tide;secret=1" in after[KEYFILE].text


def test_netplan_files_outside_etc_are_not_edited() -> None:
    files = files_of({"/run/netplan/10.yaml": LEASED["netplan"]["/etc/netplan/10-first.yaml"]})
    with pytest.raises(NotSupported, match="only files under /etc"):
        rewritten("netplan", files, ONE)
    entries = "network: {{renderer: {}, ethernets: {{a: {{match: {{name: 'eth*'}}}}, eth0: {{dhcp4: true}}}}}}"
    two = files_of({"/etc/netplan/1.yaml": entries.format("NetworkManager")})
    with pytest.raises(NotSupported, match="2 entries of different names"):
        rewritten("netplan", two, ONE)
