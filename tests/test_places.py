"""Every place that a finding names is the line that a person would edit.

``places.txt`` was checked by reading: one line a finding, with its code, its place, and what stands there.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.core.findings import Finding
from fixed_anchor.planfile.reader import read_plan
from fixed_anchor.standins.layout import lay_out
from fixed_anchor.workflow.reached.site import Site
from tests.corpus_hosts import CORPUS, Case, cases, site_of
from tests.judging import check
from tests.machines import Told
from tests.test_corpus import ASKED

TESTS = Path(__file__).parent
SITE = TESTS / "corpus_site"


def expected() -> dict[str, list[str]]:
    """The lines of the table, by the site or host that they are about."""
    found: dict[str, list[str]] = {}
    for line in (TESTS / "places.txt").read_text().splitlines():
        if line.startswith("## "):
            found[line[3:]] = []
        elif line and not line.startswith("#"):
            found[next(reversed(found))].append(line)
    return found


EXPECTED = expected()
#: The machine at which the test sits has no links.
NOWHERE: Any = Told(dict.fromkeys(("ip -j -d address show", "ip -j route show", "ip -j -6 route show"), "[]"), {})


def told(findings: tuple[Finding, ...], folders: tuple[Path, ...]) -> Iterator[str]:
    """Each finding in a line; ``folders`` are those in which its files may lie."""
    for found in findings:
        where = found.seen_in
        for folder in folders:
            where = where.replace(f"{folder}/", "")
        path, _, rest = where.partition(":")
        line = rest.partition(":")[0]
        text = ""
        own = [f for f in folders if found.host and f.name == found.host]
        file = next((f / path.lstrip("/") for f in (*own, *folders) if (f / path.lstrip("/")).is_file()), None)
        if file is not None and line.isdigit():
            text = file.read_text().splitlines()[int(line) - 1].strip()
        yield f"{found.code:22} {where:46} | {text}".rstrip()


def test_a_site_of_many_findings() -> None:
    plan = read_plan(SITE / "plan.yaml")
    result = check(Site(plan, NOWHERE), wire=False)
    folders = (SITE, *(SITE / "hosts" / host for host in plan.hosts))
    assert list(told(result.findings, folders)) == EXPECTED["corpus_site"]
    assert len(result.findings) >= 60


def test_the_demo_site(tmp_path: Path) -> None:
    lay_out(tmp_path)
    plan = read_plan(tmp_path / "plan.yaml")
    result = check(Site(plan, NOWHERE))
    folders = (tmp_path, *(tmp_path / "hosts" / host for host in plan.hosts))
    assert list(told(result.findings, folders)) == EXPECTED["demo"]


@pytest.mark.parametrize("case", cases(), ids=lambda case: case.name)
def test_hosts(case: Case, tmp_path: Path) -> None:
    result = check(site_of(case, tmp_path, case.files, case.plan), wire=False)
    asked = tuple(f for f in result.findings if f.code in ASKED)
    folder = CORPUS / case.stack / case.name.removeprefix(f"{case.stack}-")
    assert list(told(asked, (folder, tmp_path))) == EXPECTED.get(case.name, [])
