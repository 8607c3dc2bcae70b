"""The simulated wire: its devices behave as the station says, and the conversations find them."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address
from pathlib import Path

import pytest

from fixed_anchor.core.addresses import parse_address, parse_network
from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.resolving import questions
from fixed_anchor.machines.seat import Seat, Way
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.packets.arp_probes import QUICKLY, ArpProbes
from fixed_anchor.packets.dhcp_questions import DhcpQuestions
from fixed_anchor.packets.echoes import Echoes
from fixed_anchor.packets.neighbour_probes import NeighbourProbes
from fixed_anchor.standins.reaching import reach
from fixed_anchor.standins.station import read_station
from fixed_anchor.standins.vantage import SimulatedVantage
from fixed_anchor.workflow.network import names
from fixed_anchor.workflow.network.asking import Asking
from fixed_anchor.workflow.network.look import look
from fixed_anchor.workflow.network.network_checks import network_checks
from fixed_anchor.workflow.probe import probe
from fixed_anchor.workflow.reached.site import own_vantage
from fixed_anchor.workflow.targets import target_of

STATION = """\
station: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    devices:
      - {name: router, mac: "00:00:5e:00:53:01", address: 203.0.113.1}
      - {name: rogue, mac: "00:00:5e:00:53:66", address: 203.0.113.1}
      - name: resolver
        mac: "00:00:5e:00:53:02"
        address: 203.0.113.2
        dns: true
        names: {gull.ternpoint.example: 203.0.113.9, gull6.ternpoint.example: "2001:db8:7e:1::9"}
      - {name: deaf, mac: "00:00:5e:00:53:03", address: 203.0.113.3, dns: true, asleep: true}
      - {name: silent, mac: "00:00:5e:00:53:30", address: 203.0.113.30, echo: false}
      - {name: late, mac: "00:00:5e:00:53:31", address: 203.0.113.31, late: 1.9}
      - {name: third, mac: "00:00:5e:00:53:32", address: 203.0.113.32, probe: 3}
      - {name: asleep, mac: "00:00:5e:00:53:33", address: 203.0.113.33, asleep: true}
      - {name: too-late, mac: "00:00:5e:00:53:34", address: 203.0.113.34, late: 30}
      - {name: flood, mac: "00:00:5e:00:53:35", address: 203.0.113.35, flood: 500}
      - {name: six, mac: "00:00:5e:00:53:36", address: "2001:db8:7e:1::36"}
      - {name: stray, mac: "00:00:5e:00:53:37", address: 203.0.113.250, offers: 203.0.113.240}
    dhcp:
      pool: 203.0.113.100 - 203.0.113.199
      leases: {"00:00:5e:00:53:11": 203.0.113.131}
      router: 203.0.113.1
      server: 203.0.113.2
      resolvers: [203.0.113.2]
      search: [ternpoint.example]
hosts:
  tide-db:
    tree: tide-db
    interfaces:
      enp1s0: {mac: "00:00:5e:00:53:11", segment: quay}
  kelp-files:
    tree: kelp-files
    interfaces:
      enp1s0: {mac: "00:00:5e:00:53:12", segment: quay}
