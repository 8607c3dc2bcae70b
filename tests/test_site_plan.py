"""A plan for a whole site: from surveys and a list, extended without a change of what is there."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.waves import lay_out
from fixed_anchor.core.addresses import parse_address, parse_network
from fixed_anchor.planfile.extending import extended
from fixed_anchor.planfile.reader import plan_from_text
from fixed_anchor.planfile.writer import ProposedPlan, plan_text
from tests.test_commands import run

HOSTS = 50


@pytest.fixture(scope="module")
def station(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Fifty simulated hosts, and their surveys in a folder: ten in each file."""
    folder = tmp_path_factory.mktemp("station")
    lay_out(folder, HOSTS)
    (folder / "plan.yaml").rename(folder / "seat.yaml")
    (folder / "surveys").mkdir()
    for first in range(0, HOSTS, 10):
        names = [word for number in range(first, first + 10) for word in ("--host", f"h{number}")]
        done = run(folder, "survey", "--plan", "seat.yaml", *names, "-o", f"surveys/s{first}.json")
        assert done.returncode == 0, done.stderr
    return folder


def changed(folder: Path, target: Path, change: Any) -> Path:
    """A copy of the surveys, each host as ``change`` returns it, or without it where that is none."""
    target.mkdir()
    for file in sorted((folder / "surveys").glob("*.json")):
        document = json.loads(file.read_text())
        document["hosts"] = [one for host in document["hosts"] if (one := change(host)) is not None]
        if document["hosts"]:
            (target / file.name).write_text(json.dumps(document))
    return target


def propose(folder: Path, *words: str, output: str = "-") -> tuple[int, Any]:
    done = run(folder, "propose", "--no-pool", *words, "-o", output, "--json")
    assert "Traceback" not in done.stderr, done.stderr
    return done.returncode, json.loads(done.stdout)


def test_fifty_surveys_make_a_plan_that_is_clear(station: Path, tmp_path: Path) -> None:
    plan = station / "made.yaml"
    status, told = propose(station, "--surveys", "surveys", "--keep", output="made.yaml")
    assert status == 0
    assert [one["outcome"] for one in told["placed"]] == ["new"] * HOSTS
    assert run(station, "check", "made.yaml").returncode == 0
    first = plan.read_bytes()
    # Run again, nothing changes, whatever the policy.
    for how in ("--keep", "--pick"):
        status, told = propose(station, "--surveys", "surveys", how, "--extend", output="made.yaml")
        assert (status, {one["outcome"] for one in told["placed"]}) == (0, {"in the plan"})
        assert plan.read_bytes() == first

    # A host is taken out of the plan, a comment is written by hand, and there is a survey more.
    without = plan_text_without(first.decode(), "h17")
    by_hand = without.replace("  h3:\n", "  # h3 is moved in spring\n  h3:\n").replace("  h20:\n", "  h20:  # rack 4\n")
    plan.write_text(by_hand)

    def fifty_first(host: dict[str, Any]) -> dict[str, Any]:
        text = json.dumps(host).replace('"h9"', '"h9b"').replace("0a:00:00:00:00:09", "0a:00:00:00:77:09")
        return json.loads(text.replace("198.18.1.11", "198.18.1.66")) if host["host"] == "h9" else host

    changed(station, station / "more", fifty_first)
    status, _ = propose(station, "--surveys", "more", "--keep", "--extend", output="made.yaml")
    assert status == 0
    after = plan.read_text()
    block = "  h9b:\n" + block_of(after, "h9b")
    assert (
        after.replace(block, "").replace("  # h3 is moved in spring\n", "").replace("  # rack 4", "") == first.decode()
    )
    assert after.index("  h9:") < after.index("  h9b:") < after.index("  h10:")
    plan.unlink()


def block_of(text: str, name: str) -> str:
    """The lines below a host's name."""
    lines = text.split(f"\n  {name}:\n", 1)[1].splitlines(keepends=True)
    end = next((n for n, line in enumerate(lines) if not line.startswith("    ")), len(lines))
    return "".join(lines[:end])


