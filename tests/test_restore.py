"""Going back behind confirmed changes, and what the history then says; on the demo's stand-ins."""

from __future__ import annotations

from pathlib import Path

from tests.documents import only
from tests.test_commands import STATE, run

NETPLAN = "hosts/tide-db/etc/netplan/50-tide.yaml"


def cutover(site: Path, hold: str) -> None:
    plan = (site / "plan.yaml").read_text()
    begin = plan.index("hold: [203.0.113.2")
    (site / "plan.yaml").write_text(plan[:begin] + f"hold: [{hold}]" + plan[plan.index("\n", begin) :])
    done = run(site, "cutover", "plan.yaml", "--host", "tide-db", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr


def test_an_older_change_undoes_the_later_ones(site: Path) -> None:
    before = (site / NETPLAN).read_text()
    cutover(site, "203.0.113.20")
    between = (site / NETPLAN).read_text()
    cutover(site, "203.0.113.22")
    cutover(site, "203.0.113.23")
    done = run(site, *STATE, "restore", "2", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "restoring change 0002 also undoes the later changes: 0003" in done.stdout
    assert (site / NETPLAN).read_text() == between
    told = run(site, *STATE, "history", "4").stdout
    assert "restores change 0002; undone with it: 0003" in told
    # A restore is a change like any other, and can be gone back behind.
    assert run(site, *STATE, "restore", "4", "--unattended").returncode == 0
    assert "203.0.113.23" in (site / NETPLAN).read_text()
    done = run(site, *STATE, "restore", "1", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    assert (site / NETPLAN).read_text() == before
    past = only(run(site, *STATE, "history", "--json").stdout)["changes"]
    assert [(c["kind"], c["state"]) for c in past] == [("cutover", "confirmed")] * 3 + [("restore", "confirmed")] * 3


def test_a_file_that_was_edited_since_is_not_overwritten(site: Path) -> None:
    cutover(site, "203.0.113.20")
    edited = (site / NETPLAN).read_text() + "# by hand\n"
    (site / NETPLAN).write_text(edited)
    refused = run(site, *STATE, "restore", "1", "--unattended")
    assert refused.returncode == 1
    assert "/etc/netplan/50-tide.yaml was edited since change 0001" in refused.stderr
    assert (site / NETPLAN).read_text() == edited


def test_a_session_on_the_old_address_is_held_through_a_restore(site: Path) -> None:
    """Between two fixed addresses the one of today stays until the decision."""
    cutover(site, "203.0.113.20")
    cutover(site, "203.0.113.22")
    done = run(site, *STATE, "restore", "2", "--unattended", "--grace")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "203.0.113.22/32 stays on enp1s0 until the decision" in done.stdout
    assert "203.0.113.22" not in (site / NETPLAN).read_text()
    assert "no longer held: address 203.0.113.22/32 fixed on enp1s0" in run(site, *STATE, "history", "3").stdout
