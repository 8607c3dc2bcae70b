"""The files of hosts, damaged: a check goes on, and what it says has a place. With ``--whole-matrix`` for longer."""

from __future__ import annotations

import random
import tempfile
from pathlib import Path

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fixed_anchor.change.files import Files
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.workflow.linux.draft_files import draft_host
from tests.corpus_hosts import Case, cases, site_of
from tests.judging import check

CASES = cases()
STACKS = sorted({case.stack for case in CASES})
PIECES = [
    *"{}[]()<\"'#;,=:-/\\\t\r\n!&*%", "", "]\n", "\n\n", "  - ", "\u202e", "\x1b[31m", "198.51.100.999", "::/0", "eth0",
    "0.0.0.0/0", "auto eth0\n", "iface eth0 inet dhcp\n", "source /dev/zero\n", "source interfaces\n", "[Match]\n",
    "inherits eth0\n", "Name=*\n", "[Network]\n", "DHCP=yes\n", "[ipv4]\n", "method=auto\n", "\ufeff", "9" * 30,
    "a: &a [*a]\n", "<<: *x\n", "dhcp4: true\n", "addresses: [203.0.113.9]\n", "$(reboot)", "`id`", "DEVICE=eth0\n",
    "BOOTPROTO=dhcp\n",
]  # fmt: skip


def damaged(case: Case, seed: int, cuts: int) -> Files:
    chance = random.Random(seed)
    files = dict(case.files)
    for _ in range(cuts if files else 0):
        path = chance.choice(sorted(files))
        text = files[path].text
        at = chance.randrange(len(text) + 1)
        end = min(len(text), at + chance.choice([0, 1, 3, 10, 40]))
        piece = chance.choice([*PIECES, text[at:end] * 2, text[end : end + 30]])
        files[path] = msgspec.structs.replace(files[path], text=text[:at] + piece + text[end:])
    return files


def look(case: Case, seed: int, cuts: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        site = site_of(case, Path(folder), damaged(case, seed, cuts), case.plan)
        for found in check(site, wire=False).findings:
            assert found.seen_in
        (host,) = site.plan.hosts.values()
        machine, survey = site.machine(host), site.survey(host)
        assert machine is not None
        assert survey is not None
        try:
            draft_host(site.plan, host, machine, survey)
        except AnchorError as error:
            assert error.what


@pytest.mark.parametrize("stack", STACKS)
def test_damaged_hosts(stack: str, pytestconfig: pytest.Config) -> None:
    own = [case for case in CASES if case.stack == stack]
    limits = settings(
        max_examples=1500 if pytestconfig.getoption("--whole-matrix") else 40,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        database=None,
        derandomize=not pytestconfig.getoption("--whole-matrix"),
    )
    limits(given(st.sampled_from(own), st.integers(0, 2**32), st.integers(0, 4))(look))()


def test_a_stanza_without_its_family_is_refused() -> None:
    """Found by the above: it was taken for one that could be edited."""
    (case,) = [c for c in CASES if c.name == "ifupdown-hook-adds-address"]
    look(case, 12010, 2)
