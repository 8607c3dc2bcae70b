"""docs/by-hand-windows.md, word for word, in a real PowerShell over a simulated machine whose tool is out of reach."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from fixed_anchor.change import states
from fixed_anchor.core.errors import Stuck
from fixed_anchor.workflow.windows.draft_settings import draft_windows
from tests.powershell import needs_powershell, powershell
from tests.test_windows import MACHINES
from tests.test_windows_drafts import CASES, site_of
from tests.test_windows_engine import FIXED
from tests.windows_seat import IMPORTS, WindowsSeat, windows_seat

pytestmark = [needs_powershell, pytest.mark.one_in(2)]

PAGE = (Path(__file__).parents[1] / "docs/by-hand-windows.md").read_text()
#: What stands for the program of that name: the same PowerShell, with the modules.
PROGRAM = """
function powershell {
    $words = @($args)
    $file, $rest = $words[([array]::IndexOf($words, '-File') + 1)..($words.Count - 1)]
    $quoted = @($rest | ForEach-Object { "'$_'" }) -join ' '
    & $env:PWSH -NoLogo -NoProfile -NonInteractive -Command "$env:IMPORTS; & '$file' $quoted; exit `$LASTEXITCODE"
}
"""
HELD: dict[str, Any] = {
    "adapters": {
        "Ethernet": {
            "mac": "00:00:5e:00:53:31",
            "fixed": ["198.51.100.20/24"],
            "gateways": ["198.51.100.1 10"],
            "resolvers": ["198.51.100.2"],
        }
    }
}


def blocks(heading: str) -> list[str]:
    """The blocks below a heading, in order."""
    section = PAGE.split(f"\n## {heading}\n")[1].split("\n## ")[0]
    return re.findall(r"^```powershell\n(.*?)^```$", section, re.MULTILINE | re.DOTALL)


@pytest.fixture
def seat(
    request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[tuple[WindowsSeat, list[str]]]:
    """A machine whose change waits, and its settings before it."""
    with windows_seat(tmp_path / "w", monkeypatch, request.param) as there:
        monkeypatch.setenv("ProgramFiles", str(there.folder))
        before = there.lines()
        site = site_of(CASES[FIXED], tmp_path)
        drafted = draft_windows(site.plan, site.plan.hosts["gannet-ws"], there.target.facts, there.target.survey())
        there.begin(drafted, within=3600)
        there.until("waiting")
        assert there.lines() != before
        yield there, before


def typed(seat: WindowsSeat, *text: str) -> str:
    done = powershell(IMPORTS + PROGRAM + "".join(text), seat.folder)
    assert done.returncode == 0, done.stderr.decode()
    assert done.stderr == b"", done.stderr.decode()
    return done.stdout.decode()


@pytest.mark.parametrize("seat", [MACHINES["leased"]["machine"]], indirect=True, ids=["leased"])
def test_with_the_engine(seat: tuple[WindowsSeat, list[str]]) -> None:
    there, before = seat
    said = typed(there, *blocks("With the engine"))
    assert "state waiting" in said
    assert "rolled back" in said
    assert there.lines() == before


@pytest.mark.parametrize(
    "seat", [MACHINES["leased"]["machine"], HELD], indirect=True, ids=["it had a lease", "it had a fixed address"]
)
def test_without_the_engine(seat: tuple[WindowsSeat, list[str]]) -> None:
    """It cannot run any more; the next change can begin afterwards."""
    there, before = seat
    (there.change() / "engine.ps1").unlink()
    assert "there is no" in there.target.status("0001").engine_gone
    with pytest.raises(Stuck) as refused:
        there.target.decide("0001", states.KEEP, "wren")
    assert refused.value.remedy == "roll it back by hand, as docs/by-hand-windows.md says"
    was_leased = any(line.endswith("ipv4 dhcp") for line in before)
    stop, take_away, leased, fixed, *_, over = blocks("Without the engine")
    said = typed(there, stop, take_away, leased if was_leased else fixed, over)
    assert ("ipv4 dhcp" if was_leased else "address 198.51.100.20/24") in said
    assert there.lines() == before
    assert there.state()["tasks"] == {}
    assert there.target.open_change() is None
    there.machine.close()


def test_what_else_a_line_may_say(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """IPv6, other routes, a size, the list of domains, name servers of NetBIOS, the alternate configuration."""
    with windows_seat(tmp_path / "w", monkeypatch, HELD) as there:
        before = set(there.lines())
        said = typed(there, "$index = 4\n", *blocks("Without the engine")[4:-1])
        assert said == ""
        guid = there.state()["adapters"][0]["guid"]
        told = {line.removeprefix(f"{guid} ") for line in set(there.lines()) - before}
        assert told == {
            "ipv6 fixed", "hears-routers no", "address 2001:db8:7e:2::20/64 aside", "gateway fe80::1 metric 256",
            "route 198.18.4.0/22 via 198.51.100.254 metric 256", "default-routes IPv4 ignored",
            "suffix labs.ternpoint.example", "machine search labs.ternpoint.example,ternpoint.example",
            "netbios 198.51.100.5",
            "fallback 3200000000000000040000000000000000000000c63364be0100000000000000040000000000000000000000ffffff00",
        }  # fmt: skip
        assert there.state()["adapters"][0]["ip"][0]["mtu"] == 1400
