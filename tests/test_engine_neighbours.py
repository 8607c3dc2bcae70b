"""What the engine tells the neighbours of a segment, and what it asks them before it sets an address again."""

from __future__ import annotations

from pathlib import Path

import pytest

from fixed_anchor.change.steps import Steps
from tests.changes import NEW, OLD, Scene

pytestmark = pytest.mark.one_in(2)

HELD, FLOATING = "203.0.113.100/24", "203.0.113.50/32"
EDIT: dict[str, tuple[str | None, str | None]] = {"a": (OLD, NEW)}
SET_AGAIN = ("ip", "address", "replace", FLOATING, "dev", "lo")

#: Says every address of the kernel, sets what it is told to set, and says who else is on the segment.
IP = """\
#!/bin/sh
case $* in
*"addr show"*) cat {root}/kernel ;;
"address replace "*) echo "1: lo inet $3 scope global lo" >>{root}/kernel ;;
"neigh show "*) cat {root}/neighbours 2>/dev/null ;;
esac
"""
ARPING = """\
#!/bin/sh
case $1 in -V | --help) echo "arping from iputils: -D -U"; exit ;; esac
echo "$*" >>{root}/asked
case " $* " in *" -D "*) [ ! -e {root}/elsewhere ] ;; esac
"""


def kernel(scene: Scene, *addresses: str) -> None:
    scene.kernel.write_text("".join(f"1: lo inet {a} scope global lo\n" for a in addresses))


def command(scene: Scene, name: str, text: str) -> None:
    (scene.root / "bin" / name).write_text(text.format(root=scene.root))
    (scene.root / "bin" / name).chmod(0o755)


def without_arping(scene: Scene) -> None:
    """A host that has no such program, nor one in busybox."""
    command(scene, "arping", "#!/bin/sh\nexit 127\n")
    command(scene, "busybox", '#!/bin/sh\n[ "$1" != arping ] || exit 127\nexec /usr/bin/busybox "$@"\n')


def quick(change: Path) -> Path:
    engine = change / "engine.sh"
    text = engine.read_text()
    engine.write_text(text.replace("settles 20 ", "settles 1 ").replace("settles 15 ", "settles 1 "))
    return change


def rolled_back(scene: Scene, steps: Steps = Steps(), *, now: tuple[str, ...] = (HELD,), **more: object) -> Path:
    """A change that is rolled back once the kernel has the addresses ``now``."""
    command(scene, "ip", IP)
    change = quick(scene.lay(EDIT, steps, **more))
    assert scene.verb("start", change).returncode == 0, scene.log(change)
    scene.wait(change, "waiting")
    kernel(scene, *now)
    scene.verb("roll-back", change)
    return change


@pytest.mark.parametrize("asked_by", ["arping", "the kernel"])
@pytest.mark.parametrize("elsewhere", [True, False])
def test_a_floating_address_is_not_set_again_blindly(real: Scene, asked_by: str, elsewhere: bool) -> None:
    command(real, "arping", ARPING)
    if asked_by == "the kernel":
        without_arping(real)
    if elsewhere:
        (real.root / "elsewhere").touch()
        (real.root / "neighbours").write_text("203.0.113.50 dev lo lladdr 00:00:5e:00:53:99 REACHABLE\n")
    kernel(real, HELD, FLOATING)
    change = rolled_back(real, Steps(kernel=(SET_AGAIN,)))
    assert real.state(change) == "rolled-back", real.log(change)
    assert (FLOATING in real.kernel.read_text()) != elsewhere
    assert ("not set again: 203.0.113.50/32 on lo: another machine answers" in real.log(change)) == elsewhere


def test_a_floating_address_that_has_come_here_is_none_of_the_change(real: Scene) -> None:
    kernel(real, HELD)
    change = rolled_back(real, now=(HELD, FLOATING))
    assert real.state(change) == "rolled-back", real.log(change)


def test_the_address_of_the_change_itself_must_go(real: Scene) -> None:
    kernel(real, HELD)
    planned = "203.0.113.20/24"
    change = rolled_back(real, now=(HELD, planned), expect=(f"address {planned} fixed on lo",))
    assert real.state(change) == "stuck", real.log(change)
    kernel(real, HELD)
    assert real.verb("roll-back", change).returncode == 0


@pytest.mark.parametrize("elsewhere", [True, False])
def test_announced_where_nobody_else_has_it(real: Scene, elsewhere: bool) -> None:
    command(real, "arping", ARPING)
    if elsewhere:
        (real.root / "elsewhere").touch()
    kernel(real, HELD, "203.0.113.101/24")
    change = rolled_back(real, now=(HELD, "203.0.113.101/24"))
    assert real.state(change) == "rolled-back"
    asked = (real.root / "asked").read_text().splitlines()
    said = real.log(change)
    for address in ("203.0.113.100", "203.0.113.101"):
        assert f"-q -D -c 2 -w 3 -I lo {address}" in asked
        assert (f"-q -U -c 2 -w 3 -I lo -s {address} {address}" in asked) != elsewhere
        assert (f"nobody else has {address} on lo, and it was announced" in said) != elsewhere
        assert (f"another machine answers for {address} on lo, too; it was not announced" in said) == elsewhere
    # A runbook asks for the same, and tells it at the console.
    told = real.verb("announce", change).stdout
    assert told.count("fail: " if elsewhere else "pass: ") == 2, told


def test_said_where_there_is_nothing_to_announce_with(real: Scene) -> None:
    without_arping(real)
    kernel(real, HELD, "2001:db8:7e:1::20/64")
    change = rolled_back(real, now=(HELD, "2001:db8:7e:1::20/64"))
    for address in ("203.0.113.100", "2001:db8:7e:1::20"):
        assert f"not announced: {address} on lo: this host has nothing to do that with" in real.log(change)


@pytest.mark.parametrize("works", [True, False])
def test_the_change_s_own_command_announces(real: Scene, works: bool) -> None:
    """It is the tool's; where Python has gone meanwhile, by what else there is."""
    command(real, "arping", ARPING)
    kernel(real, HELD)
    argv = ("sh", "-c", "echo announced: all; exit 0") if works else ("python-that-was", "-m", "announce")
    change = rolled_back(real, Steps(announce=(argv,)))
    assert real.state(change) == "rolled-back"
    assert ("announced: all" in real.log(change)) == works
    assert (real.root / "asked").exists() != works
