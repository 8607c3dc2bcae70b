"""docs/endings.md against what the commands say; and that nothing of it depends on who reads the output."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.change import ChangeStatus
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, VerifyResult
from fixed_anchor.machines.here import Here
from fixed_anchor.workflow.events import Outcome
from fixed_anchor.workflow.linux.linux_host import LinuxHost
from tests import endings
from tests.documents import only
from tests.test_commands import ALONE, PROGRAM, STATE, run

PAGE = (Path(__file__).parents[1] / "docs/endings.md").read_text()


@pytest.mark.skipif(os.geteuid() != 0, reason="without root no other user can be tried, and no network namespace made")
@pytest.mark.one_in(3)
@pytest.mark.parametrize("name", endings.ENDINGS)
def test_the_page_says_what_the_commands_say(name: str, tmp_path: Path) -> None:
    made = endings.chapter(name, tmp_path)
    heading = made.splitlines()[0]
    section = PAGE.split(f"{heading}\n")[1].split("\n## ")[0]
    assert made.strip() == f"{heading}\n{section}".strip()


# --- output that is closed, full, or read by nobody any more ---------------------------------------

COMMANDS = {
    "survey --root hosts/tide-db": 0,
    "propose --from-tree x --keep -o y": 2,
    "probe 203.0.113.300": 2,
    "check plan.yaml": 1,
    "check plan.yaml --json": 1,
    "draft plan.yaml --host tide-db": 0,
    "verify plan.yaml --host tide-db": 1,
    "explain": 0,
    "cutover plan.yaml --host tide-db --unattended": 0,
    "STATE status": 0,
    "STATE confirm": 7,
    "STATE history": 0,
    "STATE restore --dry-run": 0,
    "STATE restore": 0,
    "STATE restore --unattended": 1,
    "STATE close 1 --because x": 7,
    "demo elsewhere": 0,
}


@pytest.mark.one_in(3)
@pytest.mark.parametrize("output", [">/dev/full", ">&-", "| head -1", "2>/dev/full >/dev/full", ">&- 2>&- <&-"])
def test_the_status_is_that_of_what_was_done(site: Path, output: str) -> None:
    """In turn on one site: what was not done for want of a reader would show in the next one's status."""
    seen: dict[str, tuple[int, str]] = {}
    for words in COMMANDS:
        line = f"{PROGRAM} {words.replace('STATE', ' '.join(STATE))} {output}"
        script = f"{line}; echo ${{PIPESTATUS[0]}} >status"
        done = subprocess.run(
            [*ALONE, "bash", "-c", script], cwd=site, capture_output=True, text=True, check=False, timeout=300
        )
        seen[words] = (int((site / "status").read_text()), done.stderr)
    assert {words: status for words, (status, _) in seen.items()} == COMMANDS
    said = "".join(err for _, err in seen.values())
    assert "Traceback" not in said
    assert "a bug of ours" not in said
    if output == ">/dev/full":
        assert "not all of the output could be written: No space left on device" in seen["explain"][1]
    assert "203.0.113.20" not in (site / "hosts/tide-db/etc/netplan/50-tide.yaml").read_text()


# --- restore ----------------------------------------------------------------------------------------


def test_a_restore_goes_back_once(site: Path) -> None:
    file = site / "hosts/tide-db/etc/netplan/50-tide.yaml"
    before = file.read_text()
    assert run(site, "cutover", "plan.yaml", "--host", "tide-db", "--unattended").returncode == 0
    after = file.read_text()
    dry = run(site, *STATE, "restore", "--dry-run")
    assert (dry.returncode, "nothing was done" in dry.stdout) == (0, True), dry.stderr
    assert "+      dhcp4: true" in dry.stdout
    assert "netplan generate" in dry.stdout
    assert file.read_text() == after
    # Nobody waits for a confirmation: it returns to what was good.
    assert run(site, *STATE, "restore", "--note", "back on the lease").returncode == 0
    assert file.read_text() == before
    again = run(site, *STATE, "restore")
    assert (again.returncode, "was a restore already (of change 0001)" in again.stderr) == (1, True), again.stderr
    assert file.read_text() == before
    past = only(run(site, *STATE, "history", "--json").stdout)["changes"]
    assert [c["note"] for c in past] == [None, "back on the lease"]
    assert run(site, *STATE, "restore", "2").returncode == 0
    assert file.read_text() == after


@pytest.mark.skipif(os.geteuid() != 0, reason="only root rolls a change of this machine back")
def test_a_dry_restore_of_an_open_change_leaves_it_open(tmp_path: Path) -> None:
    stage = endings.waiting(tmp_path)
    dry = stage.run("restore", "--dry-run")
    assert (dry.returncode, dry.stdout) == (0, "change 0001 is open: it would be rolled back now; nothing was done\n")
    assert "automatic rollback at" in stage.run("status").stdout
    assert stage.run("restore").returncode == 0


# --- reasons ----------------------------------------------------------------------------------------


def check(code: str, outcome: str) -> VerifyCheck:
    return VerifyCheck(
        code, True, "tide-db", "enp1s0", "here", "wanted", "seen", outcome, "why" if outcome == FAIL else None
    )


def test_what_was_not_as_planned_is_told_by_its_checks() -> None:
    checks = [check("address-present", PASS), *(check(f"c{n}", FAIL) for n in range(5))]
    why = VerifyResult(tuple(checks)).against
    assert why.startswith("c0 on enp1s0: wanted: seen (why); c1 on enp1s0")
    assert why.endswith("; and 2 more")


@pytest.mark.parametrize(
    ("failed", "unheard"),
    [
        (["gateway-answers-arp"], ("gateway-answers-arp",)),
        (["gateway-answers-nd", "resolver-answers"], ("gateway-answers-nd",)),
        (["resolver-answers", "default-route"], ()),
        (["resolver-answers"], ()),
        (["sole-owner"], ()),
        ([], ()),
    ],
)
def test_only_the_segment_disagrees(failed: list[str], unheard: tuple[str, ...]) -> None:
    result = VerifyResult((check("address-present", PASS), *(check(code, FAIL) for code in failed)))
    assert result.unheard == unheard
    # Whoever has answered is somebody.
    heard = VerifyResult((*result.checks, check("neighbour-finds", PASS)))
    assert heard.unheard == ()


def test_a_state_folder_that_is_not_there_is_said(tmp_path: Path) -> None:
    target = LinuxHost(Here(str(tmp_path / "fixed-anchor")))
    assert target.never_begun() == f"no change was ever begun on {target.name}: there is no {tmp_path}/fixed-anchor"
    (tmp_path / "fixed-anchor").mkdir()
    assert target.never_begun() == ""


def test_the_exit_status_of_every_outcome() -> None:
    status = ChangeStatus("0001", states.CLOSED, "eth0")
    assert not status.is_open
    assert Outcome("0001", states.CONFIRMED, None, True).exit_status == 5
    assert Outcome("0001", states.ROLLED_BACK, None).exit_status == 3
    assert Outcome("0001", states.STUCK, None).exit_status == 5
