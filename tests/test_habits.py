"""What somebody expects of a command line: help, examples, near misses, completion, a manual page."""

from __future__ import annotations

import os
import shlex
import shutil
import signal
import subprocess
import sys
from importlib import import_module
from pathlib import Path

import click
import pexpect
import pytest

from fixed_anchor import manual
from fixed_anchor.cli import COMMANDS, ORDER, cli
from fixed_anchor.reporting import pages
from tests.test_commands import ALONE, PROGRAM, STATE, run

ROOT = Path(__file__).parents[1]


def command(name: str) -> click.Command:
    made: click.Command = import_module(f"fixed_anchor.commands.{COMMANDS[name][0]}").command
    return made


def test_the_name_alone_shows_the_order_of_the_work(tmp_path: Path) -> None:
    done = run(tmp_path)
    assert (done.returncode, done.stderr) == (0, "")
    places = [done.stdout.index(f"{number}  {name}") for number, name in enumerate(ORDER, 1)]
    assert places == sorted(places)
    assert "  fixed-anchor survey\n" in done.stdout
    assert set(COMMANDS) <= set(done.stdout.split())


@pytest.mark.parametrize("name", COMMANDS)
def test_every_help_has_two_examples_that_can_be_typed(name: str, tmp_path: Path) -> None:
    text = run(tmp_path, name, "--help").stdout
    lines = [line.strip() for line in text.partition("Examples:")[2].splitlines()]
    typed = [line.removeprefix("sudo ") for line in lines if line.startswith(("fixed-anchor ", "sudo fixed-anchor "))]
    if name == "completion":
        assert len(lines) >= 4
        return
    assert len(typed) >= 2, text
    for line in typed:
        words = shlex.split(line)
        assert words[:2] == ["fixed-anchor", name]
        command(name).make_context(name, words[2:], parent=click.Context(cli, info_name="fixed-anchor"))
        if name == "explain":
            assert run(tmp_path, *words[1:]).returncode == 0, line


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("stauts",), "Did you mean 'status'?"),
        (("check", "plan.yaml", "--evidnce", "x"), "Did you mean '--evidence'?"),
        (("check", "plan.yaml", "--host", "tide-bd"), "Did you mean 'tide-db'?"),
        (("check", "plan.yaml", "--code", "in-dhcp-pol"), "did you mean in-dhcp-pool?"),
        (("cutover", "plan.yaml", "--accept", "in-dhcp-pol", "--because", "x"), "did you mean in-dhcp-pool?"),
        (("explain", "in-dhcp-pol"), "Did you mean 'in-dhcp-pool'?"),
        (("propose", "--survey", "x", "--kepp", "-o", "-"), "Did you mean '--keep'?"),
        (("check",), "missing argument 'PLAN'. See fixed-anchor check --help"),
        (("cutover", "plan.yaml", "--confirm-within", "1"), "5<=x<=86400"),
        (("completion", "tcsh"), "is not one of 'bash', 'zsh', 'fish'"),
        (("--color", "blue", "status"), "is not one of 'auto', 'always', 'never'"),
    ],
)
def test_near_misses_and_one_style_of_errors(site: Path, words: tuple[str, ...], said: str) -> None:
    done = run(site, *words)
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.startswith("fixed-anchor: ")
    assert done.stderr.count("\n") == 1
    assert said in done.stderr


@pytest.mark.parametrize(
    ("word", "said"),
    [
        ("In-DHCP-Pool", "in-dhcp-pool   blocker"),
        ("GATEWAY-FORWARDS", "gateway-forwards   check of a verification"),
        ("5", "exit status 5"),
        ("set_aside", "set_aside:   a key of a segment"),
        ("gateway", "gateway:   a key of an interface"),
    ],
)
def test_explain_knows_everything(tmp_path: Path, word: str, said: str) -> None:
    done = run(tmp_path, "explain", word)
    assert (done.returncode, said in done.stdout) == (0, True), done.stdout + done.stderr


def test_a_verification_is_repeated(site: Path) -> None:
    """A gateway that is silent for a moment: told when it changes, and summed up."""
    run(site, "cutover", "plan.yaml", "--host", "tide-db", "--unattended")
    station = site / "station.yaml"
    good = station.read_text()
    words = ("verify", "plan.yaml", "--host", "tide-db", "--watch", "--every", "1", "--for", "900")
    watching = pexpect.spawn(
        str(PROGRAM),
        list(words),
        cwd=str(site),
        encoding="utf-8",
        timeout=240,
        env=plain(),
        # Whoever runs these tests in the background may have it ignore Ctrl-C, which would be inherited.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
    )
    try:
        watching.expect("the state is as planned")
        watching.expect("looked at again every 1 s")
        station.write_text(good.replace("address: 203.0.113.1}", "address: 203.0.113.4}"))
        watching.expect(r"gateway-answers-arp  pass -> fail")
        station.write_text(good)
        watching.expect(r"gateway-answers-arp  fail -> pass")
        watching.sendintr()
        watching.expect("these checks changed their outcome")
        watching.expect("gateway-answers-arp")
        watching.expect(pexpect.EOF)
    finally:
        watching.close(force=True)
    assert watching.exitstatus == 1


def plain() -> dict[str, str]:
    """The environment of a plain terminal, with the program on its path."""
    path = f"{PROGRAM.parent}:{os.environ['PATH']}"
    return {"PATH": path, "TERM": "dumb", "HOME": "/nonexistent", "LC_ALL": "C.UTF-8", "PS1": "$ "}


