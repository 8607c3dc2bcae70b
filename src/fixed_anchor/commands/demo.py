"""``fixed-anchor demo``: lay out the made-up site and walk through the whole job on it."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import examples
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, EXIT_NO_ACCESS, EXIT_ROLLED_BACK
from fixed_anchor.standins.layout import lay_out

STATE = "hosts/tide-db/state"

#: What is said before a command, and the command. All of them can be typed in the folder afterwards.
BEFORE_CUTOVER = (
    (
        "Take stock of tide-db: which address, from where, declared in which file.",
        "survey --plan plan.yaml --host tide-db",
    ),
    (
        "Is an address free? This machine answers only when it is asked for the third time.",
        f"--state-dir {STATE} probe 203.0.113.32",
    ),
    (
        "Check two hosts of the plan. One address answers on the wire although it drops pings, one lies in a pool.",
        "check plan.yaml --host kelp-files --host sonar-vm1",
    ),
    (
        "gannet-ws, a Windows workstation, would keep the address it leases. What the DHCP server must be told is "
        "drafted with its settings.",
        "draft plan.yaml --host gannet-ws",
    ),
    ("Check tide-db: clear. With --detail it shows all that was looked at.", "check plan.yaml --host tide-db"),
    ("The exact change of its file. Nothing is touched yet.", "draft plan.yaml --host tide-db"),
)
CUTOVER = "cutover plan.yaml --host tide-db --confirm-within 120"
SECOND_TERMINAL = ("status --plan plan.yaml --host tide-db", "confirm --plan plan.yaml tide-db:0001")
AFTER_CUTOVER = (
    ("Prove it again, at any time.", "verify plan.yaml --host tide-db"),
    (
        "Go back to the lease. That is a guarded change, too, kept as soon as its checks pass.",
        "restore --plan plan.yaml --host tide-db",
    ),
    (
        "Hosts over SSH, simulated here, asked at once. One of them does not answer: that is a line, and not the end.",
        "survey --plan seat.yaml",
    ),
)
#: Where the seat of the demo keeps its runs: not among those of whoever tries it.
RUNS = "XDG_STATE_HOME=seat "
IN_WAVES = "cutover room.yaml --all --park 198.51.100.90 --unattended --patience 3"
ROOM = (
    (
        "Four field stations with one command. Two of them change places, one over a parking address: the order, and "
        "why.",
        f"{IN_WAVES} --dry-run",
    ),
    ("In waves. fulmar-mon rolls back: the resolver does not admit its new address. Nothing else begins.", IN_WAVES),
)
#: What is corrected then: the access list of a resolver, in the simulated site.
ADMITTED, CORRECTED = "198.51.100.73, 198.51.100.90]", "198.51.100.73, 198.51.100.90, 198.51.100.72]"
AFTER_CORRECTION = (
    (
        "198.51.100.72 is on the resolver's access list now. The same command goes on with the same run.",
        IN_WAVES,
    ),
    ("What the seat has recorded of the run.", "history --runs 1"),
    ("Take the whole run back, the last change first.", "restore --run 1 --patience 3"),
)


@click.command(
    help="Lay the made-up Tern Point site into DIR and walk through the whole job. No root, no network.",
    epilog=examples(
        ("fixed-anchor demo", "the whole job, in the folder tern-point"),
        ("fixed-anchor demo /tmp/tern-point", "in another folder"),
    ),
)
@click.argument("folder", metavar="[DIR]", default="tern-point", type=click.Path(path_type=Path))
@click.pass_context
def command(ctx: click.Context, folder: Path) -> None:
    app = App(ctx)
    lay_out(folder)
    walk = Walk(app, folder)
    app.say(
        f"The site of Tern Point Marine Station lies in {folder}/ now: three plans, twelve hosts, a simulated wire."
    )
    for heading, words in BEFORE_CUTOVER:
        walk.show(heading, words)
    walk.cutover()
    for heading, words in AFTER_CUTOVER:
        walk.show(heading, words)
    walk.room()
    app.say("")
    app.say(f"Every command above can be typed in {folder}/ now.", style="bold")
    ctx.exit(walk.failed)


class Walk:
    """Shows commands and runs them, as somebody at a terminal in ``folder`` would.

    ``failed`` is the exit status of a command that did not do what the demo shows; a finding is no failure, nor is
    the host that is down.
    """

    def __init__(self, app: App, folder: Path) -> None:
        self.app = app
        self.folder = folder
        self.failed = EXIT_DONE

    def _argv(self, words: str) -> list[str]:
        return [sys.executable, "-m", "fixed_anchor", "--color", self.app.color, *words.split()]

    def _announce(self, heading: str, words: str, before: str = "") -> None:
        self.app.say("")
        self.app.say(f"# {heading}", style="bold cyan")
        self._prompt(words, before)

    def _prompt(self, words: str, before: str = "") -> None:
        self.app.type("$ ", f"{before}fixed-anchor {words}", indent=0)
        self.app.out.file.flush()

    def _ended(self, status: int, also: tuple[int, ...] = ()) -> None:
        if status not in (EXIT_DONE, EXIT_AGAINST, EXIT_NO_ACCESS, *also):
            self.failed = status

    def show(self, heading: str, words: str, before: str = "", also: tuple[int, ...] = ()) -> None:
        """Shows the ``heading`` and the command ``words`` with what is typed ``before`` it, and runs that.

        It may end with one of ``also``, too.
        """
        self._announce(heading, words, before)
        self._ended(self._run(words), also)

    def _run(self, words: str) -> int:
        environment = {**os.environ, "XDG_STATE_HOME": str(self.folder.resolve() / "seat")}
        return subprocess.run(self._argv(words), cwd=self.folder, env=environment, check=False).returncode

    def room(self) -> None:
        """Many hosts in waves: one stops them, is corrected, and all of it goes back."""
        for heading, words in ROOM:
            self.show(heading, words, RUNS, also=(EXIT_ROLLED_BACK,))
        station = self.folder / "station.yaml"
        station.write_text(station.read_text().replace(ADMITTED, CORRECTED))
        for heading, words in AFTER_CORRECTION:
            self.show(heading, words, RUNS)

    def cutover(self) -> None:
        """The cutover waits for a confirmation, which comes from a second terminal."""
        self._announce("Bring it into force. Unless it is confirmed, it is rolled back.", CUTOVER)
        first = subprocess.Popen(self._argv(CUTOVER), cwd=self.folder)
        verdict = self.folder / STATE / "changes" / "0001" / "verdict"
        # However slow this machine is: a confirmation before the verdict would be refused.
        while not verdict.exists() and first.poll() is None:
            time.sleep(0.05)
        time.sleep(0.6)
        self.app.say("")
        self.app.say("# In a second terminal: look, and keep it. The first one says so, too.", style="bold cyan")
        for words in SECOND_TERMINAL:
            self._prompt(words)
            self._ended(self._run(words))
        self._ended(first.wait())
