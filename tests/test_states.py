"""The one table of the states of a change, against the two engines that move it, and the page that tells of it."""

from __future__ import annotations

import ast
import re
from pathlib import Path

from fixed_anchor.change import states
from fixed_anchor.change.states import STATES
from fixed_anchor.engine.source import PARTS, engine_source
from fixed_anchor.engine.windows_data import PARTS as WINDOWS_PARTS
from fixed_anchor.engine.windows_data import part

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src/fixed_anchor"
ENGINE = engine_source().decode()
FORWARD = [states.PREPARED, states.LEAVING, states.WRITING, states.ACTIVATING, states.WAITING]

#: Who speaks in which function of the shell engine.
GUARD, REQUEST, BOOT = ("forward", "commit", "roll_back"), ("request_roll_back", "close"), ("boot",)


def body(function: str) -> str:
    """The text of a function of the shell engine, which may be one line."""
    found = re.search(rf"^{function}\(\) \{{(?:([^\n]+)\}}$|\n(.*?)^\}}$)", ENGINE, re.MULTILINE | re.DOTALL)
    assert found, function
    return found[1] or found[2]


def moves(text: str) -> list[str]:
    """The states that a piece of the shell engine moves a change to, in order."""
    return re.findall(r"\b(?:set_state|finish) ([a-z-]+)", text)


def targets(column: str) -> set[str]:
    return {name for row in STATES.values() for name in getattr(row, column)}


def test_the_table_is_whole() -> None:
    assert states.FINAL == (states.CONFIRMED, states.ROLLED_BACK, states.CLOSED)
    for row in STATES.values():
        for name in (*row.by_guard, *row.by_request, *row.at_boot):
            assert name in STATES, row.name
        # Whatever is open has something to be done about it at boot, and in words.
        assert bool(row.at_boot) == bool(row.after_power_cut) == (not row.is_final), row.name
    # From everywhere there is a way to an end.
    ends = set(states.FINAL)
    while grown := {r.name for r in STATES.values() if ends & {*r.by_guard, *r.by_request}} - ends:
        ends |= grown
    assert ends == set(STATES)


def test_the_shell_engine_moves_a_change_as_the_table_says() -> None:
    every = set(re.findall(r"^(\w+)\(\) \{", ENGINE, re.MULTILINE)) - {"set_state", "finish"}
    assert {name for name in every if moves(body(name))} == {*GUARD, *REQUEST, *BOOT}
    for functions, column in ((GUARD, "by_guard"), (REQUEST, "by_request"), (BOOT, "at_boot")):
        assert {name for f in functions for name in moves(body(f))} == targets(column), functions
    assert [name for name in moves(body("forward")) if name != states.ROLLED_BACK] == FORWARD
    for before, after in zip(["", *FORWARD], FORWARD, strict=False):
        assert after in STATES[before].by_guard
    assert moves(body("commit")) == [states.COMMITTING, states.CONFIRMED]


def test_the_shell_engine_boots_as_the_table_says() -> None:
    """Each branch for the states that it names; the last one is for all others."""
    left = dict(STATES)
    for branch in body("boot").split(";;"):
        labels = re.match(r"[^)]*?(?:esac\s*)?([a-z'| *-]+)\)", branch.partition(" in\n")[2] or branch)
        if labels is None:
            continue
        names = [label.strip().strip("'") for label in labels[1].split("|")]
        for name in list(left) if names == ["*"] else names:
            row = left.pop(name)
            reached = moves(branch)
            assert set(row.at_boot) <= set(reached), row.name
            assert reached[-1:] == [] if row.is_final else reached[-1] in (*states.FINAL, states.STUCK), row.name
    assert left == {}


def test_the_simulated_engine_moves_a_change_as_the_table_says() -> None:
    tree = ast.parse((SOURCE / "standins/engine.py").read_text())
    found: dict[str, list[str]] = {}
    for function in (node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef)):
        for call in (node for node in ast.walk(function) if isinstance(node, ast.Call)):
            if isinstance(call.func, ast.Attribute) and call.func.attr in ("_state", "_finish"):
                (argument,) = call.args
                if isinstance(argument, ast.Attribute):
                    found.setdefault(function.name, []).append(getattr(states, argument.attr))
    assert found.pop("_start") == FORWARD
    assert found == {
        "_roll_back": [states.ROLLING_BACK, states.ROLLED_BACK, states.STUCK],
        "_catch_up": [states.COMMITTING, states.CONFIRMED],
        "_close": [states.CLOSED],
    }
    assert set(found.pop("_close")) <= targets("by_request")
    for names in found.values():
        assert set(names) <= targets("by_guard")


def test_the_engine_for_windows_moves_a_change_as_the_table_says() -> None:
    """Its guard is what boots a change, too: each function, in order."""
    text = "".join(part(name) for name in WINDOWS_PARTS)
    bodies = re.findall(r"^function ([\w-]+)[^\n]*\{\n(.*?)^\}$", text, re.MULTILINE | re.DOTALL)
    found = {name: re.findall(r"\b(?:Set-To|Finish) '([a-z-]+)'", body) for name, body in bodies}
    found = {name: list(dict.fromkeys(moved)) for name, moved in found.items() if moved}
    assert [name for name in found.pop("Forward") if name != states.ROLLED_BACK] == FORWARD
    assert found == {
        "Commit": [states.COMMITTING, states.CONFIRMED],
        "Roll-Back": [states.ROLLED_BACK, states.ROLLING_BACK],
        "Take-Back": [states.ROLLED_BACK],
        "Give-Up": [states.COMMITTING, states.CONFIRMED, states.ROLLED_BACK],
        "Tell-Stuck": [states.STUCK],
        "Guard": [states.ROLLED_BACK],
        "Boot": [states.ROLLED_BACK, states.ROLLING_BACK],
        "Request-Roll-Back": [states.ROLLING_BACK],
        "Close-Change": [states.CLOSED],
    }
    for name, moved in found.items():
        column = "by_request" if name in ("Request-Roll-Back", "Close-Change") else "by_guard"
        assert set(moved) <= targets(column), name


def test_the_page_of_the_design_has_the_table() -> None:
    page = (ROOT / "docs/design.md").read_text()
    for row in STATES.values():
        if row.name:
            assert f"| `{row.name}` | {row.goes_on} | {row.after_power_cut or 'over'} |" in page


def test_no_state_is_named_elsewhere() -> None:
    """Whoever needs a state takes it from the table; a word that is written a second time is forgotten once."""
    words = "|".join(filter(None, STATES))
    named = re.compile(f"[\"']({words})[\"']")
    own = {"change/states.py", "engine/runbook.sh", *(f"engine/parts/{part}.sh" for part in PARTS)}
    for path in sorted([*SOURCE.rglob("*.py"), *SOURCE.rglob("*.sh")]):
        if str(path.relative_to(SOURCE)) not in own:
            assert named.search(path.read_text()) is None, path


def test_rolling_back_has_one_word() -> None:
    places = [*SOURCE.rglob("*.py"), *SOURCE.rglob("*.sh"), *(ROOT / "docs").glob("*.md"), ROOT / "README.md"]
    for path in places:
        assert re.search(r"\bput(s|ting)? (it |this |the change |everything )?back\b", path.read_text()) is None, path
