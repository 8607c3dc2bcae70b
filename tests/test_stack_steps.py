"""The commands of each stack, phase by phase: what loads a change, brings it back, and insists where a daemon sticks.

And what an edit must not do: change another interface.
"""

from __future__ import annotations

import msgspec
import pytest

from fixed_anchor.change.files import apply_edits
from fixed_anchor.change.steps import Fed, Steps
from fixed_anchor.core.addresses import parse_interface_address
from fixed_anchor.core.config import InterfaceConfig, LinkFacts
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.daemons import interface_steps
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite
from tests.test_formats import BOTH, FIXED, IFCFG, KEYFILE, LEASE, LEASED, LINK, ONE, files_of, rewritten

RENDERER = {"/etc/netplan/00.yaml": "network: {renderer: NetworkManager}\n"}
PROFILE = "/run/NetworkManager/system-connections/netplan-eth0.nmconnection"
RIVAL = {KEYFILE.replace("quay", "rival"): LEASED["NetworkManager"][KEYFILE].replace("5b0f", "6b0f")}
MEMORY = {
    "/run/NetworkManager/system-connections/Wired connection 1.nmconnection": "[connection]\nid=Wired connection 1\n"
    "uuid=11111111-2222-3333-8444-555555555555\ntype=ethernet\nautoconnect-priority=-999\n[ipv4]\nmethod=auto\n"
}
OWN_PROFILE = "/etc/NetworkManager/system-connections/eth0.nmconnection"
UUID = "5b0f6f6c-1111-4222-8333-944455556666"

OWN, UP_AGAIN = f"nmcli --wait 30 connection up uuid {UUID}", "nmcli --wait 30 connection up uuid *"
GENERATED = "nmcli --wait 30 connection up netplan-eth0"
GENERATE, APPLY, GENERATORS = "netplan generate", "netplan apply", "systemctl daemon-reload"
RELOAD, AGAIN = "networkctl reload", ("networkctl reconfigure eth0", "systemctl restart systemd-networkd.service")
REAPPLY, CONNECT = "nmcli device reapply eth0", "nmcli --wait 30 device connect eth0"
RESTART = "systemctl restart NetworkManager.service"
LOAD = "nmcli connection load "
DOWN, UP, FLUSH = "ifdown --force eth0", "ifup eth0", "ip address flush dev eth0 scope global"
PLAIN_DOWN = "ifdown eth0"

CLIENT = msgspec.structs.replace(
    LINK,
    in_kernel=(parse_interface_address("203.0.113.107/24"),),
    leased=(parse_interface_address("203.0.113.107/24"),),
    client="dhclient",
)
NO_DNS = InterfaceConfig("eth0", "fixed", "untouched", ONE.addresses, ONE.routes, (), ())
INTERFACES = {"/etc/network/interfaces": "auto eth0\niface eth0 inet dhcp\n"}

FOREIGN = msgspec.structs.replace(LINK, profile=("Wired Connection", "0b0f6f6c-9999-4222-8333-944455556666"))
ALIASED = "auto eth0 eth0:0\niface eth0 inet dhcp\n\niface eth0:0 inet static\n    address 203.0.113.8/24\n"
DHCLIENT = "dhclient -4 -i -pf /run/dhclient.eth0.pid -lf /var/lib/dhcp/dhclient.eth0.leases eth0"

