"""What all machines have in common to which no connection leads: nothing ends, and nothing is made anew."""

from __future__ import annotations

from collections.abc import Mapping

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.machines.readable import Ran, not_asked
from fixed_anchor.machines.store import ShellStore
from fixed_anchor.machines.windows.windows_facts import WindowsFacts


class Unconnected(ShellStore):
    """Its answers to what only a connection could tell."""

    @property
    def windows(self) -> WindowsFacts | None:
        return None

    def recognise(self) -> None:
        """It is known."""

    def try_out(self, files: Mapping[str, str], argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return not_asked(argv)

    def let_go(self) -> None:
        """There is no connection."""

    def answers_anew(self) -> str | None:
        return None

    def at_its_addresses(self) -> None:
        """There is one way only."""

    def session_address(self) -> IPAddress | None:
        return None

    def ssh_port(self) -> int | None:
        return None

    def why_not_alone(self) -> AnchorError | None:
        return None
