"""Every source: what its files say, with file and line; what is broken; and no error but our own."""

from __future__ import annotations

import io
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.plan import SOURCE_KINDS
from fixed_anchor.sources import RESERVE, SOURCES
from fixed_anchor.sources.protocol import Origin, Reader, Reservation

FILES: dict[str, dict[str, str]] = {
    "kea": {
        "kea.conf": """\
# a comment, // another
{ "Dhcp4": { /* and
  one more */ "option-data": [ { "name": "domain-name", "data": "ternpoint.example" } ],
  "reservations": [ { "hw-address": "00:00:5E:00:53:01", "ip-address": "203.0.113.9", "hostname": "gull" }, ],
  "shared-networks": [ { "name": "n", "option-data": [ { "code": 3, "data": "203.0.113.1" } ],
    "subnet4": [ { "id": 1, "subnet": "203.0.113.0/24",
      "pools": [ { "pool": "203.0.113.100-203.0.113.199" }, { "pool": "203.0.113.64/28", "client-class": "vm" } ],
      "reservations": <?include "more.json"?> } ] } ],
  "subnet4": [ { "subnet": "198.18.4.0/22", "pools": [], "option-data": [
      { "name": "domain-name-servers", "data": "198.18.4.2, 198.18.4.3" } ] } ], },
  "Dhcp6": { "subnet6": [ { "subnet": "2001:db8:7e:1::/64", "pools": [
      { "pool": "2001:db8:7e:1::100 - 2001:db8:7e:1::1ff" } ],
      "reservations": [ { "duid": "01:02", "ip-addresses": [ "2001:db8:7e:1::20" ] } ] } ] } }
""",
        "more.json": '[ { "client-id": "aa", "ip-address": "203.0.113.150" } ]',
    },
    "kea-leases": {
        "leases.csv": """\
address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state,user_context
203.0.113.100,00:00:5e:00:53:01,,3600,2000,1,0,0,old,0,
203.0.113.101,00:00:5e:00:53:02,,3600,9000,1,0,0,a&#x2cb.,0,
203.0.113.102,,,3600,9000,1,0,0,,1,
203.0.113.103,00:00:5e:00:53:04,,3600,9000,1,0,0,gone,0,
203.0.113.103,00:00:5e:00:53:04,,0,9000,1,0,0,gone,0,
203.0.113.100,00:00:5e:00:53:05,,4294967295,0,1,0,0,new,0,
""",
        "leases.csv.2": "address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state\n"
        "203.0.113.110,00:00:5e:00:53:06,,3600,9000,1,0,0,,2\n203.0.113.101,00:00:5e:00:53:07,,3600,1,1,0,0,,0\n",
    },
    "dhcpd": {
        "dhcpd.conf": """\
option domain-name-servers 203.0.113.2, 203.0.113.3;   # for all
authoritative;
shared-network "quay" {
  subnet 203.0.113.0 netmask 255.255.255.0 {
    option routers 203.0.113.1;
    option domain-search "ternpoint.example", "lab.ternpoint.example";
    pool { deny unknown-clients; range 203.0.113.100 203.0.113.149; range dynamic-bootp 203.0.113.160; }
  }
}
group { option routers 198.18.4.1;
  include "hosts.conf";
  if option user-class = "x{y;" { option routers 198.18.4.9; } else { range 198.18.4.40 198.18.4.50; }
}
subnet6 2001:db8:7e:1::/64 { range6 2001:db8:7e:1::100 2001:db8:7e:1::1ff; range6 2001:db8:7e:1:8::/80 temporary; }
""",
        "hosts.conf": "host gull { hardware ethernet 0:0:5e:0:53:1; fixed-address 203.0.113.9, 198.18.4.9; }\n"
        "host named { hardware ethernet 00:00:5e:00:53:02; fixed-address gull.ternpoint.example; }\n",
    },
    "dhcpd-leases": {
        "dhcpd.leases": """\
# The format of this file is documented in the dhcpd.leases(5) manual page.
lease 203.0.113.100 { starts 3 2026/11/25 01:00:00; ends 3 2026/11/25 02:00:00;
  binding state active; hardware ethernet 00:00:5e:00:53:01; client-hostname "old"; }
lease 203.0.113.101 { ends never; binding state active; hardware ethernet 00:00:5e:00:53:02; uid "\\001x}"; }
lease 203.0.113.102 { ends epoch 9000; # some day
  binding state abandoned; }
lease 203.0.113.100 { ends 3 2026/11/25 02:00:00; binding state free; hardware ethernet 00:00:5e:00:53:01; }
ia-na "\\001" { cltt 3 2026/11/25 01:00:00; iaaddr 2001:db8:7e:1::100 { binding state active; ends epoch 9000; } }
""",
    },
    "dnsmasq": {
        "dnsmasq.conf": """\
# quay
dhcp-range=set:quay,203.0.113.100,203.0.113.199,255.255.255.0,12h
dhcp-range=198.18.4.0,static,255.255.252.0
dhcp-range=tag:known,2001:db8:7e:1::100,2001:db8:7e:1::1ff,64,1h
dhcp-range=::1,constructor:eth0
dhcp-host=00:00:5e:00:53:01,set:x,203.0.113.9,gull,45m
dhcp-host=id:buoy,[2001:db8:7e:1::20],buoy
dhcp-host=06-00:00:5e:00:53:02,00:00:5e:00:53:03,198.18.4.9   # two cards
dhcp-option=tag:quay,option:router,203.0.113.1
dhcp-option=3,198.18.4.1
dhcp-option=vendor:x,6,203.0.113.99
dhcp-option=option:dns-server,203.0.113.2,203.0.113.3
dhcp-option=option:domain-search,ternpoint.example
host-record=puffin.ternpoint.example,203.0.113.7
conf-dir=conf.d,.bak
""",
        "conf.d/more": "dhcp-host=00:00:5e:00:53:04,203.0.113.8\n",
        "conf.d/old.bak": "nonsense that is not read: dhcp-range=x\n",
    },
    "dnsmasq-leases": {
        "leases": "9000 00:00:5e:00:53:01 203.0.113.100 gull 01:aa\n0 00:00:5e:00:53:02 203.0.113.101 * *\n"
        "duid 00:01\n9000 123 2001:db8:7e:1::100 buoy 00:02\n",
    },
    "libvirt": {
        "net.xml": """\
<network>
  <name>hold</name>
  <domain name='ternpoint.example'/>
  <ip address='198.18.4.1' netmask='255.255.252.0'>
    <dhcp>
      <range start='198.18.5.0' end='198.18.5.255'/>
      <host mac='00:00:5e:00:53:01' name='gull' ip='198.18.4.9'/>
    </dhcp>
  </ip>
  <dns><host ip='198.18.4.7'><hostname>puffin</hostname></host></dns>
</network>
""",
    },
    "windows-dhcp": {
        "export.xml": """\
<DHCPServer xmlns="http://ternpoint.example/dhcp">
  <IPv4>
    <OptionValues><OptionValue><OptionId>15</OptionId><Value>ternpoint.example</Value></OptionValue></OptionValues>
    <Scopes>
      <Scope>
        <ScopeId>203.0.113.0</ScopeId><SubnetMask>255.255.255.0</SubnetMask>
        <StartRange>203.0.113.100</StartRange><EndRange>203.0.113.199</EndRange>
        <ExclusionRanges>
          <IPRange><StartRange>203.0.113.100</StartRange><EndRange>203.0.113.109</EndRange></IPRange>
        </ExclusionRanges>
        <OptionValues><OptionValue><OptionId>3</OptionId><Value>203.0.113.1</Value></OptionValue></OptionValues>
        <Reservations>
          <Reservation><IPAddress>203.0.113.9</IPAddress><ClientId>00-00-5e-00-53-01</ClientId></Reservation>
        </Reservations>
        <Leases>
          <Lease><IPAddress>203.0.113.110</IPAddress><ClientId>00-00-5e-00-53-02</ClientId><HostName>gull</HostName>
            <AddressState>Active</AddressState><LeaseExpiryTime>1970-01-01T02:30:00Z</LeaseExpiryTime></Lease>
        </Leases>
        <Tides/>
      </Scope>
    </Scopes>
  </IPv4>
</DHCPServer>
""",
    },
    "zone": {
        "ternpoint.example.zone": """\
$TTL 1h
@ IN SOA ns hostmaster ( 1 2 3 4
   5 ) ; five
  IN NS ns
ns A 203.0.113.2
   AAAA 2001:db8:7e:1::2
$GENERATE 1-2 dhcp-$ A 203.0.113.10$
alias CNAME ns
$INCLUDE more.zone
$ORIGIN 113.0.203.in-addr.arpa.
9 PTR gull.ternpoint.example.
""",
        "more.zone": "gull 300 IN A 203.0.113.9\n",
    },
    "hosts": {
        "hosts": "127.0.0.1 localhost\n203.0.113.9 gull.ternpoint.example gull # mail\nfe80::1%eth0 x\n300.1.1.1 y\n"
    },
    "address-list": {
        "list.csv": "The quay\n\nIP-Address;Host name;MAC address;Status\n203.0.113.9;Gull;00-00-5E-00-53-01;used\n"
        "203.000.113.010; puffin ;;\n203.0.113.40 - 203.0.113.49;cameras;;\n203.0.113.50;;;free\nnonsense;x;;\n"
        '"203.0.113.11 ";"two\nlines";;\n',
    },
}