def plan_text_without(text: str, name: str) -> str:
    return text.replace(f"  {name}:\n{block_of(text, name)}", "")


def test_who_disagrees_is_named(station: Path, tmp_path: Path) -> None:
    def other(host: dict[str, Any]) -> dict[str, Any]:
        if host["host"] in ("h0", "h2"):
            return json.loads(json.dumps(host).replace("198.18.0.2", "198.18.0.3"))
        return host

    folder = changed(station, tmp_path / "surveys", other)
    status, told = propose(tmp_path, "--surveys", str(folder), "--keep")
    assert status == 0
    assert told["disagreements"] == [
        "resolvers of 198.18.0.0/24: 198.18.0.2 by h1, h3, h4 and others; 198.18.0.3 by h0, h2"
    ]
    plan = plan_from_text(told["plan"], "plan.yaml")
    assert list(map(str, plan.segments["lan"].resolvers)) == ["198.18.0.2"]
    own = {name: [str(r) for r in host.interfaces[0].resolvers or ()] for name, host in plan.hosts.items()}
    assert own["h0"] == own["h2"] == ["198.18.0.3"]
    assert own["h1"] == []


LIST, FROM = "name,mac,address\n", "198.18.0.200-198.18.0.210"


@pytest.mark.parametrize(
    ("rows", "words", "status", "placed"),
    [
        # By name, by MAC, which decides; the others by policy.
        ("h1,,198.18.0.77\n", ("--keep",), 0, {"h1": "198.18.0.77", "h2": "198.18.0.12"}),
        ("h1,0a-00-00-00-00-02,198.18.0.77\n", ("--keep",), 0, {"h1": "198.18.0.11", "h2": "198.18.0.77"}),
        ("h1,,198.18.0.77\n", (), 1, {"h1": "198.18.0.77", "h2": None}),
        ("h1,,198.18.0.12\n", ("--keep",), 1, {"h1": "198.18.0.12", "h2": None}),
        ("h1,,203.0.113.5\n", ("--keep",), 1, {"h1": None, "h2": "198.18.0.12"}),
        ("nobody,,198.18.0.77\n", ("--keep",), 1, {"nobody": "198.18.0.77", "h2": "198.18.0.12"}),
        (
            "",
            ("--pick", "--from", "198.18.0.200-198.18.0.210"),
            1,
            {"h1": "198.18.0.200", "h2": "198.18.0.201", "h8": None},
        ),
    ],
)
def test_a_list_of_wanted_addresses(
    station: Path, tmp_path: Path, rows: str, words: tuple[str, ...], status: int, placed: dict[str, str | None]
) -> None:
    (tmp_path / "list.csv").write_text(LIST + rows)
    few = changed(station, tmp_path / "surveys", lambda host: host if host["host"] in ("h1", "h2", "h8") else None)
    found, told = propose(tmp_path, "--surveys", str(few), "--list", "list.csv", *words)
    assert found == status
    by_host = {one["host"]: one for one in told["placed"]}
    for name, address in placed.items():
        assert by_host[name]["hold"] == ([address] if address is not None else []), by_host[name]
        if address is None:
            assert by_host[name]["outcome"] == "not placed"
            assert by_host[name]["why"]


def workbook(fill: Any) -> bytes:
    import openpyxl

    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["name", "mac", "address"])
    fill(sheet)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def merged(sheet: Any) -> None:
    sheet.append(["h1", None, "198.18.0.77"])
    sheet.append([None, None, "198.18.0.78"])
    sheet.merge_cells("A2:A3")


