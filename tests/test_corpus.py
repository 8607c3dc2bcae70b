"""Every host of the corpus: what is told of it, what is drafted, and that it can be carried on and back to DHCP."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path
from typing import Any

import msgspec
import pytest

from fixed_anchor.change.files import Files, apply_edits
from fixed_anchor.core.config import InterfaceConfig, differences
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.rules.declared import CODES
from fixed_anchor.daemons.protocol import IN_FILES
from fixed_anchor.formats import FORMATS
from fixed_anchor.workflow.hosts.host_wide import host_configs, place_of
from fixed_anchor.workflow.linux.draft_files import draft_host
from fixed_anchor.workflow.reached.site import Site
from tests.corpus_hosts import Case, cases, site_of
from tests.judging import check

CASES = cases()
#: The findings that are about the declared state of a host, and two more that an example is for.
OF_WINDOWS = {
    "in-cluster", "in-load-balancing", "cloud-agent", "typed-routes", "same-in-every-network", "profile-resolvers",
    "role-moves", "on-virtual-switch", "on-team", "policy-wins", "policy-says", "category-may-change",
    "name-not-unique", "duplicate-seen", "kept-for-absent-adapter", "old-record-stays", "traffic-moves",
}  # fmt: skip
ASKED = (CODES - OF_WINDOWS) | {"two-stacks", "interface-missing"}


def after_draft(site: Site, files: Files) -> tuple[Files, dict[str, InterfaceConfig]]:
    """``files`` after the draft of the one host, and what its plan wants that they declare."""
    (host,) = site.plan.hosts.values()
    machine, survey = site.machine(host), site.survey(host)
    assert machine is not None
    assert survey is not None
    edits = draft_host(site.plan, host, machine, survey).content.ends_with()
    wanted = host_configs(site.plan, host, survey)
    for name, config in wanted.items():
        if place_of(survey, survey.interface(name)) != IN_FILES:
            wanted[name] = msgspec.structs.replace(config, resolvers=None, search=None)
    return apply_edits(files, edits), wanted


def declares(case: Case, site: Site, files: Files, wanted: dict[str, InterfaceConfig]) -> None:
    """The files say what is wanted; every other interface is declared as before."""
    (host,) = site.plan.hosts.values()
    survey = site.survey(host)
    assert survey is not None
    for interface in survey.interfaces:
        said = FORMATS[case.stack].read(files, (interface.link,)) if interface.stack == case.stack else ()
        if interface.name in wanted:
            assert differences(said[0].config, wanted[interface.name]) == (), interface.name
        elif said:
            before = FORMATS[case.stack].read(sound(case), (interface.link,))
            assert said[0].config == before[0].config, interface.name


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_what_is_told(case: Case, tmp_path: Path) -> None:
    result = check(site_of(case, tmp_path, case.files, case.plan), wire=False)
    told = sorted({f.code for f in result.findings} & ASKED)
    assert told == sorted(case.spec.get("told", [])), [f.message for f in result.findings if f.code in ASKED]
    # Each with a place, and with something to do.
    for found in result.findings:
        assert found.seen_in
        assert found.remedy
        if found.code in ASKED and found.seen_in.startswith("/etc/"):
            path, _, rest = found.seen_in.partition(":")
            line = rest.partition(":")[0]
            assert path in case.files, found.seen_in
            # The line is that of the file as it is; where the text of the line is quoted, it stands there.
            lines = case.files[path].text.splitlines()
            assert not line or int(line) <= max(len(lines), 1), found.seen_in
            quoted = re.match(r"`([^`]*)` (?:names|puts)", found.message)
            if quoted and case.stack != "netplan":
                words = quoted[1].split()
                assert set(words) <= set(lines[int(line) - 1].split()), (found.seen_in, found.message)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_what_is_drafted(case: Case, tmp_path: Path) -> None:
    site = site_of(case, tmp_path, case.files, case.plan)
    if "refused" in case.spec:
        with pytest.raises(AnchorError) as refused:
            after_draft(site, case.files)
        assert re.search(case.spec["refused"], str(refused.value)), str(refused.value)
        return
    files: Files = sound(case)
    for number, plan in enumerate([case.plan, *case.later_plans()]):
        site = site_of(case, tmp_path, files, plan)
        files, wanted = after_draft(site, files)
        declares(case, site, files, wanted)
        if number == 0:
            _has(case.spec.get("has", {}), files, True)
            _has(case.spec.get("gone", {}), files, False)


def sound(case: Case) -> dict[str, Any]:
    """The files of the stack without those that it cannot read."""
    left = dict(case.files)
    for path, file in case.files.items():
        try:
            FORMATS[case.stack].check(file)
        except InputError:
            del left[path]
    return left


def _has(lines: dict[str, Any], files: Files, there: bool) -> None:
    for path, wanted in lines.items():
        if wanted is None:
            assert path not in files
            continue
        present = [line.strip() for line in files[path].text.splitlines()]
        for line in [wanted] if isinstance(wanted, str) else wanted:
            assert (line in present) is there, (path, line, files[path].text)


def test_the_corpus_is_whole() -> None:
    """Every kind of trouble is in it, on every stack, and so are enough hosts with none."""
    by_stack = Counter(case.stack for case in CASES)
    assert set(by_stack) == set(FORMATS)
    assert len(CASES) >= 120
    assert min(by_stack.values()) >= 18
    told = {code for case in CASES for code in case.spec.get("told", [])}
    # No parser of a host is there to be asked.
    assert ASKED - told == {"interface-missing", "draft-refused", "draft-not-tried"}
