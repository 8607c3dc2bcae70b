"""The verbs of ``engine.ps1`` on a simulated Windows machine: the same data, states and exit statuses.

A parity test holds this and the engine in a real PowerShell together.
"""

from __future__ import annotations

import hashlib
import json
import time
from functools import cached_property
from typing import Any

import msgspec

from fixed_anchor.change.acts import Act
from fixed_anchor.standins.engine import StandinEngine
from fixed_anchor.standins.windows.acting import reach
from fixed_anchor.standins.windows.addressing import ACTIVE, Failed, adapter_with
from fixed_anchor.standins.windows.by_itself import settled
from fixed_anchor.standins.windows.calls import call
from fixed_anchor.standins.windows.lines import differing, in_force, lines_of
from fixed_anchor.standins.windows.state import State
from fixed_anchor.standins.windows_host import WindowsStandinHost


def _has_lease(adapter: State) -> bool:
    return any(a["prefix_origin"] == "Dhcp" and a["store"] == ACTIVE for a in adapter["addresses"])


#: Seconds until what comes by itself has come: leases, and the detection of duplicates.
_COMES = 10.0


class WindowsStandinEngine(StandinEngine):
    """One change of a simulated Windows machine."""

    host: WindowsStandinHost

    def verb(self, verb: str, word: str, second: str = "") -> tuple[int, str, str]:
        """Status, output and error output of one verb; data that is not what was laid down is refused."""
        data = (self.folder / "change.json").read_bytes()
        if hashlib.sha256(data).hexdigest() != self._value("digest"):
            why = f"the data of change {self.name} is not what was laid down: it was altered or cut short"
            return 2, "", why
        return super().verb(verb, word, second)

    @cached_property
    def _change(self) -> dict[str, Any]:
        return json.loads((self.folder / "change.json").read_bytes())  # type: ignore[no-any-return]

    def _readable(self, line: str) -> str:
        """A line with the adapter's name instead of its GUID."""
        for adapter in self._change["adapters"]:
            line = line.replace(adapter["guid"], adapter["name"])
        return line

    def _why_not(self) -> str:
        guids = [a["guid"] for a in self._change["adapters"]]
        there = lines_of(self.host.state(), guids, self._change["was"])
        for line in differing(there, self._change["was"]):
            return f"the settings are not what the draft was made from: {self._readable(line)}"
        return ""

    def _save(self) -> None:
        """What was before is in the data of the change; which adapters had a lease is not."""
        state = self.host.state()
        leased = [a["guid"] for a in self._change["adapters"] if _has_lease(adapter_with(state, a["guid"]))]
        self._put("leased", " ".join(leased))
        self._put("in-force", "\n".join(in_force(state, [a["guid"] for a in self._change["adapters"]])))

    def _acts(self, name: str, is_way_back: bool = False) -> bool:
        """Carries a list of acts out; false as soon as one fails. On the way back the others are done all the same."""
        state = self.host.state()
        all_done = True
        for entry in self._change[name]:
            self._log(f"act: {entry['shown']}")
            act = msgspec.convert({k: v for k, v in entry.items() if k != "shown"}, Act)
            try:
                reach(state, act)
            except Failed as failed:
                self._log(f"act failed: {failed}")
                self._failed = f"this failed: {entry['shown']}: {failed}"
                all_done = False
                if not is_way_back:
                    break
        self.host.keep(state)
        return all_done

    def _leave(self) -> bool:
        return self._acts("leave")

    def _write_all(self) -> bool:
        return self._acts("write")

    def _activate(self) -> bool:
        """Waits for what comes by itself; nothing that is seen then is left to a person."""
        state = self._settled()
        for entry in self._change["adapters"]:
            adapter = adapter_with(state, entry["guid"])
            for held in adapter["addresses"]:
                if held["store"] == ACTIVE and held["state"] == "Duplicate":
                    who = "adapter of this machine" if held.get("twice") else "machine"
                    self._failed = (
                        f"another {who} has {held['address']}: Windows found it twice on the segment of "
                        f"{adapter['name']}"
                    )
                    return False
        return True

    def _settled(self) -> dict[str, Any]:
        until = time.monotonic() + _COMES
        while True:
            state = settled(self.host.state())
            self.host.keep(state)
            up = [a for a in state["adapters"] if a["status"] == "Up"]
            tentative = any(h["state"] == "Tentative" for a in up for h in a["addresses"])
            if not (tentative or any(a.get("asked") is not None for a in up)) or time.monotonic() > until:
                return state
            time.sleep(0.05)

    def _confirm_within(self) -> int:
        return int(self._change["confirm_within"])

    def _take_back(self) -> bool:
        # Whether it is there in the end is what counts.
        self._acts("back", is_way_back=True)
        state = self._settled()
        call(state, "register", {})
        self.host.keep(state)
        guids = [a["guid"] for a in self._change["adapters"]]
        if differing(lines_of(state, guids, self._change["was"]), self._change["was"]):
            return False
        if set(in_force(state, guids)) - set(self._value("in-force").split("\n")):
            return False
        leased = self._value("leased").split()
        return all(_has_lease(adapter_with(state, guid)) for guid in leased)

    def _drop_held(self) -> None:
        self._acts("drop")

    def _at_commit(self) -> None:
        self._acts("commit")
        call(state := self.host.state(), "register", {})
        self.host.keep(state)

    def _held(self) -> list[str]:
        return [self._readable(fact) for fact in self._change["held"]]

    def _is_unattended(self) -> bool:
        return bool(self._change["unattended"])
