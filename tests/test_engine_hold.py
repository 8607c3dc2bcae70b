"""The engine while an old address is held, and what ends the wait: the same under every shell and for the stand-in."""

from __future__ import annotations

import re
import time
from pathlib import Path

import pytest

from fixed_anchor.change.steps import Steps
from tests.changes import NEW, OLD, Scene

pytestmark = pytest.mark.one_in(2)

FINAL = "final contents\n"
HELD = "address 203.0.113.100/32 fixed on lo"
EDIT = {"a": (OLD, NEW), "b": (None, NEW)}
IN_KERNEL = "1: lo inet 203.0.113.{0}/{1} scope global lo\n"


def waiting(scene: Scene, **words: object) -> Path:
    """A change in force that holds an old address; each phase leaves its name in the file ``ran``."""
    tell = scene.root / "tell"
    tell.write_text(f'#!/bin/sh\necho "$1" >>{scene.root}/ran\n')
    tell.chmod(0o755)
    steps = Steps(**{phase: ((str(tell), phase),) for phase in ("activate", "drop", "commit", "reload")})
    change = scene.lay(EDIT, steps, finals={"a": FINAL}, grace_facts=(HELD,), **words)
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "waiting")
    return change


def ran(scene: Scene) -> list[str]:
    return (scene.root / "ran").read_text().split()


def test_what_is_held_goes_with_the_decision(scene: Scene) -> None:
    change = waiting(scene)
    assert scene.live("a").read_text() == NEW
    assert f"held {HELD};" in scene.verb("status", change).stdout
    assert scene.verb("confirm", change).returncode == 0
    assert scene.live("a").read_text() == FINAL
    assert scene.live("b").read_text() == NEW
    assert ran(scene) == ["activate", "drop", "commit"]
    assert f"no longer held: {HELD};" in scene.log(change)
    assert "held" not in scene.verb("status", change).stdout


def test_roll_back_while_something_is_held(scene: Scene) -> None:
    change = waiting(scene)
    assert scene.verb("roll-back", change).returncode == 0
    assert scene.live("a").read_text() == OLD
    assert not scene.live("b").exists()
    assert ran(scene) == ["activate", "reload"]


def test_the_lease_ends_before_the_decision(scene: Scene) -> None:
    """What was only lent is not held any longer than that; the wait goes on."""
    clock = float(Path("/proc/uptime").read_text().split()[0]) if scene.shell else time.time()
    change = waiting(scene, held_until=int(clock) + 2)
    until = time.monotonic() + 120
    while "held" in scene.verb("status", change).stdout:
        assert time.monotonic() < until
        time.sleep(0.1)
    assert scene.state(change) == "waiting"
    assert scene.live("a").read_text() == FINAL
    assert scene.verb("confirm", change).returncode == 0
    assert ran(scene) == ["activate", "drop", "commit"]


def test_more_time(scene: Scene) -> None:
    change = waiting(scene, within=2)
    assert scene.verb("more-time", change, "60").returncode == 0
    time.sleep(3.2)
    assert scene.state(change) == "waiting"
    assert re.search("left (5.|60)", scene.verb("status", change).stdout)
    assert "more time: 60 s" in scene.log(change)
    for word in ("", "-5", "1e3", "9999999"):
        assert scene.verb("more-time", change, word).returncode == 2, word
    assert scene.verb("roll-back", change).returncode == 0
    assert scene.verb("more-time", change, "60").returncode == 7


@pytest.mark.parametrize(("address", "refused"), [("203.0.113.100", True), ("203.0.113.20", False)])
def test_confirming_over_the_address_that_goes(real: Scene, address: str, refused: bool) -> None:
    change = waiting(real)
    session = {"SSH_CONNECTION": f"203.0.113.230 50000 {address} 22"}
    done = real.verb("confirm", change, "somebody", **session)
    assert done.returncode == (1 if refused else 0), done.stderr
    if refused:
        assert "it does not prove that the new one works" in done.stderr
        assert real.state(change) == "waiting"
        assert "refused: confirming from a session on 203.0.113.100" in real.log(change)
        assert real.verb("confirm", change, "somebody", "over-old", **session).returncode == 0
    assert f"decision: keep, by somebody, in a session on {address}" in real.log(change)


