from __future__ import annotations

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.change.files import Files, FileText, decode, encode
from fixed_anchor.core.addresses import default_network, parse_address, parse_interface_address
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Route, says
from fixed_anchor.core.errors import AnchorError, InputError, NotSupported
from fixed_anchor.formats.netplan import Netplan
from fixed_anchor.formats.rewriting import rewrite as rewriting
from fixed_anchor.text.yaml_splice import plain

FORMAT = Netplan()
LINK = LinkFacts("eth0", "00:00:5e:00:53:11", "00:00:5e:00:53:11")
PATH = "/etc/netplan/50-tide.yaml"


def files(text: str, mode: int = 0o600, **more: str) -> Files:
    made = {PATH: FileText(PATH, text, mode)}
    return made | {f"/etc/netplan/{n}.yaml": FileText(f"/etc/netplan/{n}.yaml", t) for n, t in more.items()}


def fixed(*addresses: str, gateway: str = "203.0.113.1", metric: int | None = None) -> InterfaceConfig:
    return InterfaceConfig(
        "eth0",
        ipv4="fixed",
        addresses=tuple(parse_interface_address(a) for a in addresses),
        routes=(Route(default_network(4), parse_address(gateway), metric),),
        resolvers=(parse_address("203.0.113.2"), parse_address("2001:db8:7e:1::2")),
        search=("ternpoint.example",),
    )


LEASE = InterfaceConfig("eth0", ipv4="dhcp", resolvers=(), search=())

BLOCK = """\
# quay
network:
  version: 2
  ethernets:
    # the first
    eth0:   # on board
      dhcp4: true   # for now
      wakeonlan: true

    eth1:
      dhcp4: yes
      addresses: [198.51.100.9/24]
  bridges: {}
"""
FULL = """\
network:
  ethernets:
    eth0:
      addresses:
      - 203.0.113.9/24   # old
      - "2001:db8:7e:1::9/64"
      - 203.0.113.8/24:
          label: "eth0:1"
      gateway4: 203.0.113.254
      nameservers:
        addresses: [203.0.113.2,   203.0.113.77] # x
        search:
          - a.example
      routes:
        - to: 198.18.4.0/22
          via: 203.0.113.5
        - to: default
          via: 203.0.113.200
        -
          to: 0.0.0.0/0
          via: 203.0.113.7
          table: 12"""
FLOW = 'network: {ethernets: {eth0: {dhcp4: true, "match": {macaddress: "00:00:5e:00:53:11"}}, eth1: {dhcp4: true}}}'
JSON = """\
{
  "network": {
    "ethernets": {
      "eth0": {
        "dhcp4": true,
        "mtu": 1500
      }
    }
  }
}
"""
MATCH = "network:\n  ethernets:\n    any:\n      match: {name: 'eth*'}\n      dhcp4: on\n"
EMPTY = "network:\n  ethernets:\n    eth0: {}\n"
CRLF = BLOCK.replace("\n", "\r\n")
TEXTS = {"block": BLOCK, "full": FULL, "flow": FLOW, "json": JSON, "match": MATCH, "empty": EMPTY, "crlf": CRLF}


def rewrite(before: Files, wanted: InterfaceConfig) -> Files:
    edits = rewriting(FORMAT, before, LINK, wanted)
    return dict(before) | {e.path: e.after for e in edits if e.after}


@pytest.mark.parametrize("name", TEXTS)
@pytest.mark.parametrize(
    "wanted", [fixed("203.0.113.20/24"), fixed("203.0.113.8/24", "203.0.113.9/24", gateway="203.0.113.7", metric=5)]
)
def test_there_and_back(name: str, wanted: InterfaceConfig) -> None:
    before = files(TEXTS[name])
    there = rewrite(before, wanted)
    assert says(FORMAT.read(there, (LINK,))[0].config, wanted)
    assert rewrite(there, wanted) == there
    assert yaml.safe_load(there[PATH].text)["network"]["ethernets"].get("eth1") == yaml.safe_load(TEXTS[name])[
        "network"
    ]["ethernets"].get("eth1")
    back = rewrite(there, LEASE)
    assert says(FORMAT.read(back, (LINK,))[0].config, LEASE)
    # Comments only ever grow: every comment of the beginning is still there.
    comments = [line for line in TEXTS[name].splitlines() if line.lstrip().startswith("#")]
    assert [line for line in back[PATH].text.splitlines() if line in comments] == comments


def test_only_what_must_changes() -> None:
    after = rewrite(files(BLOCK), fixed("203.0.113.20/24"))[PATH].text
    assert after == BLOCK.replace(
        "      dhcp4: true   # for now\n      wakeonlan: true\n",
        """\
      # was: dhcp4: true   # for now
      dhcp4: false   # for now
      wakeonlan: true
      addresses:
        - 203.0.113.20/24
      routes:
        - to: default
          via: 203.0.113.1
      nameservers:
        addresses:
          - 203.0.113.2
          - "2001:db8:7e:1::2"
        search:
          - ternpoint.example
""",
    )