CASES: dict[str, tuple[str, dict[str, str], InterfaceConfig, LinkFacts, dict[str, tuple[str, ...]]]] = {
    "netplan by networkd": (
        "netplan", LEASED["netplan"], ONE, LINK,
        {"activate": (GENERATE, RELOAD), "reload": (GENERATE, RELOAD), "escalate": (GENERATORS, RELOAD, *AGAIN, APPLY),
         "boot": (GENERATE, GENERATORS), "drop": (GENERATE, RELOAD),
         "drop_escalate": (GENERATORS, RELOAD, *AGAIN, APPLY)},
    ),
    "netplan by NetworkManager": (
        "netplan", LEASED["netplan"] | RENDERER, ONE, LINK,
        {"activate": (GENERATE, LOAD + PROFILE, REAPPLY), "reload": (GENERATE, LOAD + PROFILE, REAPPLY),
         "escalate": (GENERATORS, LOAD + PROFILE, REAPPLY, GENERATED, RESTART, APPLY), "boot": (GENERATE, GENERATORS),
         "drop": (GENERATE, LOAD + PROFILE, REAPPLY),
         "drop_escalate": (GENERATORS, LOAD + PROFILE, REAPPLY, GENERATED, RESTART, APPLY)},
    ),
    "networkd": (
        "networkd", LEASED["networkd"], ONE, LINK,
        {"activate": (RELOAD,), "reload": (RELOAD,), "escalate": AGAIN, "drop": (RELOAD,), "drop_escalate": AGAIN},
    ),
    "a key file in place": (
        "NetworkManager", LEASED["NetworkManager"], ONE, LINK,
        {"activate": (LOAD + KEYFILE, REAPPLY), "reload": (LOAD + KEYFILE, REAPPLY), "escalate": (OWN, RESTART),
         "drop": (LOAD + KEYFILE, REAPPLY), "drop_escalate": (OWN, RESTART)},
    ),
    "a key file that must outrank another": (
        "NetworkManager", LEASED["NetworkManager"] | RIVAL, ONE, LINK,
        {"activate": (LOAD + KEYFILE, f"nmcli --wait 30 connection up uuid {UUID}"),
         "reload": (LOAD + KEYFILE, f"nmcli --wait 30 connection up uuid {UUID}"), "escalate": (OWN, RESTART),
         "drop": (LOAD + KEYFILE, f"nmcli --wait 30 connection up uuid {UUID}"), "drop_escalate": (OWN, RESTART)},
    ),
    "the automatic profile": (
        "NetworkManager", MEMORY, ONE, LINK,
        {"activate": (LOAD + OWN_PROFILE, "nmcli --wait 30 connection up uuid *"),
         "reload": ("nmcli connection reload", UP_AGAIN), "escalate": (UP_AGAIN, RESTART),
         "drop": (LOAD + OWN_PROFILE, UP_AGAIN), "drop_escalate": (UP_AGAIN, RESTART)},
    ),
    "ifcfg by NetworkManager": (
        "ifcfg", LEASED["ifcfg"], ONE, LINK,
        {"activate": (LOAD + IFCFG, REAPPLY), "reload": (LOAD + IFCFG, REAPPLY), "escalate": (CONNECT, RESTART),
         "drop": (LOAD + IFCFG, REAPPLY), "drop_escalate": (CONNECT, RESTART)},
    ),
    "ifcfg by its scripts": (
        "ifcfg", FIXED["ifcfg"], ONE, LINK,
        {"leave": (PLAIN_DOWN,), "activate": (UP,), "unload": (PLAIN_DOWN,), "reload": (UP,), "escalate": (FLUSH, UP),
         "drop": (PLAIN_DOWN, FLUSH, UP), "drop_escalate": (FLUSH, UP)},
    ),
    "ifupdown, all of it": (
        "ifupdown", INTERFACES, BOTH, CLIENT,
        {"leave": (DOWN,), "activate": (UP,), "unload": (DOWN, FLUSH), "reload": (UP,),
         "escalate": (FLUSH, "ifup --force eth0"), "drop": (DOWN, FLUSH, UP), "drop_escalate": (DOWN, FLUSH, UP)},
    ),
    "a profile in force that is not the file's": (
        "NetworkManager", LEASED["NetworkManager"], ONE, FOREIGN,
        {"activate": (LOAD + KEYFILE, f"nmcli --wait 30 connection up uuid {UUID}"),
         "reload": (LOAD + KEYFILE, "nmcli --wait 30 connection up uuid *"),
         "escalate": (OWN, RESTART),
         "drop": (LOAD + KEYFILE, f"nmcli --wait 30 connection up uuid {UUID}"),
         "drop_escalate": (OWN, RESTART)},
    ),
    "ifupdown with an alias": (
        "ifupdown", {"/etc/network/interfaces": ALIASED}, NO_DNS, CLIENT,
        {"leave": ("ifdown --force eth0:0", DOWN), "activate": (UP,), "unload": (DOWN, FLUSH),
         "reload": (UP, "ifup eth0:0"), "escalate": (FLUSH, "ifup --force eth0"), "drop": (DOWN, FLUSH, UP),
         "drop_escalate": (DOWN, FLUSH, UP)},
    ),
    "a bridge of ifupdown": (
        "ifupdown", {"/etc/network/interfaces": "auto eth0\niface eth0 inet dhcp\n    bridge_ports eth1\n"}, NO_DNS,
        msgspec.structs.replace(CLIENT, kind="bridge"),
        {"leave": ("dhclient -x -pf /run/dhclient.eth0.pid eth0",), "activate": ("ip -4 -batch -",),
         "reload": ("ip -4 -batch -", DHCLIENT), "escalate": ("ip -4 -batch -", DHCLIENT),
         "drop": ("ip -4 -batch -",), "drop_escalate": ("ip -4 -batch -",)},
    ),
    "ifupdown, IPv4 alone": (
        "ifupdown", INTERFACES, NO_DNS, CLIENT,
        {"leave": ("dhclient -x -pf /run/dhclient.eth0.pid eth0",), "activate": ("ip -4 -batch -",),
         "unload": (DOWN, FLUSH), "reload": (UP,), "escalate": (FLUSH, "ifup --force eth0"),
         "drop": ("ip -4 -batch -",), "drop_escalate": (DOWN, FLUSH, UP)},
    ),
}  # fmt: skip


