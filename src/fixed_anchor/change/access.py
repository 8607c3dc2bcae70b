"""How a target is reached: what whoever runs this may do there, and the session over which it is asked.

Both are what they are where the program itself stands beside the files: nothing is refused, and no connection leads
there. Targets that differ have rights and a session of their own.
"""

from __future__ import annotations

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import AnchorError


class Rights:
    """What can be done there.

    ``words`` are the global options by which a command names it, where no plan does. ``has_shell``: somebody can log
    in there and type a command of the engine. ``has_tool``: this program can be run there, by a guard that wants
    packets sent; else it is changed from another machine. ``refusal``: why no change can be made there.
    """

    def __init__(
        self,
        words: tuple[str, ...] = (),
        has_shell: bool = False,
        has_tool: bool = True,
        refusal: AnchorError | None = None,
    ) -> None:
        self.words = words
        self.has_shell = has_shell
        self.has_tool = has_tool
        self._refusal = refusal

    def why_no_change(self) -> AnchorError | None:
        """Why no change can be made there by whoever runs this; ``None`` where it can."""
        return self._refusal

    def why_not_alone(self) -> AnchorError | None:
        """Why it cannot be asked anew without a person; ``None`` where it can, as far as it shows."""
        return None


class Session:
    """The connection over which it is asked; here there is none: nothing ends, and nothing is made anew."""

    def recognise(self) -> None:
        """Finds out what runs there, where only a connection tells and none was made yet. Raises ``NoAccess``."""

    def address(self) -> IPAddress | None:
        """Its address by which the operator's own session comes in, if one does."""
        return None

    def port(self) -> int | None:
        """The port of its sshd, by which the operator's own session comes in; ``None`` where none does."""
        return None

    def through(self) -> tuple[str, ...]:
        """The hosts that the connection leads through, as they are named at the seat."""
        return ()

    def let_go(self) -> None:
        """Nothing more is asked for the time being: a connection may end, and is made again when it is wanted."""

    def is_to_hold(self, addresses: tuple[IPAddress, ...]) -> None:
        """Tells what its new addresses are, where for a time they are others than its plan gives it."""

    def at_its_addresses(self) -> None:
        """From now on it is reached at the addresses that its plan gives it, where that can be chosen."""

    def answers_anew(self) -> str | None:
        """Makes a new connection to an address that it is to hold, and goes on over that one; what proved it.

        ``None`` where there is no connection, or no such address. Raises ``NoAccess`` where another machine answers
        there, and ``Unreachable`` where nothing does; then it is reached as before.
        """
        return None