MANY = "list.xlsx:20001: more than"


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (workbook(lambda s: s.append(["h1", None, '=HYPERLINK("http://x","198.18.0.7")'])), "list.xlsx:2: a formula"),
        (workbook(merged), "list.xlsx:3: this row has neither a name nor a MAC"),
        (
            workbook(lambda s: [s.append(["h1", None, "198.18.0.7"]) for _ in range(20_001)]),
            "list.xlsx:20001: more than",
        ),
        (b"name,address\n" + b"h1,198.18.0.7\n" * 1_000_000, MANY),
        (b"name,address\nh1,198.18.0.7\nh2,198.18.0.7\nh1,198.18.0.8\n", "198.18.0.7 stands in line 2, too"),
        (b"name,address\nh1,198.18.0.0/24\n", "list.xlsx:2: this is a range"),
        (b"name,address\nh1,198.18.0.700\n", "list.xlsx:2:"),
        (b"PK\x03\x04 no workbook", "cannot be read"),
        (b"", "list.xlsx"),
    ],
)
def test_a_hostile_list_gets_an_error_with_its_place(station: Path, tmp_path: Path, data: bytes, says: str) -> None:
    (tmp_path / "list.xlsx").write_bytes(data)
    words = ("--surveys", str(station / "surveys"), "--list", "list.xlsx", "--keep", "-o", "plan.yaml")
    done = run(tmp_path, "propose", *words)
    assert done.returncode == 2, done.stderr
    assert says in done.stderr
    assert "Traceback" not in done.stderr
    assert not (tmp_path / "plan.yaml").exists()


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (("--surveys", "none", "--keep", "-o", "-"), 2, "cannot be read"),
        (("--surveys", "empty", "--keep", "-o", "-"), 2, "there is no survey in this folder"),
        (("--surveys", "empty", "--at", "203.0.113.4", "-o", "-"), 2, "--surveys is about many hosts"),
        (("--surveys", "empty", "-o", "-"), 2, "say which address"),
        (("--keep", "--extend", "-o", "-"), 2, "--extend adds to the plan"),
        (("--keep", "--from", "203.0.113.4-203.0.113.9", "-o", "-"), 2, "--from is where --pick looks"),
    ],
)
def test_bad_usage(site: Path, words: tuple[str, ...], status: int, says: str) -> None:
    (site / "empty").mkdir()
    (site / "empty/notes.txt").write_text("nothing")
    done = run(site, "propose", *words)
    assert done.returncode == status
    assert says in done.stderr


def proposed(name: str, number: int) -> ProposedPlan:
    net = parse_network("203.0.113.0/24")
    hold = (parse_address(f"203.0.113.{number}"),)
    mac = f"00:00:5e:00:53:{number:02x}"
    return ProposedPlan(name, "eth0", mac, net, (parse_address("203.0.113.1"),), (), (), (), hold)


LAYOUTS = (
    "{base}",
    "# the site\n{base}\n# the end\n",
    "{base}apart: []\n\n# what follows\n",
)


@given(st.lists(st.sampled_from([f"h{n}" for n in range(2, 30)]), unique=True, max_size=8), st.sampled_from(LAYOUTS))
def test_hosts_are_added_at_their_place(names: list[str], layout: str) -> None:
    base = plan_text([proposed("h1", 1), proposed("h15", 15), proposed("h30", 30)])
    text = layout.format(base=base.replace("  h15:", "\n  # of the lab\n  h15:"))
    added = [proposed(name, int(name[1:]) + 100) for name in names if name != "h15"]
    for end in ("\n", "\r\n"):
        given_text = text.replace("\n", end)
        after = extended(given_text, "plan.yaml", added)
        order = [name for name in plan_from_text(after, "plan.yaml").hosts]
        assert order == sorted(order, key=lambda name: int(name[1:]))
        # Nothing that was there is gone, and it has its order.
        lines = iter(after.splitlines(keepends=True))
        assert all(line in lines for line in given_text.splitlines(keepends=True) if line.strip())
        assert "\n  # of the lab\n  h15:".replace("\n", end) in after


@pytest.mark.parametrize(
    "text",
    [
        "plan: 1\nsegments: {lan: {subnet: 203.0.113.0/24}}\nhosts: {}\n",
        "plan: 1\nsegments: {lan: {subnet: 203.0.113.0/24}}\n"
        "hosts: {a: {interfaces: {eth0: {segment: lan, hold: 203.0.113.5}}}}\n",
    ],
)
def test_a_plan_in_braces_is_refused(text: str) -> None:
    from fixed_anchor.core.errors import InputError

    with pytest.raises(InputError, match="not written as a block"):
        extended(text, "plan.yaml", [proposed("b", 9)])
