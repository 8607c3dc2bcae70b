"""What a boot does, and what a change that ends late must not do to the next one."""

from __future__ import annotations

import re
import subprocess
import time

import pytest

from fixed_anchor.change import states
from fixed_anchor.change.steps import Steps
from tests.changes import NEW, OLD, Scene
from tests.guards import (
    EDIT,
    needs_mount,
    tuned,
    waiting,
)

pytestmark = pytest.mark.one_in(3)


def test_a_late_end_takes_nothing_from_the_next_change(real: Scene) -> None:
    change = waiting(real, real.lay(EDIT))
    real.verb("confirm", change)
    unit = real.root / "unit.service"
    second = real.lay({"a": (NEW, OLD)})
    for folder in (change, second):
        (folder / "boot-unit").write_text("unit\n")
        (folder / "boot-unit-path").write_text(f"{unit}\n")
        (folder / "boot-unit-mode").write_text("644\n")
        (folder / "boot-unit-wants").write_text(f"{real.root}/wants/unit.service\n")
    waiting(real, second)
    own = [real.root / "unit-0002.service", real.root / "wants/unit-0002.service"]
    aside = real.live(f".fixed-anchor.{second.name}.1.old")
    assert all(path.exists() for path in (*own, aside))
    # The first one's guard comes to its end only now.
    real.verb("guard", change)
    assert all(path.exists() for path in (*own, aside))
    assert (real.changes / "open").is_symlink()
    assert real.verb("roll-back", second).returncode == 0
    assert not any(path.exists() or path.is_symlink() for path in (*own, aside))
    assert real.live("a").read_text() == NEW


def test_a_boot_while_a_guard_lives_does_nothing(real: Scene) -> None:
    change = waiting(real, real.lay(EDIT))
    assert real.verb("boot", change).returncode == 0
    assert real.live("a").read_text() == NEW
    assert real.state(change) == "waiting"
    assert "a guard is alive" in real.log(change)
    assert real.verb("confirm", change).returncode == 0


@needs_mount
@pytest.mark.parametrize("state", ["prepared", "waiting", "committing", "stuck"])
def test_a_boot_on_a_disk_that_takes_nothing_ends(real: Scene, state: str) -> None:
    """It restores what it can, runs its steps, and does not hold the boot up."""
    marker = real.root / "loaded"
    change = tuned(real.lay(EDIT, Steps(boot=(("touch", str(marker)),))), final_tries=2, boot_tries=2)
    (change / "saved").mkdir()
    (change / "saved/1").write_text(OLD)
    (change / "state").write_text(f"{state}\n")
    real.live("a").write_text(NEW)
    state_folder = real.changes.parent
    subprocess.run(["mount", "--bind", str(state_folder), str(state_folder)], check=True)
    try:
        subprocess.run(["mount", "-o", "remount,ro,bind", str(state_folder)], check=True)
        begun = time.monotonic()
        said = real.verb("boot", change)
        assert time.monotonic() - begun < 60
        assert not re.search(r"engine\.sh: |cannot create|Read-only", said.stderr), said.stderr
        assert marker.exists() == (state != "prepared")
        assert real.live("a").read_text() == (OLD if state in ("waiting", "stuck") else NEW)
        assert real.state(change) == state
    finally:
        subprocess.run(["umount", "-l", str(state_folder)], check=True)
    # With a disk that writes again the next boot ends it.
    real.verb("boot", change)
    assert real.state(change) in states.FINAL
