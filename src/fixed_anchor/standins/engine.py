"""The engine's verbs on a simulated host: the same data, the same states, the same exit statuses.

There is no guard process. What the guard would have done since is done at the next
call: a deadline that has passed rolls the change back before anything else happens.
A stand-in has no sessions, so confirming over the address that goes cannot be told there.
A parity test holds this and ``engine.sh`` together.
"""

from __future__ import annotations

import math
import os
import time
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from fixed_anchor.change import states
from fixed_anchor.standins.simulated_host import StandinHost


class StandinEngine(ABC):
    """One change of a simulated host; ``folder`` is the change's, ``tree`` the root of the host's files.

    What a change consists of a kind of host says: files, or settings.
    """

    def __init__(self, host: StandinHost, tree: Path, folder: Path) -> None:
        self.host = host
        self.tree = tree
        self.folder = folder
        self.name = folder.name
        self._failed = ""

    def verb(self, verb: str, word: str, second: str = "") -> tuple[int, str, str]:
        """Status, output and error output of one verb."""
        with self._locked():
            self._catch_up()
            if verb == "start":
                return self._start()
            if verb == "status":
                return 0, self._status(), ""
            if verb == "verdict":
                return self._verdict(word, second)
            if verb == "confirm":
                return self._confirm(word)
            if verb == "more-time":
                return self._more_time(word)
            if verb == "close":
                return self._close(word, second)
            if verb == states.ROLL_BACK:
                return self._request_roll_back(word)
        return 2, "", f"engine: no such verb: {verb}"

    @contextmanager
    def _locked(self) -> Iterator[None]:
        with open(self.folder.parent / ".standin-lock", "w") as lock:
            import fcntl

            fcntl.flock(lock, fcntl.LOCK_EX)
            yield

    # --- files of the change ----------------------------------------------------------

    def _value(self, name: str) -> str:
        try:
            return (self.folder / name).read_text().strip()
        except FileNotFoundError:
            return ""

    def _put(self, name: str, text: str) -> None:
        beside = self.folder / f"{name}.new"
        beside.write_text(text + "\n")
        beside.replace(self.folder / name)

    def _log(self, text: str) -> None:
        stamp = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        with open(self.folder / "log", "a") as log:
            log.write(f"{stamp} {text}\n")

    def _log_lines(self, name: str, before: str) -> None:
        for line in self._value(name).splitlines():
            self._log(f"{before}{line}")

    def _state(self, state: str) -> None:
        self._put("state", state)
        self._log(f"state: {state}")

    @property
    def decision(self) -> str:
        """The decision, in today's word; empty where none has been made."""
        link = self.folder / "decision"
        return os.readlink(link).partition(":")[0] if link.is_symlink() else ""

    @property
    def decided_because(self) -> str:
        """Why it was decided that way."""
        return os.readlink(self.folder / "decision").partition(": ")[2]

    @property
    def state(self) -> str:
        """The state, in today's word; empty where the change has not begun."""
        return self._value("state")

    def _claim(self, what: str, who: str, why: str) -> bool:
        try:
            os.symlink(f"{what}: {why}", self.folder / "decision")
        except FileExistsError:
            return False
        self._log(f"decision: {what}, by {who}")
        return True

    # --- the verbs --------------------------------------------------------------------

    def _start(self) -> tuple[int, str, str]:
        if self.state:
            return 7, "", f"change {self.name} was begun before: it is {self.state}"
        link = self.folder.parent / "open"
        if link.is_symlink():
            other = self.folder.parent / os.readlink(link) / "state"
            if other.exists() and other.read_text().strip() not in states.FINAL:
                return 7, "", f"change {other.parent.name} is open on this host; confirm or restore it first"
            link.unlink()
        self._log_lines("about", "")
        refused = self._why_not()
        if refused:
            return 1, "", f"{refused}; nothing was changed"
        os.symlink(self.name, link)
        self._save()
        self._state(states.PREPARED)
        self._state(states.LEAVING)
        if not self._leave():
            self._roll_back(self._failed)
            return 0, "", ""
        self._state(states.WRITING)
        if not self._write_all():
            self._roll_back(self._failed)
            return 0, "", ""
        self._state(states.ACTIVATING)
        if not self._activate():
            self._roll_back(self._failed)
            return 0, "", ""
        self._put("deadline", str(time.time() + self._confirm_within()))
        self._state(states.WAITING)
        return 0, "", ""

    # --- what a change consists of, which a kind of host says -----------------------------------

    @abstractmethod
    def _why_not(self) -> str:
        """Why nothing is begun; empty where nothing is in the way."""

    @abstractmethod
    def _save(self) -> None:
        """Keeps what the way back needs."""

    @abstractmethod
    def _leave(self) -> bool:
        """Leaves the old state; false where that failed."""

    @abstractmethod
    def _write_all(self) -> bool:
        """Writes the new one; false where that failed."""

    @abstractmethod
    def _activate(self) -> bool:
        """Brings it into force; false where that failed."""

    @abstractmethod
    def _confirm_within(self) -> int:
        """The seconds until the deadline."""

    @abstractmethod
    def _take_back(self) -> bool:
        """What was there before comes back; whether it has."""

    @abstractmethod
    def _drop_held(self) -> None:
        """What was held until the decision goes."""

    @abstractmethod
    def _at_commit(self) -> None:
        """What is done last, when it is kept."""

    @abstractmethod
    def _held(self) -> list[str]:
        """What ends with the decision, as facts."""

    @abstractmethod
    def _is_unattended(self) -> bool:
        """Whether its verification decides."""

    # --- what the guard does ------------------------------------------------------------------

    def _roll_back(self, why: str) -> None:
        if not self._value("why"):
            self._put("why", why)
        self._log(f"rolling back: {why}")
        self._state(states.ROLLING_BACK)
        if self._take_back():
            self._finish(states.ROLLED_BACK)
        else:
            self._log("the former state was not reached")
            self._state(states.STUCK)

    def _finish(self, state: str) -> None:
        self._state(state)
        how = "rolled back" if state == states.ROLLED_BACK else "kept"
        self._log(f"it was {how}, because {self._value('why')}")
        (self.folder.parent / "open").unlink(missing_ok=True)

    def _left(self) -> int:
        return math.ceil(float(self._value("deadline")) - time.time())

    def _catch_up(self) -> None:
        """What the guard would have done since the last call."""
        if self.state != states.WAITING:
            return
        until = self._value("held-until")
        if until and time.time() >= float(until):
            self._end_hold()
        if not self.decision and self._left() <= 0:
            self._claim(states.ROLL_BACK, "the deadline", "nobody confirmed it in time")
        if self.decision == states.ROLL_BACK:
            self._roll_back(self.decided_because)
        elif self.decision == states.KEEP:
            self._state(states.COMMITTING)
            self._end_hold()
            self._at_commit()
            self._put("why", self.decided_because)
            self._finish(states.CONFIRMED)

    def _end_hold(self) -> None:
        held = self._held()
        if not held or (self.folder / "hold-over").exists():
            return
        self._log("no longer held: " + "".join(f"{fact};" for fact in held))
        self._drop_held()
        self._put("hold-over", "yes")

    def _more_time(self, word: str) -> tuple[int, str, str]:
        if not word.isdecimal() or len(word) > 5:
            return 2, "", "how many seconds more?"
        if self.state != states.WAITING or self.decision:
            return 7, "", f"change {self.name} is decided, or does not wait: it is {self.state}"
        self._put("deadline", str(float(self._value("deadline")) + int(word)))
        self._log(f"more time: {word} s")
        return 0, "", ""

    def _verdict(self, word: str, second: str) -> tuple[int, str, str]:
        state = self.state
        if state != states.WAITING:
            return 7, "", f"change {self.name} is {state}"
        self._put("verdict", word)
        self._log_lines("checks", "check: ")
        self._log(f"verification: {word}")
        if word != "as-planned":
            why = f"its verification was {word}" + (f": {second}" if second else "")
            self._claim(states.ROLL_BACK, "its verification", why)
        elif self._is_unattended():
            self._claim(states.KEEP, "its verification, unattended", "all its required checks passed")
        self._catch_up()
        return 0, "", ""

    def _confirm(self, word: str) -> tuple[int, str, str]:
        state = self.state
        if state not in (states.WAITING, *states.FINAL):
            return 7, "", f"change {self.name} cannot be confirmed yet: it is {states.shown(state)}"
        if state != states.WAITING:
            return 7, "", f"change {self.name} cannot be confirmed: it is {state} already"
        who = word or "a person"
        self._claim(states.KEEP, who, f"{who} confirmed it")
        self._catch_up()
        return 0, "confirmed\n", ""

    def _request_roll_back(self, word: str) -> tuple[int, str, str]:
        state = self.state
        if state == states.CONFIRMED:
            return 7, "", f"change {self.name} is confirmed; restore it as a change of its own"
        if state == states.ROLLED_BACK:
            return 7, "", f"change {self.name} was rolled back already, because {self._value('why')}"
        who = word or "a person"
        if state == states.STUCK:
            self._roll_back(f"{who} asked for it")
        else:
            self._claim(states.ROLL_BACK, who, f"{who} asked for it")
            self._catch_up()
        if self.state == states.STUCK:
            return 5, "", f"change {self.name} could not be rolled back; see {self.folder / 'log'}"
        return 0, "rolled back\n", ""

    def _close(self, word: str, second: str) -> tuple[int, str, str]:
        if self.state != states.STUCK:
            return 7, "", f"only a change that is stuck can be closed: {self.name} is {self.state}"
        if not second:
            return 2, "", "why is it closed?"
        who = word or "a person"
        self._log(f"closed by {who}, because {second}")
        self._put("closed-by", f"{who}, because {second}")
        self._state(states.CLOSED)
        (self.folder.parent / "open").unlink(missing_ok=True)
        return 0, "closed\n", ""

    def _status(self) -> str:
        lines = [f"change {self.name}", f"state {self.state}", f"interface {self._value('interface')}"]
        if (self.folder / "deadline").exists():
            lines.append(f"left {self._left()}")
        lines.append("guard " + ("gone" if self.state in states.FINAL else "alive"))
        if self.decision:
            lines.append(f"decision {self.decision}")
        if self._value("why"):
            lines.append(f"why {self._value('why')}")
        if self._value("closed-by"):
            lines.append(f"closed-by {self._value('closed-by')}")
        if self._value("verdict"):
            lines.append(f"verdict {self._value('verdict')}")
        if self._held() and not (self.folder / "hold-over").exists():
            lines.append("held " + "".join(f"{fact};" for fact in self._held()))
        return "\n".join(lines) + "\n"