# --- completion ------------------------------------------------------------------------------

#: What is typed before TAB, and what must stand there then.
TYPED = [
    ("fixed-anchor che", "fixed-anchor check"),
    ("fixed-anchor check plan.yaml --evid", "--evidence"),
    ("fixed-anchor check plan.yaml --host kel", "kelp-files"),
    ("fixed-anchor explain in-dhcp", "in-dhcp-pool"),
    ("fixed-anchor check plan.yaml --code dns-says", "dns-says-otherwise"),
    ("fixed-anchor --state-dir hosts/tide-db/state history 00", "0001"),
]


@pytest.fixture
def changed(site: Path) -> Path:
    """The demo's site, where one change was made."""
    assert run(site, "cutover", "plan.yaml", "--host", "tide-db", "--unattended").returncode == 0
    return site


def _shell(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        pytest.skip(f"there is no {name} on this machine")
    return found


#: The options of a shell that reads no file of its user, and what it is told first.
TYPED_INTO = {
    "bash": (
        ["--norc", "--noprofile", "-i"],
        'eval "$(fixed-anchor completion bash)"; bind "set enable-bracketed-paste off"; echo rea""dy',
    ),
    "zsh": (
        ["-f", "-i"],
        'autoload -Uz compinit; compinit -u -D; eval "$(fixed-anchor completion zsh)"; echo rea""dy',
    ),
}


@pytest.mark.parametrize("name", TYPED_INTO)
def test_completion_behind_tab(name: str, changed: Path) -> None:
    options, first = TYPED_INTO[name]
    shell = pexpect.spawn(_shell(name), options, cwd=str(changed), encoding="utf-8", timeout=240, env=plain())
    try:
        shell.sendline(first)
        shell.expect("ready")
        for begun, whole in TYPED:
            shell.send(f"{begun}\t")
            shell.expect_exact(whole)
            # Not interrupted: what is typed at once behind that is lost with the line.
            shell.sendcontrol("u")
            shell.sendline('echo ne""xt')
            shell.expect_exact("next")
    finally:
        shell.close(force=True)


def test_completion_in_fish(changed: Path) -> None:
    for begun, whole in TYPED:
        script = f"fixed-anchor completion fish | source; complete --do-complete {shlex.quote(begun)}"
        argv = [_shell("fish"), "--no-config", "-c", script]
        done = subprocess.run(argv, cwd=changed, env=plain(), capture_output=True, text=True, check=True)
        assert whole.rpartition(" ")[2] in done.stdout.split(), begun


def test_completion_is_quiet_where_nothing_can_be_read(tmp_path: Path) -> None:
    there = {"_FIXED_ANCHOR_COMPLETE": "bash_complete", "COMP_CWORD": "4"}
    for words in ("check nowhere.yaml --host x", "--state-dir nowhere history 0"):
        done = run(tmp_path, COMP_WORDS=f"fixed-anchor {words}", **there)
        assert "Traceback" not in done.stderr + done.stdout


# --- what is made of the program's tables ----------------------------------------------------


def test_the_pages_are_current() -> None:
    assert (ROOT / "docs/plan-keys.md").read_text() == pages.plan_keys()
    assert (ROOT / "docs/findings.md").read_text() == pages.findings()
    assert (ROOT / "docs/fixed-anchor.1").read_text() == manual.page()


@pytest.mark.skipif(shutil.which("groff") is None, reason="there is no groff on this machine")
def test_the_manual_page_has_no_warnings() -> None:
    argv = ["groff", "-ww", "-man", "-Tascii", "-P-cbou", str(ROOT / "docs/fixed-anchor.1")]
    done = subprocess.run(argv, capture_output=True, text=True, check=True)
    assert done.stderr == ""
    for name in COMMANDS:
        assert f"   {name} [OPTIONS]" in done.stdout
    assert STATE[0] in done.stdout


# --- a system without Linux ------------------------------------------------------------------


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("survey",), 2, "only Linux hosts can be looked at and converted"),
        (("probe", "203.0.113.9"), 2, "only Linux hosts"),
        (("status",), 2, "only Linux hosts"),
        (("cutover", "own.yaml"), 2, "only Linux hosts"),
        (("check", "own.yaml"), 6, "is not looker, and has no address on its segment"),
        (("check", "plan.yaml", "--host", "tide-db"), 0, "plan.yaml: clear"),
        (("draft", "plan.yaml", "--host", "tide-db"), 0, "+++ /etc/netplan/50-tide.yaml as drafted"),
        (("survey", "--root", "hosts/sonar-vm1"), 0, "network stack: netplan"),
        (("explain", "3"), 0, "exit status 3"),
        ((), 0, "The order of the work"),
    ],
)
def test_without_linux_it_does_what_can_be_done(site: Path, words: tuple[str, ...], status: int, said: str) -> None:
    own = "plan: 1\nsegments: {quay: {subnet: 203.0.113.0/24, pools: []}}\nhosts: {looker: {interfaces: {eth0: "
    own += '{mac: "02:00:00:00:00:09", segment: quay, hold: 203.0.113.9}}}}\n'
    (site / "own.yaml").write_text(own)
    code = "import sys; sys.platform = 'darwin'\nfrom fixed_anchor.cli import main\nmain()"
    argv = [*ALONE, sys.executable, "-c", code, *words]
    done = subprocess.run(argv, cwd=site, capture_output=True, text=True, check=False)
    assert (done.returncode, said in done.stdout + done.stderr) == (status, True), done.stdout + done.stderr
