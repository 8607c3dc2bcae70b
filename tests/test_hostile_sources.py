"""Sources that name what is not theirs to name: devices, pipes, themselves, files of others."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.claims import Claims
from fixed_anchor.core.knowledge import Knowledge, Unread
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.sources import protocol
from fixed_anchor.workflow.reached.sources import read_sources

SECRET = "hunter2-quay"
#: How each kind names a further file, and the key under which the plan names the kind.
INCLUDES = {
    "zone": "$ORIGIN ternpoint.example.\n@ 60 IN SOA a b 1 2 3 4 5\n$INCLUDE {}\n",
    "dhcpd": 'include "{}";\n',
    "dnsmasq": "conf-file={}\n",
    "kea": '{{ "Dhcp4": {{ "subnet4": [ <?include "{}"?> ] }} }}\n',
}
HOSTSFILE = "dhcp-range=203.0.113.100,203.0.113.199\ndhcp-hostsfile={}\n"


def read(folder: Path, kind: str, text: str) -> tuple[list[Claims], tuple[Unread, ...]]:
    (folder / "source").write_text(text)
    plan = plan_from_text(plan_text(kind, "source"), str(folder / "plan.yaml"))
    begun = time.monotonic()
    found, unread = read_sources(plan)
    assert time.monotonic() - begun < 60
    return found, Knowledge(plan, found, (), unread).unread


def device(folder: Path) -> str:
    return "/dev/zero"


def pipe(folder: Path) -> str:
    os.mkfifo(folder / "pipe")
    return str(folder / "pipe")


def folder_itself(folder: Path) -> str:
    return str(folder)


def nothing(folder: Path) -> str:
    return str(folder / "nowhere")


def itself(folder: Path) -> str:
    return str(folder / "source")


@pytest.mark.parametrize("target", [device, pipe, folder_itself, nothing, itself])
@pytest.mark.parametrize("kind", [*INCLUDES, "hostsfile"])
def test_only_regular_files_are_opened(kind: str, target: Callable[[Path], str], tmp_path: Path) -> None:
    text = {**INCLUDES, "hostsfile": HOSTSFILE}[kind]
    found, unread = read(tmp_path, "dnsmasq" if kind == "hostsfile" else kind, text.format(target(tmp_path)))
    if kind == "hostsfile" and target in (itself, folder_itself):
        # A folder of host files is one of the forms; lines that are no hosts are told one by one.
        return
    assert unread, found
    assert all(u.where for u in unread)


@pytest.mark.parametrize(
    "kind",
    [*INCLUDES, "hosts", "address-list", "kea-leases", "dhcpd-leases", "dnsmasq-leases", "libvirt", "windows-dhcp"],
)
def test_no_text_of_a_file_outside_the_plan_s_folder_is_quoted(kind: str, tmp_path: Path) -> None:
    outside, inside = tmp_path / "outside", tmp_path / "site"
    outside.mkdir()
    inside.mkdir()
    lines = f'token = "{SECRET}"\n{SECRET}\n300.1.1.1 {SECRET} A {SECRET}\n<{SECRET}>\n'
    (outside / "secret").write_text(lines)
    for text in [INCLUDES[kind].format(outside / "secret")] if kind in INCLUDES else []:
        found, unread = read(inside, kind, text)
        assert SECRET not in repr((found, unread))
    plan = plan_from_text(plan_text(kind, "../outside/secret"), str(inside / "plan.yaml"))
    found, unread = read_sources(plan)
    words = [u.why for u in unread] + [r.what for c in found for r in (*c.broken, *c.untidy)]
    assert SECRET not in repr(words), words
    # A link out of the folder is no way round.
    (inside / "link").symlink_to(outside / "secret")
    plan = plan_from_text(plan_text(kind, "link"), str(inside / "plan.yaml"))
    found, unread = read_sources(plan)
    assert SECRET not in repr([u.why for u in unread] + [r.what for c in found for r in (*c.broken, *c.untidy)])


def plan_text(kind: str, path: str) -> str:
    return f"plan: 1\nsegments: {{quay: {{subnet: 203.0.113.0/24}}}}\nsources: [{{{kind}: {path}}}]\nhosts: {{}}\n"


def test_all_that_a_source_includes_counts_for_its_size(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(protocol, "MAX_SIZE", 1024 * 1024)
    for number in range(8):
        (tmp_path / f"part{number}").write_text("# " + "x" * 200_000 + "\n")
    _, unread = read(tmp_path, "dnsmasq", "".join(f"conf-file=part{n}\n" for n in range(8)))
    assert "1 MiB are too many" in unread[0].why
    monkeypatch.setattr(protocol, "MAX_FILES", 5)
    for number in range(8):
        (tmp_path / f"part{number}").write_text("")
    _, unread = read(tmp_path, "dnsmasq", "".join(f"conf-file=part{n}\n" for n in range(8)))
    assert "more than 5 files" in unread[0].why


ZONE = "$ORIGIN ternpoint.example.\n$TTL 60\n@ IN SOA a b 1 2 3 4 5\n"


@pytest.mark.parametrize(
    ("text", "where"),
    [
        (ZONE + "$GENERATE 1-65000 a$ A 203.0.113.9\n$GENERATE 1-65000 b$ A 203.0.113.9\n", "source:5"),
        (ZONE + "a A 203.0.113.8\nb A 203.0.113.300\nc A 203.0.113.9\n", "source:5"),
        (ZONE + "a A 203.0.113.8\n\n; remark\nb A\n\nc A 203.0.113.9\n", "source:7"),
        (ZONE + "a TXT ( one\n two\n three\nb A 203.0.113.9\n", "source:4"),
        (ZONE + "a A 203.0.113.8\nb MX ( ten\n mail )\n", "source:5"),
        (ZONE + "$INCLUDE\n", "source:4"),
        (ZONE + "a A 203.0.113.8\n$INCLUDE more\nb A 203.0.113.9\n", "more:2"),
        (ZONE + "$NONSENSE x\n", "source:4"),
        (ZONE + "a A 203.0.113.8\n$GENERATE 1-x h$ A 203.0.113.9\n", "source:5"),
    ],
)
def test_an_error_in_a_zone_is_told_with_the_line_of_its_record(text: str, where: str, tmp_path: Path) -> None:
    (tmp_path / "more").write_text("x A 203.0.113.7\ny A nowhere\n")
    found, unread = read(tmp_path, "zone", text)
    assert not found
    assert unread[0].where.removeprefix(f"{tmp_path}/") == where


def test_very_many_names_of_one_address(tmp_path: Path) -> None:
    found, _ = read(tmp_path, "zone", ZONE + "$GENERATE 1-65000 a$ A 203.0.113.9\n")
    plan = plan_from_text(plan_text("zone", "source"), str(tmp_path / "plan.yaml"))
    known = Knowledge(plan, found)
    (said,) = (c.said for c in known.consulted("quay", parse_address("203.0.113.9")) if c.source.startswith("zone"))
    assert said.endswith("a8.ternpoint.example and 64992 more")


def test_what_an_include_leaves_as_it_was(tmp_path: Path) -> None:
    """RFC 1035, section 5.1: the origin of the including file, and its last owner, are as before."""
    (tmp_path / "more").write_text("gull A 203.0.113.8\n$ORIGIN deep.ternpoint.example.\nx A 203.0.113.7\n")
    (claims,), unread = read(
        tmp_path, "zone", ZONE + "ns A 203.0.113.2\n$INCLUDE more sub\n A 203.0.113.3\ny A 203.0.113.4\n"
    )
    assert not unread
    assert [(r.name, str(r.address), r.place.line) for r in claims.records] == [
        ("ns.ternpoint.example", "203.0.113.2", 4),
        ("gull.sub.ternpoint.example", "203.0.113.8", 1),
        ("x.deep.ternpoint.example", "203.0.113.7", 3),
        ("ns.ternpoint.example", "203.0.113.3", 6),
        ("y.ternpoint.example", "203.0.113.4", 7),
    ]


def test_a_delegated_part_of_a_reverse_zone(tmp_path: Path) -> None:
    """RFC 2317, with the slash of its examples, or a dash."""
    for part in ("0/25", "0-127", "quay"):
        text = ZONE.replace("ternpoint.example", f"{part}.113.0.203.in-addr.arpa") + "9 PTR gull.ternpoint.example.\n"
        (claims,), _ = read(tmp_path, "zone", text)
        assert [(r.name, str(r.address)) for r in claims.records] == [("gull.ternpoint.example", "203.0.113.9")]
