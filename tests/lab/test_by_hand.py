"""docs/by-hand.md, word for word, on hosts without Python."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.faults import ANOTHER, CHANGE, Running, log, state
from tests.lab.host import LabHost
from tests.lab.network import run, wait_for
from tests.lab.test_carried import without_python
from tests.lab.test_matrix import INTERFACES, STACKS

PAGE = (Path(__file__).parents[2] / "docs/by-hand.md").read_text()
STARTS = [*STACKS, "sysv"]
SOME = ("networkd", "ifupdown", "sysv")


pytestmark = pytest.mark.one_in(6)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    whole = metafunc.config.getoption("--whole-matrix")
    metafunc.parametrize("stack", STARTS if whole else SOME)


def blocks(heading: str) -> str:
    """All blocks below a heading, as they would be typed one after the other."""
    section = PAGE.split(f"\n## {heading}\n")[1].split("\n## ")[0]
    return "".join(re.findall(r"^```sh\n(.*?)^```$", section, re.MULTILINE | re.DOTALL))


def waiting(stack: str, make_host: MakeHost) -> tuple[LabHost, str]:
    """A host whose change waits, whose tool and Python are gone; and /etc as it was."""
    if stack == "sysv":
        host = make_host({"/etc/network/interfaces": INTERFACES}, (), boots="sysv")
        host("insserv")
    else:
        host = make_host(*STACKS[stack])
    running = Running(host, "--no-grace", seconds=3600)
    wait_for(f"the verification: {log(host)}", host.disk(f"{CHANGE}/verdict").exists, 60)
    running.kill()
    without_python(host)
    assert host.holds(ANOTHER)
    return host, running.before


def is_old(host: LabHost, before: str) -> None:
    wait_for("the lease", lambda: host.leased() and not host.holds(ANOTHER), 60)
    assert sorted(set(host.etc_digest().splitlines()) ^ set(before.splitlines())) == []
    assert state(host) == "rolled-back"
    assert not host.disk(f"{CHANGE}/../open").is_symlink()
    assert host.gateway().count("default") == 1


def typed(host: LabHost, text: str) -> None:
    host.write("/root/typed", text)
    done = host("sh", "/root/typed", check=False)
    assert done.returncode == 0, done.stdout + done.stderr + log(host)
    # A guard that was forgotten would begin to move the change again.
    wait_for("no guard", lambda: host("pgrep", "-f", "engine.sh", check=False).returncode == 1, 10)
    assert "baseline" not in done.stderr, done.stderr


def test_with_the_engine(stack: str, make_host: MakeHost) -> None:
    host, before = waiting(stack, make_host)
    typed(host, blocks("Rolling back with the engine"))
    is_old(host, before)


def test_without_the_engine(stack: str, make_host: MakeHost) -> None:
    host, before = waiting(stack, make_host)
    host.write(f"{CHANGE}/engine.sh", "# this file is gone\n")
    typed(host, blocks("Rolling back without the engine"))
    is_old(host, before)
    if stack != "sysv":
        host.reboot()
        is_old(host, before)


def test_a_power_cut_where_python_has_gone(stack: str, make_host: MakeHost) -> None:
    host, before = waiting(stack, make_host)
    host.cut_power()
    host.boot()
    is_old(host, before)


def test_from_a_rescue_system(stack: str, make_host: MakeHost, tmp_path: Path) -> None:
    host, before = waiting(stack, make_host)
    host.cut_power()
    script = tmp_path / "typed"
    script.write_text(blocks("Rolling back from a rescue system"))
    done = run("unshare", "--mount", "sh", "-c", 'mount --bind "$1" /mnt && sh "$2"', "sh",
               str(host.disk("/")), str(script), check=False)  # fmt: skip
    assert done.returncode == 0, done.stderr
    host.boot()
    is_old(host, before)
    assert "boot" not in log(host).split("rolled back by hand")[1]