def write(folder: Path, kind: str) -> str:
    for name, text in FILES[kind].items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(text)
    return next(iter(FILES[kind]))


def read(folder: Path, kind: str, file: str, **options: str) -> Claims:
    reader = Reader(folder)
    path = reader.path(file)
    return SOURCES[kind].claims(reader.read(path), Origin(kind, file, path, options), reader)


def shown(folder: Path, claims: Claims) -> dict[str, list[str]]:
    """The claims in short, with the line of each."""

    def at(place: object) -> str:
        return str(place).removeprefix(f"{folder}/").partition(":")[2]

    return {
        "pools": [f"{p.range} {p.limits}@{at(p.place)}".replace(" @", "@") for p in claims.pools],
        "subnets": [
            f"{s.network} {_words(s.routers)} {_words(s.resolvers)} {_words(s.search)}@{at(s.place)}"
            for s in claims.subnets
        ],
        "reservations": [f"{r.address} {r.mac or r.client}@{at(r.place)}" for r in claims.reservations],
        "leases": [f"{c.address} {c.mac} {c.state} {c.ends} {c.name}@{at(c.place)}" for c in claims.leases],
        "records": [f"{r.address} {r.kind} {r.name}@{at(r.place)}" for r in claims.records],
        "listed": [f"{r.range} {r.name} {r.mac}@{at(r.place)}" for r in claims.listed],
        "untidy": [f"{r.what.partition(':')[0]}@{at(r.place)}" for r in claims.untidy],
        "broken": [f"{r.what.partition(':')[0]}@{at(r.place)}" for r in claims.broken],
    }


