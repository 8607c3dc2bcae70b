"""The Windows workstation of the demo by the installed program, without PowerShell: kept, rolled back, restored."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.test_commands import run

ACCEPTED = ("--accept", "lease-not-reserved", "--because", "it is asked for")


def cutover(site: Path, *words: str) -> tuple[int, str]:
    done = run(site, "cutover", "plan.yaml", "--host", "gannet-ws", *ACCEPTED, *words)
    return done.returncode, done.stdout + done.stderr


def planned(site: Path, line: str) -> None:
    """One more line for its adapter."""
    text = (site / "plan.yaml").read_text()
    held = next(row for row in text.splitlines() if "hold: 198.51.100.77" in row)
    (site / "plan.yaml").write_text(text.replace(held, f"{held}\n        {line}"))


def kept(site: Path) -> dict[str, object]:
    """What a restart of it would bring."""
    state = json.loads((site / "hosts/gannet-ws/machine.json").read_text())
    adapter = state["adapters"][0]
    stores = {key: [x for x in adapter[key] if x["store"] == "PersistentStore"] for key in ("addresses", "routes")}
    key = next(value for name, value in state["registry"].items() if "Tcpip\\" in name)
    return {**stores, "dhcp": key["EnableDHCP"], "resolvers": key["NameServer"], "suffix": key["Domain"]}


def test_there_and_back(site: Path) -> None:
    run(site, "survey", "--plan", "plan.yaml", "--host", "gannet-ws")
    before = kept(site)
    status, said = cutover(site, "--unattended")
    assert status == 0, said
    assert "category-kept" in said
    assert kept(site)["dhcp"] == 0
    told = run(site, "status", "--plan", "plan.yaml", "--host", "gannet-ws")
    assert "the last change, 0001 on Ethernet, is confirmed" in told.stdout
    # Asked for a second time nothing is left to be done.
    status, said = cutover(site, "--unattended")
    assert (status, "nothing to do" in said) in ((0, True), (2, False)), said
    back = run(site, "restore", "--plan", "plan.yaml", "--host", "gannet-ws", "--unattended")
    assert back.returncode == 0, back.stdout + back.stderr
    assert kept(site) == before


@pytest.mark.parametrize(
    ("line", "more", "why"),
    [
        ("resolvers: [198.51.100.9]", (), "resolver-answers on Ethernet: 198.51.100.9: no answer"),
        (
            "gateway: 198.51.100.250",
            ("--accept", "gateway-silent", "--accept", "gateway-differs"),
            "198.51.100.250",
        ),
    ],
)
def test_rolled_back_with_its_reason(site: Path, line: str, more: tuple[str, ...], why: str) -> None:
    run(site, "survey", "--plan", "plan.yaml", "--host", "gannet-ws")
    before = kept(site)
    planned(site, line)
    status, said = cutover(site, "--unattended", "--patience", "2", *more)
    assert status == 3, said
    told = said[said.index("rolled-back   because its verification was not-as-planned: ") :]
    assert why in told, said
    assert kept(site) == before
    status, said = cutover(site, "--unattended", "--patience", "2")
    assert status in (1, 3), said


def test_set_otherwise_since(site: Path) -> None:
    """A restore brings nothing back over what somebody has set meanwhile; an altered change is refused."""
    assert cutover(site, "--unattended")[0] == 0
    file = site / "hosts/gannet-ws/machine.json"
    state = json.loads(file.read_text())
    next(value for name, value in state["registry"].items() if "Tcpip\\" in name)["NameServer"] = "198.51.100.3"
    file.write_text(json.dumps(state))
    back = run(site, "restore", "--plan", "plan.yaml", "--host", "gannet-ws", "--unattended")
    assert back.returncode == 1, back.stdout + back.stderr
    assert "Ethernet of gannet-ws was set otherwise since change 0001" in back.stderr
    data = site / "hosts/gannet-ws/state/changes/0001/change.json"
    data.write_text(data.read_text() + " ")
    told = run(site, "status", "--plan", "plan.yaml", "--host", "gannet-ws")
    assert told.returncode == 2, told.stdout + told.stderr
    assert "is not what was laid down" in told.stderr