def test_what_is_not_ipv4_stays_in_a_full_file() -> None:
    after = rewrite(files(FULL), fixed("203.0.113.8/24", "203.0.113.20/24"))[PATH].text
    eth0 = yaml.safe_load(after)["network"]["ethernets"]["eth0"]
    assert eth0["addresses"] == ["203.0.113.8/24", "203.0.113.20/24", "2001:db8:7e:1::9/64"]
    assert "gateway4" not in eth0
    assert eth0["routes"] == [
        {"to": "198.18.4.0/22", "via": "203.0.113.5"},
        {"to": "0.0.0.0/0", "via": "203.0.113.7", "table": 12},
        {"to": "default", "via": "203.0.113.1"},
    ]
    assert "# was: gateway4: 203.0.113.254" in after
    assert "# was: - 203.0.113.9/24   # old" in after


def test_modes_are_tightened() -> None:
    edits = rewriting(FORMAT, files(BLOCK, 0o644), LINK, LEASE)
    assert [(e.after and e.after.mode, e.after and e.after.text) for e in edits] == [(0o600, BLOCK)]
    assert rewriting(FORMAT, files(BLOCK, 0o400), LINK, LEASE) == ()


def test_places_are_files_and_lines() -> None:
    declared = FORMAT.read(files(BLOCK), (LINK, LinkFacts("eth1")))
    assert [[str(p) for p in d.places] for d in declared] == [
        [f"{PATH}:6", f"{PATH}:7"],
        [f"{PATH}:10", f"{PATH}:11", f"{PATH}:12"],
    ]


@pytest.mark.parametrize(
    ("text", "where", "said"),
    [
        (
            "# quay\n\n\nnetwork:\n  ethernets:\n    eth0:\n    dhcp4: true\n",
            "6:10",
            "nothing stands where the settings of eth0",
        ),
        (BLOCK.replace("dhcp4: true", "dhcp4: maybe"), "7:14", "expected true or false"),
        (BLOCK.replace("dhcp4: true", "dhcp4: [true"), "8:7", "not YAML"),
        (BLOCK.replace("dhcp4: true", "addresses: [203.0.113.300/24]"), "7:19", "octet 4 is 300"),
        (BLOCK.replace("dhcp4: true", "addresses: [203.0.113.30]"), "7:19", "has no prefix"),
        (BLOCK.replace("dhcp4: true", "addresses: 203.0.113.30/24"), "7:18", "expected a list"),
        (BLOCK.replace("network:", "netwerk:"), "2:1", "there is no `network:`"),
        (BLOCK.replace("      dhcp4", "\tdhcp4"), "7:1", "a tab stands"),
    ],
)
def test_broken_files(text: str, where: str, said: str) -> None:
    with pytest.raises(InputError, match=said) as raised:
        rewriting(FORMAT, files(text), LINK, LEASE)
    assert raised.value.where == f"{PATH}:{where}"


@pytest.mark.parametrize(
    ("made", "wanted", "said"),
    [
        (
            files("network: {ethernets: {}}"),
            LEASE,
            "no file of netplan declares eth0",
        ),
        (files(BLOCK), InterfaceConfig("eth0", ipv4="dhcp", time_servers=("203.0.113.9",)), "`time_servers`"),
        (
            files("network: {ethernets: {eth0: &a {dhcp4: true}, eth1: *a}}"),
            fixed("203.0.113.20/24"),
            "cannot be edited safely",
        ),
        (files("network:\n  ethernets:\n    eth0: {dhcp4: true, # why\n      mtu: 9}\n"), LEASE, None),
    ],
)
def test_refused_by_name(made: Files, wanted: InterfaceConfig, said: str | None) -> None:
    if said is None:
        assert rewriting(FORMAT, made, LINK, wanted) == ()
        return
    with pytest.raises(NotSupported, match=said):
        rewriting(FORMAT, made, LINK, wanted)


_fragments = st.sampled_from(
    ["network:", "\n", "  ", "    ", "ethernets:", "eth0:", " ", "dhcp4: true", "- ", "addresses:", "{", "}", "[", "]",
     "203.0.113.9/24", ", ", "&a ", "*a", "# x", '"', "match: ", "\t", "renderer: x", "routes:", "\udc80", "\x00"]
)  # fmt: skip


@given(st.one_of(st.text(), st.lists(_fragments, max_size=30).map("".join)))
def test_nothing_but_our_own_error(text: str) -> None:
    try:
        rewriting(FORMAT, files(text), LINK, fixed("203.0.113.20/24"))
    except AnchorError:
        pass


_addresses = st.lists(st.integers(2, 99), min_size=1, max_size=4, unique=True).map(
    lambda ns: [f"203.0.113.{n}/24" for n in ns]
)


@given(st.sampled_from(sorted(TEXTS)), st.lists(st.one_of(st.none(), _addresses), min_size=1, max_size=4))
def test_any_journey_ends_where_it_should(name: str, journey: list[list[str] | None]) -> None:
    now = files(TEXTS[name])
    for stop in journey:
        wanted = LEASE if stop is None else fixed(*stop)
        now = rewrite(now, wanted)
        assert says(FORMAT.read(now, (LINK,))[0].config, wanted)
        assert rewrite(now, wanted) == now


@given(st.binary())
def test_bytes_survive(data: bytes) -> None:
    assert encode(decode(data)) == data


@given(st.text(alphabet="0123456789abcdef:./-_ {}[],\"'#&*!|>%@`~^on", min_size=1, max_size=12))
def test_plain_scalars_are_read_as_text(text: str) -> None:
    assert yaml.safe_load(f"a: {plain(text)}") == {"a": text}
    assert yaml.safe_load(f"[{plain(text)}]") == [text]
