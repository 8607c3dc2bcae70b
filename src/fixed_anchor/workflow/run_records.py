"""The records of runs: what each run has begun, and how it ended, in the state folder of the seat.

A run has a folder of its number: ``run.json`` says which plan it carried out, when, and who was left out, and one file
for each turn says how far that turn came. A turn is written before its change begins, and once more when its change
has a number and when it is over. So a seat that dies leaves a record that claims nothing that was not so; the notes of
each change name the run (``run``), and :mod:`~fixed_anchor.workflow.going_back` finds by them what the seat did not
live to write.
"""

from __future__ import annotations

import contextlib
import logging
import secrets
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import IO, TypeVar

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.target import Target
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess, Refused, printable
from fixed_anchor.core.times import utc
from fixed_anchor.disk.durable import sync_folder, write_beside
from fixed_anchor.workflow.events import Event, Member
from fixed_anchor.workflow.notes import who
from fixed_anchor.workflow.run import BEGUN, OVER, PLANNED, READY, RECORDED, Run
from fixed_anchor.workflow.seat_folder import seat_folder

_log = logging.getLogger(__name__)

T = TypeVar("T")

#: What is carried out: a plan, or the way back from another run.
CUTOVER, RESTORE = "cutover", "restore"


class LeftOutRecord(msgspec.Struct, frozen=True):
    """A host that a sitting did not change, and why; ``is_kept`` where that is right: the seat, and jump hosts."""

    host: str
    why: str
    is_kept: bool = False


class Sitting(msgspec.Struct):
    """One command of a run: times are UTC, ``by`` the user. Without ``ended`` it goes on, or its seat has gone."""

    begun: str
    by: str
    note: str | None = None
    ended: str | None = None
    left_out: list[LeftOutRecord] = []


class TurnRecord(msgspec.Struct):
    """One turn: the change of ``host`` that the member ``name`` of the run is, in which ``sitting`` and ``wave``.

    Both count from 1, as does ``place``, its place in the whole run. ``after`` are the members that it waited for,
    ``why`` the reasons for its place. ``change`` is the number on the host, empty until that is known; ``state`` what
    its engine said last. ``words`` say why it ended as it did. Without ``ended`` nobody saw its end.
    """

    place: int
    name: str
    host: str
    sitting: int
    wave: int
    after: tuple[str, ...] = ()
    why: tuple[str, ...] = ()
    begun: str | None = None
    change: str = ""
    state: str = ""
    words: str = ""
    ended: str | None = None
    is_good: bool = False


class RunRecord(msgspec.Struct):
    """A run: ``id`` is in the notes of its changes; ``plan`` is the absolute path of its plan.

    ``restores`` is the number of the run that it took back, ``restored_by`` that of the run that took it back.
    """

    number: str
    id: str
    kind: str
    plan: str
    sittings: list[Sitting] = []
    restores: str | None = None
    restored_by: str | None = None
    turns: list[TurnRecord] = []

    @property
    def is_unfinished(self) -> bool:
        """Whether a further sitting may go on with it: something was left out, or did not end well."""
        last = self.sittings[-1]
        if self.kind != CUTOVER or self.restored_by is not None:
            return False
        # Each sitting takes up everything that is not as planned.
        turns = [turn for turn in self.turns if turn.sitting == len(self.sittings)]
        left = any(not one.is_kept for one in last.left_out)
        return last.ended is None or left or any(not turn.is_good for turn in turns)


