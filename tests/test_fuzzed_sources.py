"""Every reader of sources on damaged files: no traceback, no hang, nothing opened or quoted that it should not.

What people wrote is cut, doubled, mixed, and pointed at other files. With ``--whole-matrix`` for much longer.
"""

from __future__ import annotations

import os
import random
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fixed_anchor.core.addresses import parse_address
from fixed_anchor.core.errors import InputError
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.rules.spoken_for import segment_findings, source_findings
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.sources import RESERVE, SOURCES
from fixed_anchor.sources.protocol import Reservation
from fixed_anchor.workflow.reached.sources import read_sources
from tests.judging import segment_case, site_case
from tests.test_source_corpus import CORPUS

SECRET = "hunter2-quay"
#: No example takes longer, in seconds.
LONGEST = 20
#: What the readers open, each with its mode, while a test looks.
_opened: list[str] | None = None
#: Other files that a source may be pointed at, as they stand in its folder.
TARGETS = [
    "source",
    "part",
    "folder",
    "pipe",
    "/dev/zero",
    "/dev/tty",
    "../outside/secret",
    "link",
    "nowhere",
    "",
    "\0",
]
#: How a file of each kind names another.
NAMING = {
    "kea": '<?include "{}"?>', "dhcpd": 'include "{}";', "zone": "$INCLUDE {}",
    "dnsmasq": "{key}={}",
    "libvirt": "<d:options xmlns:d='http://libvirt.org/schemas/network/dnsmasq/1.0'><d:option value='{key}={}'/>"
               "</d:options>",
}  # fmt: skip
KEYS = ["conf-file", "conf-dir", "dhcp-hostsfile", "dhcp-hostsdir", "addn-hosts"]
#: Pieces that mean something somewhere.
PIECES = [
    *(bytes([char]) for char in b"\0\r\n{}[]()<\"'#;,=:-/\\\xff"), b"", b"/>", b"/*", b"*/", b"%s", b"\xef\xbb\xbf",
    b"203.0.113.5", b"203.0.113.0/24", b"2001:db8::1", b"00:00:5e:00:53:01", b"999999999999999999999", b"\x1b[31m",
    b"\xe2\x80\xae", b"null", b"true", b"&lt;", b"static", b"$GENERATE 1-70000 a$ A 203.0.113.9\n",
    b"$GENERATE 0-10/0 a${0,9999999,d} A 203.0.113.$\n", b"$GENERATE 0-3 ${-1} PTR a$\n", b"$ORIGIN .\n",
    b"$TTL 99999999999w\n", b"<!DOCTYPE x>", b"range 203.0.113.9 0.0.0.0;", b"dhcp-range=::,constructor:x\n",
    b"lease 203.0.113.9 {",
]  # fmt: skip


def _audit(event: str, args: tuple[Any, ...]) -> None:
    if _opened is not None and event == "open" and isinstance(args[0], (str, bytes)):
        _opened.append(os.fsdecode(args[0]))


sys.addaudithook(_audit)


def bodies(kind: str) -> list[bytes]:
    return [path.read_bytes() for path in sorted((CORPUS / kind).iterdir())]


@st.composite
def damaged(draw: st.DrawFn, kind: str) -> bytes:
    """A file of the kind with some of it cut away, doubled, moved, or replaced, and maybe another one named in it."""
    chance = random.Random(draw(st.integers(0, 2**32)))
    body = bytearray(chance.choice(bodies(kind)))
    for _ in range(draw(st.integers(0, 6))):
        at = chance.randrange(len(body) + 1)
        end = min(len(body), at + chance.choice([0, 1, 2, 5, 20, 200]))
        piece = chance.choice([chance.choice(PIECES), bytes(body[at:end]) * 2, bytes(body[end : end + 40])])
        body[at:end] = piece
    if kind in NAMING and draw(st.booleans()):
        directive = NAMING[kind].replace("{key}", chance.choice(KEYS)).replace("{}", chance.choice(TARGETS))
        lines = bytes(body).split(b"\n")
        at = chance.randrange(len(lines) + 1)
        body = bytearray(b"\n".join([*lines[:at], directive.encode(), *lines[at:]]))
    return bytes(body)


def lay_out(folder: Path, kind: str, data: bytes) -> None:
    """The source with all that it may be pointed at."""
    (folder / "outside").mkdir()
    (folder / "outside/secret").write_text(f"{SECRET} = {SECRET};\n<{SECRET}>\n{SECRET} A {SECRET}\n{{{SECRET}}}\n")
    site = folder / "site"
    (site / "folder").mkdir(parents=True)
    os.mkfifo(site / "pipe")
    os.mkfifo(site / "folder/pipe")
    (site / "folder/more").write_bytes(data[: len(data) // 2])
    (site / "part").write_bytes(data[len(data) // 2 :])
    (site / "link").symlink_to("../outside/secret")
    (site / "source").write_bytes(data)


def read_all(kind: str, data: bytes) -> None:
    """Reads the source as a check does, asks for what it says, drafts a reservation; sees what was opened and said."""
    global _opened
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lay_out(folder, kind, data)
        extra = ", origin: ternpoint.example" if kind == "zone" else ""
        plan = plan_from_text(
            "plan: 1\nsegments: {quay: {subnet: [203.0.113.0/24, '2001:db8:7e:1::/64'], gateway: 203.0.113.1}}\n"
            f"sources: [{{{kind}: source{extra}}}]\nhosts: {{}}\n",
            str(folder / "site/plan.yaml"),
        )
        begun, _opened = time.monotonic(), []
        try:
            claims, unread = read_sources(plan)
        finally:
            opened, _opened = _opened, None
        known = Knowledge(plan, claims, (), unread)
        said = [f.message for f in (*source_findings(site_case(known)), *segment_findings(segment_case(known)))]
        said += [c.said for c in known.consulted("quay", parse_address("203.0.113.9"))]
        insert = RESERVE[kind].insert if kind in RESERVE else None
        if insert is not None:
            wanted = Reservation("00:00:5e:00:53:77", "203.0.113.50", "tide-db")
            try:
                insert(data.decode("utf-8", "replace"), "source", wanted)
            except InputError as error:
                said.append(str(error))
        assert time.monotonic() - begun < LONGEST
        inside = [path for path in opened if path.startswith((name, "/dev"))]
        assert all(os.path.isfile(path) for path in inside), inside
        assert not any(SECRET in words for words in said), said


def _examples(config: pytest.Config) -> int:
    return 3000 if config.getoption("--whole-matrix") else 60


@pytest.mark.parametrize("kind", SOURCES)
def test_damaged_sources(kind: str, pytestconfig: pytest.Config) -> None:
    limits = settings(
        max_examples=_examples(pytestconfig),
        deadline=None,
        suppress_health_check=list(HealthCheck),
        database=None,
        derandomize=not pytestconfig.getoption("--whole-matrix"),
    )
    run: Callable[[], None] = limits(given(damaged(kind))(lambda data: read_all(kind, data)))
    run()


@pytest.mark.parametrize(
    "words", ["range;", "range { }", "range 203.0.113.9 203.0.113.10 203.0.113.11;", "range6 temporary;"]
)
def test_a_range_without_its_two_ends(words: str) -> None:
    """A reservation is drafted into what an error has been told of already."""
    read_all("dhcpd", f"subnet 203.0.113.0 netmask 255.255.255.0 {{\n  {words}\n}}\n".encode())
