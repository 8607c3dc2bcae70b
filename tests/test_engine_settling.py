"""A rollback waits for what a network does not do at once, and flaps no link for a gateway that alone is silent."""

from __future__ import annotations

import threading
import time
from pathlib import Path

from fixed_anchor.change.change import Patience, Terms
from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.change.steps import Steps
from tests.changes import NEW, OLD, Scene
from tests.guards import command
from tests.test_engine_hold import hurried

#: What ip(8) and ping(8) say is in files of the scene.
IP = """\
case $* in
*"addr show"*) cat {root}/kernel ;;
"-4 route show default"*) echo "default via 203.0.113.1 dev lo" ;;
"-6 route show default"*) cat {root}/route6 ;;
*neigh*) echo FAILED ;;
esac
"""
FOUR = "1: lo inet 203.0.113.100/24 scope global lo\n"
SIX = "1: lo inet6 2001:db8:7e:1::9/64 scope global dynamic lo\n"


def in_force(scene: Scene, gateway: int, kernel: str = FOUR) -> Path:
    """A change that waits, of a host whose gateway answered; a rollback has ``gateway`` seconds for it."""
    (scene.root / "kernel").write_text(kernel)
    (scene.root / "route6").write_text("default via fe80::1 dev lo proto ra\n" if kernel != FOUR else "")
    (scene.root / "gateway").write_text("")
    command(scene, "ip", IP.format(root=scene.root))
    command(scene, "ping", f"[ -f {scene.root}/gateway ]")
    path = scene.path("a")
    edit = FileEdit(path, FileText(path, OLD, 0o640, 0, 0), FileText(path, NEW, 0o600, 0, 0))
    steps = Steps(escalate=(("echo", "flap"),))
    terms = Terms(60, False, {}, patience=Patience(1, 1, gateway))
    change = scene.lay_down(FileContent(interfaces=("lo",), edits=(edit,), steps=steps), terms)
    assert scene.verb("start", change).returncode == 0
    scene.wait(change, "waiting")
    return change


def test_a_gateway_that_is_late_is_waited_for(real: Scene) -> None:
    change = hurried(in_force(real, 60))
    (real.root / "gateway").unlink()
    # Longer than the state itself is waited for.
    back = threading.Timer(4, lambda: (real.root / "gateway").write_text(""))
    back.start()
    begun = time.monotonic()
    done = real.verb("roll-back", change)
    back.join()
    assert done.returncode == 0, real.log(change)
    assert time.monotonic() - begun > 3.5
    assert "step: echo flap" not in real.log(change)


def test_no_link_is_flapped_for_a_gateway(real: Scene) -> None:
    change = hurried(in_force(real, 1))
    (real.root / "gateway").unlink()
    assert real.verb("roll-back", change).returncode == 5
    log = real.log(change)
    assert "everything is as it was, only the gateway, which answered before, does not" in log
    assert "step: echo flap" not in log


def test_both_versions_must_be_back(real: Scene) -> None:
    """IPv6 that routers gave comes back later than the IPv4 address; another address of it will do."""
    change = in_force(real, 1, FOUR + SIX)
    (real.root / "kernel").write_text(FOUR)
    (real.root / "route6").write_text("")

    def later() -> None:
        (real.root / "kernel").write_text(FOUR + SIX.replace("::9", "::77"))
        (real.root / "route6").write_text("default via fe80::1 dev lo proto ra\n")

    back = threading.Timer(3, later)
    back.start()
    begun = time.monotonic()
    done = real.verb("roll-back", change)
    back.join()
    assert done.returncode == 0, real.log(change)
    assert time.monotonic() - begun > 2.5
    # What came meanwhile is nothing that must go.
    change = in_force(real, 1, FOUR)
    (real.root / "kernel").write_text(FOUR + SIX)
    assert real.verb("roll-back", change).returncode == 0, real.log(change)


def test_a_version_that_does_not_come_back_is_not_said_to_be_as_before(real: Scene) -> None:
    change = hurried(in_force(real, 1, FOUR + SIX))
    (real.root / "kernel").write_text(FOUR)
    assert real.verb("roll-back", change).returncode == 5
    log = real.log(change)
    assert "family IPv6 given on lo" in log
    assert "step: echo flap" in log