def _words(values: tuple | None) -> str:
    return "-" if values is None else ",".join(map(str, values))


WHAT: dict[str, dict[str, list[str]]] = {
    "kea": {
        "pools": [
            "203.0.113.100 - 203.0.113.199@7",
            "203.0.113.64 - 203.0.113.79 class vm@7",
            "2001:db8:7e:1::100 - 2001:db8:7e:1::1ff@12",
        ],
        "subnets": [
            "203.0.113.0/24 203.0.113.1 - ternpoint.example@6",
            "198.18.4.0/22 - 198.18.4.2,198.18.4.3 ternpoint.example@9",
            "2001:db8:7e:1::/64 - - -@11",
        ],
        "reservations": [
            "203.0.113.9 00:00:5e:00:53:01@4",
            "203.0.113.150 client-id aa@1",
            "2001:db8:7e:1::20 duid 01:02@13",
        ],
    },
    "kea-leases": {
        "leases": [
            "203.0.113.100 00:00:5e:00:53:05 active None new@7",
            "203.0.113.101 00:00:5e:00:53:02 active 9000 a,b@3",
            "203.0.113.102 None declined 9000 @4",
            "203.0.113.110 00:00:5e:00:53:06 free 9000 @2",
        ]
    },
    "dhcpd": {
        "pools": [
            "203.0.113.100 - 203.0.113.149 deny unknown-clients@7",
            "203.0.113.160 deny unknown-clients@7",
            "198.18.4.40 - 198.18.4.50@12",
            "2001:db8:7e:1::100 - 2001:db8:7e:1::1ff@14",
            "2001:db8:7e:1:8:: - 2001:db8:7e:1:8:ffff:ffff:ffff@14",
        ],
        "subnets": [
            "203.0.113.0/24 203.0.113.1 203.0.113.2,203.0.113.3 ternpoint.example,lab.ternpoint.example@4",
            "2001:db8:7e:1::/64 - - -@14",
        ],
        "reservations": ["203.0.113.9 00:00:5e:00:53:01@1", "198.18.4.9 00:00:5e:00:53:01@1"],
        "untidy": ["host named is given the address of the name gull.ternpoint.example, which is not looked up@2"],
    },
    "dhcpd-leases": {
        "leases": [
            "203.0.113.100 00:00:5e:00:53:01 free 1795572000 @7",
            "203.0.113.101 00:00:5e:00:53:02 active None @4",
            "203.0.113.102 None declined 9000 @5",
            "2001:db8:7e:1::100 None active 9000 @8",
        ]
    },
    "dnsmasq": {
        "pools": ["203.0.113.100 - 203.0.113.199@2", "2001:db8:7e:1::100 - 2001:db8:7e:1::1ff tag:known@4"],
        "subnets": [
            "203.0.113.0/24 198.18.4.1 203.0.113.2,203.0.113.3 ternpoint.example@2",
            "198.18.4.0/22 198.18.4.1 203.0.113.2,203.0.113.3 ternpoint.example@3",
            "2001:db8:7e:1::/64 - - -@4",
        ],
        "reservations": [
            "203.0.113.9 00:00:5e:00:53:01@6",
            "2001:db8:7e:1::20 client buoy@7",
            "198.18.4.9 00:00:5e:00:53:02@8",
            "198.18.4.9 00:00:5e:00:53:03@8",
            "203.0.113.8 00:00:5e:00:53:04@1",
        ],
        "records": ["203.0.113.7 A puffin.ternpoint.example@14"],
        "untidy": ["@5"],
    },
    "dnsmasq-leases": {
        "leases": [
            "203.0.113.100 00:00:5e:00:53:01 active 9000 gull@1",
            "203.0.113.101 00:00:5e:00:53:02 active None @2",
            "2001:db8:7e:1::100 None active 9000 buoy@4",
        ]
    },
    "libvirt": {
        "pools": ["198.18.5.0 - 198.18.5.255@6"],
        "subnets": ["198.18.4.0/22  198.18.4.1 ternpoint.example@4"],
        "reservations": ["198.18.4.9 00:00:5e:00:53:01@7"],
        "records": ["198.18.4.7 hosts puffin@10"],
        "listed": ["198.18.4.1 the bridge of hold None@4"],
    },
    "windows-dhcp": {
        "pools": ["203.0.113.110 - 203.0.113.199@7"],
        "subnets": ["203.0.113.0/24 203.0.113.1  ternpoint.example@5"],
        "reservations": ["203.0.113.9 00:00:5e:00:53:01@13"],
        "leases": ["203.0.113.110 00:00:5e:00:53:02 active 9000 gull@16"],
        "untidy": ["<Tides> in <Scope> is not known here, and was not read@19"],
    },
    "zone": {
        "records": [
            "203.0.113.2 A ns.ternpoint.example@5",
            "2001:db8:7e:1::2 AAAA ns.ternpoint.example@6",
            "203.0.113.101 A dhcp-1.ternpoint.example@7",
            "203.0.113.102 A dhcp-2.ternpoint.example@7",
            "203.0.113.9 A gull.ternpoint.example@1",
        ],
        "untidy": ["9.113.0.203.in-addr.arpa lies outside the zone ternpoint.example@11"],
    },
    "hosts": {
        "records": ["203.0.113.9 hosts gull.ternpoint.example@2", "203.0.113.9 hosts gull@2"],
        "broken": ["'300.1.1.1'@4"],
    },
    "address-list": {
        "listed": [
            "203.0.113.9 gull 00:00:5e:00:53:01@4",
            "203.0.113.10 puffin None@5",
            "203.0.113.40 - 203.0.113.49 cameras None@6",
            "203.0.113.11 two\nlines None@9",
        ],
        "untidy": ["leading zeros in 203.000.113.010@5", "stray spaces around 203.0.113.11@9"],
        "broken": ["'nonsense' is not an IP address@8"],
    },
}


