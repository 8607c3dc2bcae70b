"""``fixed-anchor demo``: lay out the made-up site and walk through the whole job on it."""

from __future__ import annotations

import importlib.util
import subprocess
import sys
import time
from collections.abc import Iterable
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
        "A first draft of the quay, typed from a notepad: a prefix, a gateway and an address that cannot be. Each is "
        "told with its line, and with what was seen.",
        "check first.yaml",
    ),
    ("What a finding means, and why it matters.", "explain gateway-outside-subnet"),
    (
        "The plan of the whole site. A lamp controller drops pings and holds an address all the same, another address "
        "lies in a pool, a workstation keeps a lease that nobody reserved.",
        "check plan.yaml",
    ),
    ("The quay as a picture.", "map plan.yaml quay"),
    (
        "An address for kelp-files that is really free? This machine answers only when it is asked for the third time.",
        "probe 203.0.113.32 203.0.113.22 --plan plan.yaml --from tide-db",
    ),
    (
        "gannet-ws, a Windows workstation, keeps the address it leases: its settings, and what the DHCP server must be "
        "told.",
        "draft plan.yaml --host gannet-ws",
    ),
)
#: What is put right then: in which file, what, by what; and in words.
MISTAKES = (
    ("plan.yaml", "hold: 203.0.113.30  ", "hold: 203.0.113.22  ", "kelp-files gets a free address"),
    ("plan.yaml", "hold: 198.18.5.40  ", "hold: 198.18.6.40  ", "sonar-vm1 gets an address outside the pool"),
    (
        "dhcp/kea-dhcp4.conf",
        '"id": 2,',
        '"reservations": [{ "hw-address": "00:00:5e:00:53:31", "ip-address": "198.51.100.77", '
        '"hostname": "gannet-ws" }],\n        "id": 2,',
        "the DHCP server reserves the lease of gannet-ws",
    ),
)
AFTER_MISTAKES = (
    ("Again: clear, with what is worth knowing.", "check plan.yaml"),
    (
        "Take stock of tide-db: which address, from where, declared in which file.",
        "survey --plan plan.yaml --host tide-db",
    ),
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
ADMITTED = ((
    "station.yaml",
    "198.51.100.73, 198.51.100.90]",
    "198.51.100.73, 198.51.100.90, 198.51.100.72]",
    "the resolver's access list admits 198.51.100.72",
),)  # fmt: skip
AFTER_CORRECTION = (
    ("The same command goes on with the same run.", IN_WAVES),
    ("What the seat has recorded of the run.", "history --runs 1"),
    ("A page for the ticket, of the whole run.", "report room.yaml --run 1 -o report.html"),
    ("Take the whole run back, the last change first.", "restore --run 1 --patience 3"),
)
#: The last one, where matplotlib is there.
MAP = ("The map of the quay for the wall.", "map plan.yaml quay -o map.svg")


@click.command(
    help="Lay the made-up Tern Point site into DIR and walk through the whole job. No root, no network.",
    epilog=examples(
        ("fixed-anchor demo", "the whole job, in the folder tern-point"),
        ("fixed-anchor demo /tmp/tern-point --pause", "in another folder, a key before each command"),
    ),
)
@click.argument("folder", metavar="[DIR]", default="tern-point", type=click.Path(path_type=Path))
@click.option("--pause", is_flag=True, help="Wait for the Enter key before each command: for presenting.")
@click.pass_context
def command(ctx: click.Context, folder: Path, pause: bool) -> None:
    app = App(ctx)
    if pause and not app.can_ask:
        raise click.UsageError("--pause waits for a key: it needs a terminal")
    lay_out(folder)
    walk = Walk(app, folder, pause)
    app.say(f"The site of Tern Point Marine Station lies in {folder}/ now: four plans, twelve hosts, a simulated wire.")
    walk.show_all(BEFORE_CUTOVER)
    walk.put_right(MISTAKES)
    walk.show_all(AFTER_MISTAKES)
    walk.cutover()
    walk.show_all(AFTER_CUTOVER)
    walk.show_all(ROOM, also=(EXIT_ROLLED_BACK,))
    walk.put_right(ADMITTED)
    walk.show_all(AFTER_CORRECTION)
    written = "report.html"
    if importlib.util.find_spec("matplotlib") is not None:
        walk.show_all((MAP,))
        written += " and map.svg"
    app.say("")
    app.say(f"Every command above can be typed in {folder}/ now; {written} lie there, too.", style="bold")
    ctx.exit(walk.failed)


class Walk:
    """Shows commands and runs them, as somebody at a terminal in ``folder`` would.

    ``failed`` is the exit status of a command that did not do what the demo shows; a finding is no failure, nor is
    the host that is down.
    """

    def __init__(self, app: App, folder: Path, pause: bool = False) -> None:
        self.app = app
        self.folder = folder
        self.pause = pause
        self.failed = EXIT_DONE

    def _argv(self, words: str) -> list[str]:
        return [sys.executable, "-m", "fixed_anchor", "--color", self.app.color, *words.split()]

    def _announce(self, heading: str, words: str) -> None:
        self._head(heading)
        self._prompt(words)

    def _head(self, heading: str) -> None:
        self.app.say("")
        self.app.say(f"# {heading}", style="bold cyan")

    def _prompt(self, words: str) -> None:
        self.app.type("$ ", f"fixed-anchor {words}", indent=0)
        self.app.out.file.flush()
        if self.pause:
            click.pause("", err=True)

    def _ended(self, status: int, also: tuple[int, ...] = ()) -> None:
        if status not in (EXIT_DONE, EXIT_AGAINST, EXIT_NO_ACCESS, *also):
            self.failed = status

    def show_all(self, steps: Iterable[tuple[str, str]], also: tuple[int, ...] = ()) -> None:
        """Shows each heading and its command, and runs that; it may end with one of ``also``, too."""
        for heading, words in steps:
            self._announce(heading, words)
            self._ended(self._run(words), also)

    def put_right(self, corrections: Iterable[tuple[str, str, str, str]]) -> None:
        """Edits files of the site as a person would, and says so."""
        self._head("Put right, by hand:")
        for name, before, after, words in corrections:
            file = self.folder / name
            file.write_text(file.read_text().replace(before, after, 1))
            self.app.say(f"{name}: {words}", indent=2)

    def _run(self, words: str) -> int:
        return subprocess.run(self._argv(words), cwd=self.folder, check=False).returncode

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