class RunStore:
    """The records of a seat, below ``folder``."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def numbers(self) -> list[str]:
        """All runs, oldest first. One whose seat died before it was written is none."""
        try:
            found = sorted(one.name for one in self.folder.iterdir() if one.name.isdecimal())
        except FileNotFoundError:
            return []
        except OSError as error:
            raise self._no_access("read", error) from None
        return [name for name in found if self._head(name).exists()]

    def number(self, typed: int) -> str:
        """The run ``typed``, as its record has it. Raises :class:`InputError` where there is none."""
        number = f"{typed:04}"
        if number not in self.numbers():
            raise InputError(f"there is no run {number} of this seat", remedy="See `fixed-anchor history --runs`.")
        return number

    def read(self, number: str) -> RunRecord:
        """The record of a run. Raises :class:`InputError` with the file that cannot be read."""
        run = _decoded(self._head(number), RunRecord)
        run.turns = [_decoded(file, TurnRecord) for file in sorted(self._head(number).parent.glob("turn-*.json"))]
        return run

    def unfinished(self, plan: str) -> RunRecord | None:
        """The last run of the plan at this absolute path, where it is unfinished."""
        for number in reversed(self.numbers()):
            run = self.read(number)
            if run.plan == plan:
                return run if run.is_unfinished else None
        return None

    def make(self, kind: str, plan: str, restores: str | None = None) -> RunRecord:
        """A run with the next number, which is nobody else's. Raises :class:`NoAccess`."""
        taken = self.numbers()
        number = int(taken[-1]) if taken else 0
        try:
            self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            while True:
                number += 1
                try:
                    (self.folder / f"{number:04}").mkdir(mode=0o700)
                    break
                except FileExistsError:
                    continue
            sync_folder(self.folder)
        except OSError as error:
            raise self._no_access("write", error) from None
        return RunRecord(f"{number:04}", secrets.token_hex(8), kind, plan, restores=restores)

    def write(self, run: RunRecord) -> None:
        """Writes everything of a run but its turns."""
        self._write(self._head(run.number), msgspec.structs.replace(run, turns=[]))

    def write_turn(self, run: RunRecord, turn: TurnRecord) -> None:
        """Writes one turn, to a file of its place."""
        self._write(self._head(run.number).parent / f"turn-{turn.place:05}.json", turn)

    def hold(self, number: str) -> IO[bytes] | None:
        """Holds a run for as long as the file is open: nobody else goes on with it. Nothing where somebody holds it.

        The lock (flock(2)) ends with the process, however that ends. Raises :class:`NoAccess`.
        """
        import fcntl

        try:
            file = open(self.folder / number / "held", "ab")  # noqa: SIM115
        except OSError as error:
            raise self._no_access("write", error) from None
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            file.close()
            return None
        except OSError as error:
            # Some network file systems know no locks.
            _log.info("run %s cannot be locked: %s", number, error.strerror)
        return file

    def is_held(self, number: str) -> bool:
        """Whether a command is carrying the run out now."""
        file = self.hold(number)
        if file is not None:
            file.close()
        return file is None

    def _no_access(self, verb: str, error: OSError) -> NoAccess:
        return NoAccess(
            f"cannot {verb} the records of runs: {error.strerror}",
            file=str(self.folder),
            remedy="Make the folder writable, or set XDG_STATE_HOME to another one.",
        )

    def _head(self, number: str) -> Path:
        return self.folder / number / "run.json"

    @staticmethod
    def _write(path: Path, value: msgspec.Struct) -> None:
        write_beside(path, msgspec.json.format(msgspec.json.encode(value), indent=2) + b"\n", 0o600)


def seat_runs() -> RunStore:
    """The records of this seat."""
    return RunStore(seat_folder() / "runs")


def _decoded(path: Path, kind: type[T]) -> T:
    try:
        return msgspec.json.decode(path.read_bytes(), type=kind)
    except OSError as error:
        raise NoAccess(f"cannot read the record of a run: {error.strerror}", file=str(path)) from None
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(
            f"this is no record of a run: {printable(str(error))}",
            file=str(path),
            remedy="Move its folder away; the hosts keep their own history.",
        ) from None


def learn_ends(store: RunStore, run: RunRecord, targets: Mapping[str, Target]) -> None:
    """Writes what hosts tell of turns whose end their seat did not see; ``targets`` are by the names of hosts.

    Of a host that does not answer, or whose change is still open, nothing is written.
    """
    for turn in run.turns:
        if turn.ended is not None or turn.begun is None or turn.host not in targets:
            continue
        target = targets[turn.host]
        try:
            turn.change = turn.change or _number_of(target, run, turn)
            status = target.status(turn.change) if turn.change else None
        except AnchorError as error:
            _log.info("%s does not tell how %s of run %s ended: %s", turn.host, turn.name, run.number, error.what)
            continue
        if status is not None and status.is_open:
            turn.state = status.state
        else:
            turn.state = status.state if status is not None else states.NOT_BEGUN
            turn.words = status.why if status is not None else "its seat was gone before the change began"
            turn.is_good = status is not None and status.state == states.CONFIRMED and not status.is_incomplete
            turn.ended = utc()
        store.write_turn(run, turn)