"""
FIXED = 'network: {ethernets: {enp1s0: {addresses: [203.0.113.20/24, "2001:db8:7e:1::20/64"]}}}\n'


@pytest.fixture
def vantage(tmp_path: Path) -> SimulatedVantage:
    (tmp_path / "station.yaml").write_text(STATION)
    for name, text in (("tide-db", "network: {ethernets: {enp1s0: {dhcp4: true}}}\n"), ("kelp-files", FIXED)):
        (tmp_path / name / "etc/netplan").mkdir(parents=True)
        (tmp_path / name / "etc/netplan/1.yaml").write_text(text)
        (tmp_path / name / "etc/resolv.conf").symlink_to("../run/systemd/resolve/stub-resolv.conf")
    machine = reach(Way(tmp_path, "station.yaml/tide-db", Seat()))
    found = own_vantage(machine, take_stock(machine), "enp1s0")
    assert isinstance(found, SimulatedVantage)
    return found


@pytest.mark.parametrize(
    ("address", "macs"),
    [
        ("203.0.113.1", {"00:00:5e:00:53:01", "00:00:5e:00:53:66"}),
        ("203.0.113.30", {"00:00:5e:00:53:30"}),
        ("203.0.113.31", {"00:00:5e:00:53:31"}),
        ("203.0.113.32", {"00:00:5e:00:53:32"}),
        ("203.0.113.33", set()),
        ("203.0.113.34", set()),
        ("203.0.113.35", {"00:00:5e:00:53:35"}),
        ("203.0.113.20", {"00:00:5e:00:53:12"}),
        ("203.0.113.131", set()),  # the viewer itself does not answer itself
        ("2001:db8:7e:1::20", {"00:00:5e:00:53:12"}),
        ("2001:db8:7e:1::36", {"00:00:5e:00:53:36"}),
        ("2001:db8:7e:1::37", set()),
        ("fe80::200:5eff:fe00:5312", {"00:00:5e:00:53:12"}),
    ],
)
def test_who_is_found(vantage: SimulatedVantage, address: str, macs: set[str]) -> None:
    target = parse_address(address)
    answer = look(vantage, [target]).answers[target]
    assert {h.mac for h in answer.holders} == macs


def test_a_quick_look_misses_the_slow_ones(vantage: SimulatedVantage) -> None:
    """Which is why an address is never called free after one."""
    targets = [IPv4Address(f"203.0.113.{n}") for n in (30, 31, 32)]
    probes = ArpProbes(vantage.mac, targets, QUICKLY)
    vantage.converse(probes)
    assert [bool(probes.holders[t]) for t in targets] == [True, False, False]


def test_a_flood_drowns_nothing(vantage: SimulatedVantage) -> None:
    probes = ArpProbes(vantage.mac, [IPv4Address("203.0.113.32")])
    vantage.converse(probes)
    assert list(probes.holders[IPv4Address("203.0.113.32")]) == ["00:00:5e:00:53:32"]


def test_dhcp_servers(vantage: SimulatedVantage) -> None:
    questions = DhcpQuestions(vantage.mac, vantage.own)
    vantage.converse(questions)
    found = {str(a.server): a for a in questions.answers if int(a.message.your)}
    assert {s: str(a.message.your) for s, a in found.items()} == {
        "203.0.113.2": "203.0.113.131",
        "203.0.113.250": "203.0.113.240",
    }
    assert found["203.0.113.2"].mac == "00:00:5e:00:53:02"
    assert found["203.0.113.2"].message.search == ("ternpoint.example",)
    looked = look(vantage, [], ask_dhcp=True)
    assert sorted(str(s.server) for s in looked.servers) == ["203.0.113.2", "203.0.113.250"]


def test_echo_of_both_families(vantage: SimulatedVantage) -> None:
    def answers(source: str, mac: str, target: str) -> bool:
        echoes = Echoes(vantage.mac, parse_address(source), mac, parse_address(target))
        vantage.converse(echoes)
        return echoes.answered

    assert answers("203.0.113.131", "00:00:5e:00:53:01", "203.0.113.1")
    assert not answers("203.0.113.131", "00:00:5e:00:53:30", "203.0.113.30")
    assert not answers("203.0.113.131", "00:00:5e:00:53:33", "203.0.113.33")
    assert answers("2001:db8:7e:1::77", "00:00:5e:00:53:36", "2001:db8:7e:1::36")
    probes = NeighbourProbes(vantage.mac, vantage.link_local or IPv6Address("::1"), [IPv6Address("2001:db8:7e:1::36")])
    vantage.converse(probes)
    assert all(probes.holders.values())


def test_names(vantage: SimulatedVantage) -> None:
    resolver, deaf = parse_address("203.0.113.2"), parse_address("203.0.113.3")
    gull = parse_address("203.0.113.9")
    found = names.records(vantage, resolver, [gull], ["gull.ternpoint.example", "gull6.ternpoint.example"])
    assert found is not None
    assert {(r.kind, str(r.address), r.name) for r in found.records} == {
        ("PTR", "203.0.113.9", "gull.ternpoint.example"),
        ("A", "203.0.113.9", "gull.ternpoint.example"),
        ("AAAA", "2001:db8:7e:1::9", "gull6.ternpoint.example"),
    }
    assert found.asked == {gull}
    assert names.records(vantage, deaf, [gull], []) is None
    asked = questions([], [], [gull], ["ternpoint.example"])
    assert set(names.answers(vantage, resolver, asked).values()) == {"NOERROR", "NODATA"}
    assert set(names.answers(vantage, deaf, asked).values()) == {"no answer"}


def test_the_question_whether_an_address_is_free(tmp_path: Path, vantage: SimulatedVantage) -> None:
    machine = reach(Way(tmp_path, "station.yaml/tide-db", Seat()))
    wanted = [
        parse_address(a) for a in ("203.0.113.32", "203.0.113.77", "203.0.113.131", "198.51.100.9", "203.0.113.9")
    ]
    result = probe(target_of(machine), wanted)
    assert [a.verdict for a in result.addresses] == ["taken", "free", "taken", "undetermined", "free"]
    assert result.verdict == "taken"
    assert result.addresses[0].holders[0].mac == "00:00:5e:00:53:32"
    assert result.addresses[2].holders[0].seen_by == "this machine itself"
    assert any("gull.ternpoint.example" in c.said for c in result.addresses[4].consulted)
    # On an interface that the operator names, an address of another segment is never called free.
    (elsewhere,) = probe(target_of(machine), [parse_address("198.51.100.9")], "enp1s0").addresses
    assert elsewhere.verdict == "undetermined"
    with pytest.raises(InputError, match="has no interface eth9"):
        probe(target_of(machine), wanted, "eth9")


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("subnet: 203.0.113.0/24\n    dev", "subnet: x\n    dev", "4:13: .*is not an IP address"),
        ("subnet: 203.0.113.0/24\n    dev", 'subnet: "2001:db8:7e:1::/64"\n    dev', "an IPv4 subnet is needed"),
        ('mac: "00:00:5e:00:53:01", ', "", "6:9: .*the device has no mac"),
        ("echo: false", "eco: false", "Did you mean 'echo'"),
        ("flood: 500", "flood: many", "'many' stands here"),
        ("late: 30", "late: soon", "could not convert"),
        ("segment: quay}\n  kelp", "segment: key}\n  kelp", "there is no segment 'key'"),
        ("hosts:\n", "guests:\n", "the key 'guests' is not known"),
        ("station: 1\n", "station: 1\n\tx", "a tab stands"),
    ],
)
def test_broken_stations_are_named(tmp_path: Path, old: str, new: str, said: str) -> None:
    assert old in STATION
    (tmp_path / "station.yaml").write_text(STATION.replace(old, new))
    with pytest.raises(InputError, match=said) as raised:
        read_station(tmp_path / "station.yaml")
    assert raised.value.file == str(tmp_path / "station.yaml")


def test_what_has_not_passed_is_asked_again(vantage: SimulatedVantage) -> None:
    """All of a gateway's checks, where one of them is open; the others are left alone."""
    router, resolver = parse_address("203.0.113.1"), parse_address("203.0.113.2")
    near = (parse_network("203.0.113.0/24"),)
    asking = Asking(
        "tide-db", "enp1s0", vantage, {4: parse_address("203.0.113.131")}, near, (router,), (resolver,), (), (), (),
        ("tide-db.ternpoint.example",), Judge(),
    )  # fmt: skip
    whole = [(c.code, c.target) for c in network_checks(asking)]
    assert ("gateway-is-one", "203.0.113.1") in whole
    forwards, answers = ("gateway-forwards", "203.0.113.1"), ("gateway-answers-arp", "203.0.113.1")
    again = [(c.code, c.target) for c in network_checks(asking, passed={forwards, ("resolver-answers", "203.0.113.2")})]
    assert forwards in again
    assert answers in again
    assert ("resolver-answers", "203.0.113.2") not in again
    assert network_checks(asking, passed={forwards, answers, ("resolver-answers", "203.0.113.2")}) == []
