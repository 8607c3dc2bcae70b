"""Checks that change their outcome while a verification is repeated."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.verification import VerifyCheck, VerifyResult

#: What is the same check in every round: host, interface, code, and what is asked or expected.
Key = tuple[str, str, str, str]


class Changed(msgspec.Struct, frozen=True):
    """A check whose outcome is another than in the round before; ``before`` is empty for a new one."""

    check: VerifyCheck
    before: str


class Flapping:
    """The outcomes of every check over several rounds."""

    def __init__(self) -> None:
        self.rounds = 0
        self._last: dict[Key, str] = {}
        self._changes: dict[Key, int] = {}

    def seen(self, result: VerifyResult) -> list[Changed]:
        """Takes in a round; returns what changed since the one before."""
        self.rounds += 1
        changed = []
        for check in result.checks:
            key = (check.host, check.interface, check.code, check.target or check.expected)
            before = self._last.get(key, "")
            if self.rounds > 1 and before != check.outcome:
                changed.append(Changed(check, before))
                self._changes[key] = self._changes.get(key, 0) + 1
            self._last[key] = check.outcome
        return changed

    @property
    def flapping(self) -> list[tuple[Key, int, str]]:
        """The checks that changed, how often, and how they are now; the most restless first."""
        found = [(key, count, self._last[key]) for key, count in self._changes.items()]
        return sorted(found, key=lambda row: -row[1])