def test_the_registry_is_what_plans_may_name() -> None:
    assert {kind: source.options for kind, source in SOURCES.items()} == SOURCE_KINDS
    assert set(WHAT) == set(FILES) == set(SOURCES)


@pytest.mark.parametrize("kind", SOURCES)
def test_what_each_source_says(tmp_path: Path, kind: str) -> None:
    claims = read(tmp_path, kind, write(tmp_path, kind))
    said = {what: lines for what, lines in shown(tmp_path, claims).items() if lines}
    if kind == "kea-leases":
        said["leases"].sort()
    assert said == WHAT[kind]


BROKEN = [
    ("kea", '{ "Dhcp4": { "subnet4": [ { "subnet": "203.0.113.1/24" } ] } }', "1: subnet: .*host bits set"),
    ("kea", '{ "Dhcp4": {\n "subnet4": [ }', "2:15: .*stands here"),
    ("kea", '{ "Dhcp4": { "x": "', "1:19: a string is not closed"),
    ("kea", "{}", "no configuration of a Kea"),
    ("kea", '{ "Dhcp4": <?include "nowhere.json"?> }', "1:12: the included file .*nowhere.json: cannot be read"),
    ("kea", "[" * 200, "nested more than"),
    ("kea-leases", "ip,mac\n", "1: this is no lease file of Kea"),
    ("dhcpd", "subnet 203.0.113.0 { range 1; }", "1: subnet: the subnet has no mask"),
    ("dhcpd", "\nhost x {\n", "2: the file ends in the middle of 'host x'"),
    ("dhcpd", 'option x "y', "a string is not closed"),
    ("dhcpd", "}", "that nothing opened"),
    ("dhcpd", 'include "dhcpd.conf";', "includes itself"),
    ("dnsmasq", "dhcp-range=203.0.113.300,x", "1: dhcp-range: .*octet 4 is 300"),
    ("dnsmasq", "conf-dir=nowhere", "nowhere: cannot be read"),
    ("dhcpd", "option x 1;\nsubnet 203.0.113.0 netmask 255.255.255.0;", "2: subnet: no block"),
    ("libvirt", "<network>\n<ip>", "2:.*not closed"),
    ("libvirt", '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]>\n<network>&b;</network>', "1: a document type"),
    ("libvirt", "<domain/>", "<domain> stands at the top"),
    ("windows-dhcp", "<Objs/>", "1: <Objs> stands at the top"),
    ("windows-dhcp", "<DHCPServer>\n<IPv4>\n", "2: <IPv4> is opened here"),
    ("zone", "x A 203.0.113.300\n", "is no DNS record: its value"),
    ("zone", "$GENERATE 1-4294967295 a$ A 203.0.113.1\n", "1: .GENERATE of more than"),
    ("address-list", "a,b\n1,2\n", "no column is headed"),
    (
        "address-list",
        "IP,x,IP address\n1,2,3\n",
        "1: several columns could be the one of address: 'IP' .*column 1.*column 3",
    ),
]


