"""The real servers and our readers take, and refuse, the same files."""

from __future__ import annotations

import gzip
import re
from pathlib import Path

import dns.name
import pytest

from fixed_anchor.core.errors import InputError
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader
from fixed_anchor.sources.zone_file import records_of
from tests.lab.image import in_image, shipped_examples
from tests.lab.servers import furnish
from tests.test_source_corpus import CORPUS, EXPECTED


def test_the_servers_take_and_refuse_the_same_files(servers_root: Path) -> None:
    """Those that people wrote: a server reads its configuration if and only if we do."""
    argv = {
        "kea": ["kea-dhcp4", "-t", "/tmp/tried"],
        "dhcpd": ["dhcpd", "-t", "-4", "-cf", "/tmp/tried"],
        "dnsmasq": ["dnsmasq", "--test", "-C", "/tmp/tried"],
    }
    furnish(servers_root)
    different, tried = [], 0
    for path in sorted(p for kind in argv for p in CORPUS.glob(f"{kind}/*")):
        command = argv[path.parent.name]
        if path.name == "ipv6.conf":
            if path.parent.name == "kea":
                continue  # its server of IPv6 is not among those of the lab
            command = [*command[:2], "-6", *command[3:]]
        # The links of the writer's machine are not here.
        data = re.sub(rb'"eth[01](/[^"]*)?"', b'"lo"', path.read_bytes())
        (servers_root / "tmp/tried").write_bytes(data)
        done = in_image(servers_root, *command)
        tried += 1
        refused = EXPECTED[f"{path.parent.name}/{path.name}"][0].startswith("refused")
        # To dnsmasq whatever is no address is a name, be it five numbers with dots: this is our word of caution.
        if (done.returncode != 0) != refused and path.name != "typo-in-address.conf":
            different.append(f"{path.parent.name}/{path.name}: {done.stdout[-300:]}{done.stderr[-300:]}")
    assert different == []
    assert tried >= 20


#: What stands behind `$GENERATE`, in every form, and wrong.
GENERATED = (
    "1-3 a$ A 203.0.113.$", r"1-3 a\$ A 203.0.113.$", "1-3 a$$ A 203.0.113.$", "0-20/10 a${0,3,x}b${5} A 203.0.113.$",
    "1-2 $ 60 IN A 203.0.113.$", "1-2 $ IN 1h A 203.0.113.$", "16-18 ${0,3,n} PTR x$", "16-18 ${0,0,N} PTR x$",
    "500-501 ${0,7,n} PTR X$", "1-2 ${-1,2,d} PTR x$", "0-1 ${-1} PTR x$", "1-2 @ A 203.0.113.$",
    "8-9 a${0,2,o} A 203.0.113.$", "10-12 a$ AAAA 2001:db8::${0,0,x}", "3-1 a$ A 203.0.113.$", "1-3/0 a$ A 203.0.113.$",
    '1-2 a$ MX "10 m$"', "1-2 *.$ A 203.0.113.$",
    "1-2 a$.sub.ternpoint.example. A 203.0.113.$", "1-2 a$ A 203.0.113.300",
    "1-2 a${0,2 A 203.0.113.$", "1-2 a${0,2,X} CNAME b$", "1-2 a$ A", "x-2 a$ A 203.0.113.$",
    "1-2 a$ IN A 203.0.113.$ ; remark", "1-2 a$ PTR b$.other.", "250-251 a${5} A 203.0.113.$",
)  # fmt: skip


def test_zones_are_what_bind_reads_in_them(servers_root: Path) -> None:
    """The same records, line by line; and the same files and directives refused."""
    furnish(servers_root)
    head = "$ORIGIN ternpoint.example.\n$TTL 60\n@ SOA a b 1 2 3 4 5\n@ NS ns.other.\n$GENERATE "
    zones = {path.name: path.read_text() for path in (CORPUS / "zone").iterdir()}
    zones |= {words: f"{head}{words}\n" for words in GENERATED}
    different = []
    for name, text in zones.items():
        zone = name if name.endswith(".arpa") else "ternpoint.example"
        (servers_root / "tmp/zone").write_text(text)
        done = in_image(
            servers_root,
            "named-compilezone",
            "-k",
            "ignore",
            "-i",
            "none",
            "-n",
            "ignore",
            "-o",
            "-",
            zone,
            "/tmp/zone",
        )
        theirs = None
        if done.returncode == 0:
            rows = [line.split(None, 4) for line in done.stdout.splitlines() if line.count("\t")]
            theirs = {(r[0].lower().rstrip("."), r[3], r[4].lower().rstrip(".")) for r in rows if r[3] in _ADDRESSES}
        try:
            found = records_of(text, "zone", dns.name.from_text(zone), Reader(servers_root))
            ours = {(r.owner, r.kind, r.value) for r in found if r.kind in _ADDRESSES}
        except InputError:
            ours = None
        if ours != theirs:
            different.append((name, ours, theirs))
    assert different == []


_ADDRESSES = ("A", "AAAA", "PTR")


def test_the_examples_that_debian_ships(capsys: pytest.CaptureFixture[str]) -> None:
    """Each is read whole, or refused with file, line and reason."""
    root = shipped_examples()
    files = [
        ("kea", p) for p in root.glob("usr/share/doc/kea*/examples/**/*.json") if "kea4" in str(p) or "kea6" in str(p)
    ]
    files += [("kea", p) for p in root.glob("etc/kea/kea-dhcp[46].conf")]
    files += [("dhcpd", p) for p in root.glob("usr/share/doc/isc-dhcp-server/examples/*dhcpd*.conf*")]
    files += [("dhcpd", p) for p in root.glob("etc/dhcp/dhcpd*.conf")]
    files += [("dnsmasq", p) for p in root.glob("**/dnsmasq.conf*") if p.is_file()]
    files += [("libvirt", p) for p in root.glob("usr/share/libvirt/networks/*.xml")]
    files += [("zone", p) for p in root.glob("etc/bind/db.*")]
    counts: dict[str, list[int]] = {}
    reasons = []
    for kind, path in sorted(set(files)):
        data = path.read_bytes()
        if data[:2] == b"\x1f\x8b":
            data = gzip.decompress(data)
        options = {"origin": "ternpoint.example"} if kind == "zone" else {}
        counts.setdefault(kind, [0, 0])
        try:
            SOURCES[kind].claims(data, Origin(kind, path.name, str(path), options), Reader(path.parent))
            counts[kind][0] += 1
        except InputError as error:
            counts[kind][1] += 1
            assert error.file is not None
            assert error.line is not None or "cannot be read" in error.what or "no configuration" in error.what, error
            reasons.append(f"{kind} {error}".replace(str(root), ""))
    with capsys.disabled():
        for kind, (read, refused) in counts.items():
            print(f"\n{kind}: {read} examples read, {refused} refused", end="")
        print("".join(f"\n  {reason}" for reason in reasons))
    assert set(counts) == {"kea", "dhcpd", "dnsmasq", "libvirt", "zone"}
    assert counts["kea"][0] >= 20