def in_words(steps: Steps) -> dict[str, tuple[str, ...]]:
    """The phases that are not empty, each command in a line; a UUID of our own making is a star."""
    phases = {name: getattr(steps, name) for name in Steps.__struct_fields__ if name != "releases"}
    lines = {
        name: tuple(" ".join(step.argv if isinstance(step, Fed) else step) for step in phase)
        for name, phase in phases.items()
        if phase
    }
    made = "nmcli --wait 30 connection up uuid "
    return {
        name: tuple(made + "*" if line.startswith(made) and UUID not in line else line for line in phase)
        for name, phase in lines.items()
    }


@pytest.mark.parametrize("case", CASES)
def test_the_steps_of_a_stack(case: str) -> None:
    stack, texts, wanted, link, expected = CASES[case]
    before = files_of(texts)
    after = rewritten(stack, before, wanted)
    steps = interface_steps(stack, before, after, link)
    assert in_words(steps) == expected
    # ifdown gives the lease back to the server, whose next client may then get the address.
    assert steps.releases == (case in ("ifupdown, all of it", "ifupdown with an alias"))


VLAN = LinkFacts("eth0.7", LINK.mac, None, kind="vlan")
SECOND = LinkFacts("eth1", LINK.mac, "00:00:5e:00:53:12")
BOND = LinkFacts("bond0", LINK.mac, None, kind="bond")
ETH1 = LinkFacts("eth1", "00:00:5e:00:53:12", "00:00:5e:00:53:12")
MATCHED = "network: {{ethernets: {{any: {{match: {{{}}}, dhcp4: true, mtu: 1400}}}}}}\n"
GLOB = "[Match]\nName=eth*\n[Link]\nMTUBytes=1400\n[Network]\nDHCP=ipv4\n"
BONDED = (
    "network:\n  ethernets:\n    port: {match: {macaddress: '00:00:5e:00:53:11'}}\n"
    "  bonds:\n    bond0: {interfaces: [port], dhcp4: true}\n"
)
HWADDR = "HWADDR=00:00:5E:00:53:11\nBOOTPROTO=dhcp\n"
ANY_PROFILE = (
    LEASED["NetworkManager"][KEYFILE].replace("interface-name=eth0\n", "").replace("[ethernet]", "[ethernet]\nmtu=1400")
)
BY_MAC = "[Match]\nMACAddress=00:00:5e:00:53:11\n[Network]\nDHCP=yes\n"

#: Files in which another link owes something to eth0, the links of the host, and how that one would change.
SHARED: dict[str, tuple[str, dict[str, str], tuple[LinkFacts, ...], str]] = {
    "inherited": (
        "ifupdown",
        {"/etc/network/interfaces": "iface eth0 inet static\n  address 203.0.113.9/24\n  gateway 203.0.113.200\n\n"
         "iface eth1 inet static inherits eth0\n  address 198.51.100.9/24\n"},
        (LINK,), "eth1 would change with eth0: gateway or routes",
    ),
    "what the model does not see": (
        "ifupdown",
        {"/etc/network/interfaces": "iface eth0 inet dhcp\n  hostname tide\n\niface eth1 inet manual inherits eth0\n"},
        (LINK, ETH1), "eth0 cannot be edited without touching others",
    ),
    "inherited from the template of a template": (
        "ifupdown",
        {"/etc/network/interfaces": "iface eth0 inet static\n  address 203.0.113.9/24\n  gateway 203.0.113.200\n\n"
         "iface mid inet static inherits eth0\n\niface eth1 inet static inherits mid\n  address 198.51.100.9/24\n"},
        (), "eth1 would change with eth0",
    ),
    "an alias": (
        "netplan", {"/etc/netplan/1.yaml": "network: {ethernets: {eth0: &a {dhcp4: true}, eth1: *a}}\n"}, (),
        "would not read back as wanted|eth1 would change",
    ),
    "one MAC for two": (
        "networkd", {"/etc/systemd/network/1.network": BY_MAC}, (LINK, VLAN), "eth0.7 would change with eth0",
    ),
}  # fmt: skip