@pytest.mark.parametrize(("kind", "text", "said"), BROKEN)
def test_what_cannot_be_read_is_named(tmp_path: Path, kind: str, text: str, said: str) -> None:
    name = write(tmp_path, kind)
    (tmp_path / name).write_text(text)
    with pytest.raises(InputError, match=said):
        read(tmp_path, kind, name)


@pytest.mark.parametrize("kind", ["kea-leases", "dhcpd-leases", "dnsmasq-leases"])
def test_a_lease_file_cut_in_the_middle(tmp_path: Path, kind: str) -> None:
    """At any byte: what stands before is read, and the broken end is named with its line."""
    name = write(tmp_path, kind)
    whole = (tmp_path / name).read_bytes()
    complete = len(read(tmp_path, kind, name).leases)
    assert {c.state for c in read(tmp_path, kind, name).leases} >= {"active"}
    head = whole.index(b"\n") + 1
    for cut in range(head, len(whole) - 1):
        (tmp_path / name).write_bytes(whole[:cut])
        claims = read(tmp_path, kind, name)
        assert len(claims.leases) <= complete + 1  # the row that takes one back may be gone
        if whole[cut - 1 : cut] not in b"\n;}" and whole[:cut].rsplit(b"\n", 1)[-1].strip(b" }"):
            line = whole.count(b"\n", 0, cut) + 1
            if kind != "dhcpd-leases" and not whole[:cut].rsplit(b"\n", 1)[-1].startswith(b"duid"):
                assert [b.place.line for b in claims.broken] == [line]