@pytest.mark.parametrize("before", [0.6, 0.3, 0.1, 0.0, -0.1, -0.3])
def test_confirm_and_deadline_at_once(real: Scene, before: float) -> None:
    """Whoever is first decides, and the word that the other gets is true."""
    change = waiting(real, within=1)
    end = int((change / "deadline").read_text())
    while (left := end - before - float(Path("/proc/uptime").read_text().split()[0])) > 0:
        time.sleep(min(left, 0.01))
    done = real.verb("confirm", change)
    end_state = real.wait(change, "confirmed", "rolled-back")
    assert (done.returncode, end_state) in ((0, "confirmed"), (7, "rolled-back")), done.stderr
    assert real.live("a").read_text() == (FINAL if end_state == "confirmed" else OLD)
    assert real.log(change).count("decision: ") == 1


def test_the_log_is_one_that_a_person_can_follow(scene: Scene) -> None:
    change = waiting(scene, told=("cutover of lo on tide-db, by somebody, from 203.0.113.230",))
    (change / "checks").write_text("pass: address-present on lo: 203.0.113.20/24\n")
    scene.verb("verdict", change, "as-planned")
    scene.verb("confirm", change, "somebody")
    lines = [re.sub(r"^\S+Z ", "", line) for line in scene.log(change).splitlines()]
    assert lines[0] == "cutover of lo on tide-db, by somebody, from 203.0.113.230"
    expected = [
        "written: replace",
        "step: ",
        "step ended: status 0",
        "check: pass: address-present",
        "verification: as-planned",
        "no longer held: ",
        "state: confirmed",
    ]
    places = [next(i for i, line in enumerate(lines) if line.startswith(words)) for words in expected]
    assert places == sorted(places), lines
    # The guard may be at work in the very moment in which the decision is written down.
    assert abs(lines.index("decision: keep, by somebody") - lines.index("state: committing")) <= 2, lines
    assert all(re.match(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ ", line) for line in scene.log(change).splitlines())


def hurried(change: Path) -> Path:
    """Waits for the stack only for a moment: nothing else would come of it here."""
    engine = change / "engine.sh"
    text = engine.read_text()
    for long in ("settles 20", "settles 15"):
        assert long in text
        text = text.replace(long, "settles 1")
    engine.write_text(text)
    return change


def test_stuck_says_exactly_what_is_left_to_do(real: Scene) -> None:
    real.kernel.write_text(IN_KERNEL.format(100, 24))
    steps = Steps(reload=(("echo", "load", "it"),), escalate=(("echo", "once more"),))
    change = hurried(real.lay({"a": (OLD, NEW)}, steps))
    assert real.verb("start", change).returncode == 0
    real.wait(change, "waiting")
    real.kernel.write_text(IN_KERNEL.format(20, 24))
    stuck = real.verb("roll-back", change)
    assert stuck.returncode == 5
    assert real.state(change) == "stuck"
    log = real.log(change)
    for said in (
        "step: echo once more",
        "address 203.0.113.20/24 fixed on lo",
        "left to do by hand",
        "run: echo load it",
        "address 203.0.113.100/24 fixed on lo",
        f"sh {change}/engine.sh roll-back {change}",
    ):
        assert said in log, log
    # The files are back all the same, and a new try does it once the stack follows.
    assert real.live("a").read_text() == OLD
    assert (real.changes / "open").is_symlink()
    real.kernel.write_text(IN_KERNEL.format(100, 24))
    assert real.verb("roll-back", change).returncode == 0
    assert real.state(change) == "rolled-back"
    assert not (real.changes / "open").is_symlink()


def test_a_guard_that_has_ended_is_not_begun_again(real: Scene) -> None:
    """A person's new try launches a guard of its own; the supervisor of the first must not begin one beside it."""
    real.kernel.write_text(IN_KERNEL.format(100, 24))
    change = hurried(real.lay({"a": (OLD, NEW)}))
    engine = change / "engine.sh"
    # Time enough between the end of the guard and the next look of its supervisor.
    engine.write_text(engine.read_text().replace("pause() { sleep 0.2", "pause() { sleep 1"))
    assert real.verb("start", change).returncode == 0
    real.wait(change, "waiting")
    real.kernel.write_text(IN_KERNEL.format(20, 24))
    (change / "decision").symlink_to("roll-back")
    real.wait(change, "stuck")
    # As the request for a new try does it, before it launches the guard.
    (change / "state").write_text("rolling-back\n")
    time.sleep(2.5)
    assert "rolling back: the guard was interrupted" not in real.log(change)


def test_kernel_only_state_is_set_again(real: Scene) -> None:
    real.kernel.write_text(IN_KERNEL.format(100, 24))
    script = real.root / "again"
    script.write_text(f"#!/bin/sh\ncat >{real.kernel}\n")
    script.chmod(0o755)
    steps = Steps(kernel=((str(script),),))
    change = real.lay({"a": (OLD, NEW)}, steps)
    # What a step reads from its standard input is a file of the change.
    (change / "input/kernel").mkdir(parents=True)
    (change / "input/kernel/01").write_text(IN_KERNEL.format(100, 24))
    assert real.verb("start", change).returncode == 0
    real.wait(change, "waiting")
    real.kernel.write_text("")
    assert real.verb("roll-back", change).returncode == 0, real.log(change)
    assert real.kernel.read_text() == IN_KERNEL.format(100, 24)


@pytest.mark.parametrize("end", ["waiting", "confirmed", "rolled-back"])
def test_any_verb_again_at_any_point(real: Scene, end: str) -> None:
    """Asked for once more, or too late, or out of turn: the state is the same, and what is said is true."""
    change = waiting(real)
    asked = {"confirmed": "confirm", "rolled-back": "roll-back"}
    if end != "waiting":
        assert real.verb(asked[end], change).returncode == 0
    kept = {"waiting": NEW, "confirmed": FINAL, "rolled-back": OLD}[end]
    expected = {"start": 7, "status": 0, "guard": 8 if end == "waiting" else 0, "more-time": 7}
    if end != "waiting":
        expected |= {"boot": 0, "verdict": 7, "confirm": 7, "roll-back": 7}
    for verb, status in (*expected.items(), *expected.items()):
        if (end, verb) == ("waiting", "more-time"):
            continue
        done = real.verb(verb, change, "5" if verb == "more-time" else "")
        assert done.returncode == status, (verb, done.stderr)
        assert real.state(change) == end
        assert real.live("a").read_text() == kept, verb
    assert real.verb("nonsense", change).returncode == 2
    assert (real.changes / "open").is_symlink() == (end == "waiting")
    if end == "waiting":
        assert real.verb("roll-back", change).returncode == 0


def test_nothing_is_written_before_the_guard_has_said_that_it_is_alive(real: Scene) -> None:
    (real.root / "bin/setsid").write_text("#!/bin/sh\nexit 0\n")
    (real.root / "bin/setsid").chmod(0o755)
    change = real.lay({"a": (OLD, NEW)})
    engine = change / "engine.sh"
    engine.write_text(engine.read_text().replace("-lt 75", "-lt 5"))
    refused = real.verb("start", change)
    assert refused.returncode == 1
    assert "the guard did not come up; nothing was changed" in refused.stderr
    assert real.live("a").read_text() == OLD
    assert real.state(change) == ""
    assert not (real.changes / "open").is_symlink()
    # A guard that comes up too late finds that it has been given up.
    assert real.verb("guard", change).returncode == 0
    assert real.state(change) == "rolled-back"
    assert real.live("a").read_text() == OLD