@pytest.mark.parametrize("case", SHARED)
def test_an_edit_that_would_change_another_interface_is_refused(case: str) -> None:
    stack, texts, links, said = SHARED[case]
    wanted = NO_DNS if case.startswith("what") else ONE
    with pytest.raises(NotSupported, match=said):
        rewrite(FORMATS[stack], files_of(texts), LINK, wanted, links)


@pytest.mark.parametrize(
    ("stack", "texts", "own"),
    [
        ("netplan", {"/etc/netplan/1.yaml": MATCHED.format("name: 'eth*'")}, "/etc/netplan/90-eth0.yaml"),
        ("netplan", {"/etc/netplan/1.yaml": MATCHED.format("")}, "/etc/netplan/90-eth0.yaml"),
        ("NetworkManager", {KEYFILE: ANY_PROFILE}, "/etc/NetworkManager/system-connections/eth0.nmconnection"),
        ("networkd", {"/etc/systemd/network/80-all.network": GLOB}, "/etc/systemd/network/70-eth0.network"),
    ],
)
def test_what_is_for_several_stays_and_the_link_gets_its_own(stack: str, texts: dict[str, str], own: str) -> None:
    before = files_of(texts)
    (edit,) = rewrite(FORMATS[stack], before, LINK, ONE, (LINK, ETH1))
    assert (edit.path, edit.before) == (own, None)
    after = apply_edits(before, (edit,))
    (declared, other) = FORMATS[stack].read(after, (LINK, ETH1))
    assert (declared.config.addresses, declared.config.ipv4) == (ONE.addresses, "fixed")
    assert other.config.ipv4 == "dhcp"
    # What the shared one says beside the addressing goes along, and the next edit is made in its own.
    assert "1400" in edit.after.text
    (back,) = rewrite(FORMATS[stack], after, LINK, LEASE, (LINK, ETH1))
    assert back.path == own


@pytest.mark.parametrize(
    ("stack", "texts"),
    [
        ("netplan", {"/etc/netplan/1.yaml": MATCHED.format("macaddress: '00:00:5e:00:53:11'")}),
        ("netplan", {"/etc/netplan/1.yaml": BONDED}),
        ("ifcfg", {IFCFG: HWADDR}),
    ],
)  # fmt: skip
def test_what_is_made_of_a_device_is_not_taken_for_it(stack: str, texts: dict[str, str]) -> None:
    """A VLAN and a bond have the MAC of their device, and so has the bond's second one: a match means the first."""
    files = files_of(texts)
    links = (LINK, VLAN, BOND) if stack == "ifcfg" else (LINK, VLAN, BOND, SECOND)
    declared = {d.link.name for d in FORMATS[stack].read(files, links)}
    assert declared == ({"eth0", "bond0"} if "bonds" in str(texts) else {"eth0"})
    if "bonds" not in str(texts):
        assert rewrite(FORMATS[stack], files, LINK, ONE, links)


def test_a_template_is_no_interface_but_what_is_brought_up_is_one() -> None:
    text = "auto eth0\niface base inet static\n  mtu 1400\niface eth0 inet dhcp\niface eth1 inet manual inherits eth0\n"
    text += "iface eth2 inet manual inherits base\n"
    assert FORMATS["ifupdown"].named(files_of({"/etc/network/interfaces": text})) == dict.fromkeys(
        ("eth0", "eth1", "eth2"), "ethernet"
    )


def test_a_renderer_that_is_none_is_named() -> None:
    files = files_of({"/etc/netplan/1.yaml": "network:\n  renderer: networkdd\n  ethernets: {eth0: {dhcp4: true}}\n"})
    with pytest.raises(InputError, match=r"1\.yaml:2:13: .*'networkdd' stands here; expected networkd or"):
        FORMATS["netplan"].read(files, (LINK,))