@pytest.mark.parametrize("kind", SOURCES)
@given(data=st.data())
def test_nothing_but_our_own_error(tmp_path_factory: pytest.TempPathFactory, kind: str, data: st.DataObject) -> None:
    words = sorted({w for text in FILES[kind].values() for line in text.split("\n") for w in (line, *line.split())})
    pieces = st.lists(
        st.sampled_from([*words, "\n", '"', "{", "}", ";", "[", "]", "<", ">", ",", "\x00", "\xff"]), max_size=30
    )
    noise = st.one_of(
        st.binary(max_size=200), st.text(max_size=200).map(lambda t: t.encode("utf-8", "surrogatepass")),
        pieces.map(lambda p: " ".join(p).encode()), pieces.map(lambda p: "\n".join(p).encode()),
    )  # fmt: skip
    content = data.draw(noise)
    folder = tmp_path_factory.getbasetemp()
    origin = Origin(kind, "x", str(folder / "x"), {"origin": "ternpoint.example"} if kind == "zone" else {})
    try:
        SOURCES[kind].claims(content, origin, Reader(folder))
    except InputError as error:
        assert error.file is not None
        assert "\n" not in str(error)


def test_columns_of_an_address_list(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_bytes("Old IP\tNew IP\tNom\n203.0.113.9\t203.0.113.8\tgo\u00e9land\n".encode("utf-16"))
    said = read(tmp_path, "address-list", "a.csv", address="New IP", name="3").listed
    assert [(str(r.range), r.name) for r in said] == [("203.0.113.8", "go\u00e9land")]
    (tmp_path / "b.csv").write_bytes(b"203.0.113.9|m\xf6we\n")
    said = read(tmp_path, "address-list", "b.csv", address="1", name="2").listed
    assert [(str(r.range), r.name) for r in said] == [("203.0.113.9", "m\u00f6we")]
    with pytest.raises(InputError, match="no column is headed 'Third', which the plan names"):
        read(tmp_path, "address-list", "a.csv", address="Third", name="Old IP")


def test_a_spreadsheet(tmp_path: Path) -> None:
    import openpyxl

    book = openpyxl.Workbook()
    book.active.title = "Notes"
    book.active.append(["nothing here"])
    for title in ("Quay", "Labs"):
        sheet = book.create_sheet(title)
        sheet.append(["IP address", "Host", "Inventory"])
        sheet.append(["203.0.113.9" if title == "Quay" else "198.51.100.9", "gull", 7])
    data = io.BytesIO()
    book.save(data)
    (tmp_path / "list.xlsx").write_bytes(data.getvalue())
    with pytest.raises(InputError, match="several sheets could be the list: Quay, Labs"):
        read(tmp_path, "address-list", "list.xlsx")
    said = read(tmp_path, "address-list", "list.xlsx", sheet="Labs").listed
    assert [(str(r.range), r.name, r.place.line) for r in said] == [("198.51.100.9", "gull", 2)]
    (tmp_path / "list.xlsx").write_bytes(data.getvalue()[:2000])
    with pytest.raises(InputError, match="cannot be read"):
        read(tmp_path, "address-list", "list.xlsx")


@pytest.mark.parametrize(
    ("kind", "address"),
    [("kea", "203.0.113.150"), ("kea", "198.18.4.77"), ("dhcpd", "203.0.113.120"), ("dnsmasq", "203.0.113.150"),
     ("libvirt", "198.18.5.20")],
)  # fmt: skip
def test_a_reservation_in_the_servers_own_format(tmp_path: Path, kind: str, address: str) -> None:
    name = write(tmp_path, kind)
    if kind == "kea":  # a reservation goes into the file itself, not into one that it includes
        before = FILES[kind][name].replace('<?include "more.json"?>', "[]")
        (tmp_path / name).write_text(before)
    before = (tmp_path / name).read_text()
    wanted = Reservation("00:00:5e:00:53:77", address, "tide-db")
    insert = RESERVE[kind].insert
    assert insert is not None
    after = insert(before, str(tmp_path / name), wanted)
    old = [line for line in before.split("\n") if line in after.split("\n")]
    assert len(before.split("\n")) - len(old) <= 2
    was = read(tmp_path, kind, name)
    (tmp_path / name).write_text(after)
    now = read(tmp_path, kind, name)
    added = [r for r in now.reservations if str(r.address) == address and r.mac == wanted.mac]
    assert len(now.reservations) == len(was.reservations) + 1
    assert [r.address.compressed for r in added] == [address]
    in_pool = any(added[0].address in p.range for p in now.pools)
    assert in_pool == (kind in ("kea", "dnsmasq", "libvirt") and any(added[0].address in p.range for p in was.pools))
    if kind != "dnsmasq":  # it takes a host for any subnet
        with pytest.raises(InputError, match=r"is for 198\.51\.100\.9"):
            insert(before, name, Reservation("00:00:5e:00:53:77", "198.51.100.9", "x"))
