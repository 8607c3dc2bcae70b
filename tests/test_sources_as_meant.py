"""Sources as their servers mean them; each was held against the real one (``tests/lab/test_foreign_client.py``)."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.rules.spoken_for import segment_findings
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader
from tests.judging import segment_case

MAC, ADDRESS = "00:00:5e:00:53:21", "203.0.113.50"


def read(folder: Path, kind: str, text: str) -> Claims:
    (folder / "source").write_text(text)
    return SOURCES[kind].claims(text.encode(), Origin(kind, "source", str(folder / "source")), Reader(folder))


def kea(level: str, where: str = "subnet", pool: str = "203.0.113.40 - 203.0.113.60", **said: Any) -> str:
    subnet: dict[str, Any] = {"subnet": "203.0.113.0/24", "pools": [{"pool": pool}]}
    network: dict[str, Any] = {"name": "q", "subnet4": [subnet]}
    server: dict[str, Any] = {"shared-networks": [network]}
    {"subnet": subnet, "server": server}[where]["reservations"] = [{"hw-address": MAC, "ip-address": ADDRESS}]
    levels = {"server": server, "network": network, "subnet": subnet}
    levels[level] |= {key.replace("_", "-"): value for key, value in said.items()}
    return json.dumps({"Dhcp4": server})


@pytest.mark.parametrize("level", ["server", "network", "subnet"])
@pytest.mark.parametrize(
    ("said", "clear", "outside"),
    [
        ({}, True, True),
        ({"reservations_out_of_pool": True}, False, True),
        ({"reservations_in_subnet": False}, False, False),
        ({"reservation_mode": "disabled"}, False, False),
        ({"reservation_mode": "off"}, False, False),
        ({"reservation_mode": "global"}, False, False),
        ({"reservation_mode": "out-of-pool"}, False, True),
        ({"reservation_mode": "all", "reservations_out_of_pool": False}, True, True),
        ({"host_reservation_identifiers": ["duid"]}, True, True),
    ],
)
def test_which_reservations_of_kea_keep_the_pool_clear(
    level: str, said: dict[str, Any], clear: bool, outside: bool, tmp_path: Path
) -> None:
    """At whichever level it is said; ``outside`` is for an address that no pool has."""
    (inside,) = read(tmp_path, "kea", kea(level, **said)).reservations
    assert inside.keeps_pool_clear is clear
    (apart,) = read(tmp_path, "kea", kea(level, pool="203.0.113.60/32", **said)).reservations
    assert apart.keeps_pool_clear is outside


def test_what_kea_says_of_the_whole_server(tmp_path: Path) -> None:
    (own,) = read(tmp_path, "kea", kea("server", "server", reservations_global=True)).reservations
    assert not own.keeps_pool_clear
    lower = json.loads(kea("server", reservations_in_subnet=False))
    lower["Dhcp4"]["shared-networks"][0]["subnet4"][0]["reservations-in-subnet"] = True
    (undone,) = read(tmp_path, "kea", json.dumps(lower)).reservations
    assert undone.keeps_pool_clear
    text = kea("server", hosts_database={"type": "postgresql", "name": "hosts"})
    (broken,) = read(tmp_path, "kea", text).broken
    assert "hosts-database: the reservations in that database are not looked at" in broken.what


def test_the_host_files_of_dnsmasq(tmp_path: Path) -> None:
    (tmp_path / "hosts.d").mkdir()
    (tmp_path / "hosts.d/one").write_text(f"{MAC},{ADDRESS}\n")
    (tmp_path / "hosts.d/.hidden").write_text("nonsense\n")
    (tmp_path / "hosts.d/#kept#").write_text("nonsense\n")
    for key in ("dhcp-hostsfile", "dhcp-hostsdir"):
        (kept,) = read(tmp_path, "dnsmasq", f"{key}=hosts.d\n").reservations
        assert (str(kept.address), kept.mac, kept.place.line) == (ADDRESS, MAC, 1)
        assert kept.place.file.endswith("hosts.d/one")


def test_clients_that_dnsmasq_does_not_know_get_nothing(tmp_path: Path) -> None:
    text = "dhcp-range=203.0.113.100,203.0.113.199,255.255.255.0\n"
    (pool,) = read(tmp_path, "dnsmasq", text + "dhcp-ignore=tag:!known\n").pools
    assert pool.limits == "known clients"
    (pool,) = read(tmp_path, "dnsmasq", text + "dhcp-ignore=tag:guests\n").pools
    assert pool.limits == ""


@pytest.mark.parametrize("there", [True, False])
def test_ethers(there: bool, tmp_path: Path) -> None:
    class Rooted(Reader):
        def path(self, name: str, beside: str | None = None) -> str:
            return f"{tmp_path}{name}" if name.startswith("/") else super().path(name, beside)

    if there:
        (tmp_path / "etc").mkdir()
        (tmp_path / "etc/ethers").write_text(f"# kept\n{MAC} {ADDRESS}\n{MAC[:-1]}2 gull\n")
    origin = Origin("dnsmasq", "x", str(tmp_path / "x"))
    claims = SOURCES["dnsmasq"].claims(b"read-ethers\n", origin, Rooted(tmp_path))
    if there:
        assert [(str(r.address), r.mac) for r in claims.reservations] == [(ADDRESS, MAC)]
        assert not claims.broken
    else:
        assert "there is no /etc/ethers here" in claims.broken[0].what


def test_hosts_that_were_declared_while_dhcpd_ran(tmp_path: Path) -> None:
    text = (
        f"host one {{\n  dynamic;\n  hardware ethernet {MAC};\n  fixed-address {ADDRESS};\n}}\n"
        "host two {\n  dynamic;\n  fixed-address 203.0.113.51;\n}\nhost two {\n  dynamic;\n  deleted;\n}\n"
    )
    claims = read(tmp_path, "dhcpd-leases", text)
    assert [(str(r.address), r.mac, r.client, r.place.line) for r in claims.reservations] == [(ADDRESS, MAC, "one", 1)]
    assert not claims.reservations[0].keeps_pool_clear
    assert not claims.broken


@pytest.mark.parametrize(
    ("kind", "text"),
    [
        ("dhcpd", "# caf\xe9\nsubnet 203.0.113.0 netmask 255.255.255.0 { range 203.0.113.100; }\n"),
        ("dnsmasq", "# caf\xe9\ndhcp-range=203.0.113.100,203.0.113.100,255.255.255.0\n"),
    ],
)
def test_a_configuration_in_latin_1(kind: str, text: str, tmp_path: Path) -> None:
    origin = Origin(kind, "x", str(tmp_path / "x"))
    claims = SOURCES[kind].claims(text.encode("latin-1"), origin, Reader(tmp_path))
    assert [p.place.line for p in claims.pools] == [2]
    with pytest.raises(InputError, match=":2: a zero byte: this is no text"):
        SOURCES[kind].claims(b"x\n\0", origin, Reader(tmp_path))


def test_what_a_spreadsheet_does_not_say(tmp_path: Path) -> None:
    import openpyxl

    book = openpyxl.Workbook()
    book.active.title = "Quay"
    for row in (
        ["IP address", "Host"],
        ["203.0.113.9", "gull"],
        ['="203.0.113."&10', "puffin"],
        ["203.0.113.11", "=B2"],
    ):
        book.active.append(row)
    book.create_sheet("Notes").append(["remember"])
    book.create_sheet("Empty")
    book.save(tmp_path / "list.xlsx")
    data = (tmp_path / "list.xlsx").read_bytes()
    claims = SOURCES["address-list"].claims(data, Origin("address-list", "x", "x"), Reader(tmp_path))
    assert [(str(r.range), r.name) for r in claims.listed] == [("203.0.113.9", "gull"), ("203.0.113.11", "")]
    assert [(r.place.line, "formula whose value is not in the file" in r.what) for r in claims.broken] == [(3, True)]
    assert [r.what for r in claims.untidy] == ["not read: the sheets Notes"]
    with pytest.raises(InputError, match=r"workbook of the old kind \(.xls\)"):
        SOURCES["address-list"].claims(b"\xd0\xcf\x11\xe0\xa1\xb1", Origin("address-list", "x", "x"), Reader(tmp_path))


@pytest.mark.parametrize(
    ("kind", "text", "lines"),
    [
        (
            "kea",
            '{ "Dhcp4": {\n "option-data": [\n  {"name": "routers", "data": "203.0.113.9"}\n ],\n "subnet4": [ {\n'
            '  "subnet": "203.0.113.0/24",\n  "option-data": [\n'
            '   {"name": "domain-name-servers", "data": "203.0.113.8"},\n'
            '   {"name": "domain-name", "data": "old.example"}\n  ]\n } ] } }',
            {3, 8, 9},
        ),
        (
            "dhcpd",
            "option routers 203.0.113.9;\nsubnet 203.0.113.0 netmask 255.255.255.0 {\n  option domain-name-servers\n"
            '    203.0.113.8;\n  option domain-search "old.example";\n}\n',
            {1, 3, 5},
        ),
        (
            "dnsmasq",
            "dhcp-range=203.0.113.100,203.0.113.199,255.255.255.0\ndhcp-option=3,203.0.113.9\n"
            "dhcp-option=6,203.0.113.8\ndhcp-option=119,old.example\n",
            {2, 3, 4},
        ),
    ],
)
def test_a_disagreement_is_seen_at_the_option(kind: str, text: str, lines: set[int], tmp_path: Path) -> None:
    claims = read(tmp_path, kind, text)
    plan = plan_from_text(
        "plan: 1\nhosts: {}\n"
        "segments: {quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2}}\n",
        "plan.yaml",
    )
    found = [f for f in segment_findings(segment_case(Knowledge(plan, [claims]))) if f.code == "source-disagrees"]
    assert {int(f.seen_in.rpartition(":")[2]) for f in found} == lines, found


def test_options_of_ipv4_are_not_held_against_ipv6(tmp_path: Path) -> None:
    text = (
        "option domain-name-servers 203.0.113.8;\nsubnet6 2001:db8:7e::/64 {\n"
        "  option dhcp6.name-servers 2001:db8:7e::53;\n}\nsubnet 203.0.113.0 netmask 255.255.255.0 { }\n"
    )
    six, four = read(tmp_path, "dhcpd", text).subnets
    assert ([str(r) for r in six.resolvers or ()], six.routers) == (["2001:db8:7e::53"], None)
    assert [str(r) for r in four.resolvers or ()] == ["203.0.113.8"]