def _number_of(target: Target, run: RunRecord, turn: TurnRecord) -> str:
    """The change that a turn began whose number its seat did not live to write; empty where it began none."""
    claimed = {one.change for one in run.turns if one.host == turn.host}
    for number in target.numbers():
        notes = target.record(number).notes
        if number not in claimed and (notes.get("run"), notes.get("turn")) == (run.id, turn.name):
            return number
    return ""


def finish(store: RunStore, run: RunRecord) -> None:
    """Writes that the last sitting is over, of which nobody saw the end: nothing of its plan is left to do."""
    if run.sittings[-1].ended is None:
        run.sittings[-1].ended = utc()
    run.sittings[-1].left_out = []
    store.write(run)


def under_way(number: str) -> Refused:
    """The error of whoever wants to go on with a run that another command carries out."""
    return Refused(
        f"run {number} is under way in another session", remedy="Wait for its end, or stop it there with Ctrl-C."
    )


@contextlib.contextmanager
def recorded(store: RunStore, run: RunRecord, note: str | None, left_out: list[LeftOutRecord]) -> Iterator[Recorder]:
    """A new sitting of ``run``, which it holds meanwhile. Raises :class:`Refused` where another command does."""
    held = store.hold(run.number)
    if held is None:
        raise under_way(run.number)
    with held:
        yield Recorder(store, run, note, left_out)


class Recorder:
    """One sitting of a run, written down as the run is stepped: it hears every event before anything follows of it."""

    def __init__(
        self,
        store: RunStore,
        record: RunRecord,
        note: str | None,
        left_out: list[LeftOutRecord],
    ) -> None:
        self._store = store
        self.record = record
        self._sitting = Sitting(utc(), who(), " ".join(note.split()) if note else None, None, left_out)
        record.sittings.append(self._sitting)
        store.write(record)
        self._turns: dict[str, TurnRecord] = {}

    def marks(self, name: str) -> dict[str, str]:
        """What the notes of the change of member ``name`` say of the run, for its host to keep."""
        return {"run": self.record.id, "run_number": self.record.number, "turn": name}

    def expect(self, members: list[Member], hosts: Mapping[str, str], why: Mapping[str, tuple[str, ...]]) -> None:
        """Takes the turns down that are to come; ``hosts`` and ``why`` are by the names of members."""
        number = len(self.record.sittings)
        last = max((turn.place for turn in self.record.turns), default=0)
        for place, one in enumerate(members, last + 1):
            turn = TurnRecord(place, one.name, hosts[one.name], number, one.wave + 1, one.after, why.get(one.name, ()))
            self.record.turns.append(turn)
            self._turns[one.name] = turn

    def hear(self, run: Run, event: Event) -> None:
        """Writes what an event, by which ``run`` has been stepped, makes known of its member."""
        for name in (event.name,) if event.name in self._turns else run.names if not event.name else ():
            turn, state, last, outcome = self._turns[name], run.state(name), run.last(name), run.outcome(name)
            if turn.ended is not None or state in (PLANNED, READY, RECORDED):
                continue
            known = (turn.begun is not None, turn.change, turn.ended)
            turn.change = run.number(name)
            if state == BEGUN or turn.change:
                turn.begun = turn.begun or utc()
            turn.state = outcome.state if outcome is not None else last.state if last is not None else turn.state
            if outcome is not None and state in OVER:
                turn.words = outcome.reason
                # Of what goes on without this seat nobody here knows the end.
                turn.ended = None if outcome.is_left else utc()
                turn.is_good = outcome.is_good
            if known != (turn.begun is not None, turn.change, turn.ended) or (outcome is not None and outcome.is_left):
                self._store.write_turn(self.record, turn)

    def end(self, run: Run) -> None:
        """Writes the end of the sitting, with those that were not begun."""
        for name, turn in self._turns.items():
            outcome = run.outcome(name)
            if outcome is not None and turn.begun is None:
                turn.words = outcome.reason
                turn.state = outcome.state
                self._store.write_turn(self.record, turn)
        if any(outcome.is_left for name in run.names if (outcome := run.outcome(name)) is not None):
            return
        self._sitting.ended = utc()
        self._store.write(self.record)
