"""What files say beside the addressing of an interface, and what else configures it: facts that can undo a change."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import Place, Route

#: The interface is a port of a bridge, bond or team: ``of``.
PORT = "port"
#: Routes of the interface go to another table than the main one.
OTHER_TABLE = "other-table"
#: A route, rule or hook names addresses.
NAMES = "names"
#: A hook adds addresses or routes in a way that is not read here.
HOOK = "hook"
#: Nothing of the stack brings the interface up at boot.
NOT_AT_BOOT = "not-at-boot"
#: What looks like a remark behind a value is none to the stack.
NO_REMARK = "no-remark"
#: At the next boot the interface has another name: ``of``.
RENAMED = "renamed"
#: Whether a file is for the interface cannot be told from here.
UNCLEAR = "unclear"
#: A lease of ``of`` comes up before the interface does, and takes the default route.
EARLIER_LEASE = "earlier-lease"
#: Another program configures the interface; or may do so.
CONFIGURES, MAY_CONFIGURE = "configures", "may-configure"
#: The header of a file says that another program writes it again.
REWRITTEN = "rewritten"

# Of a Windows machine:
#: A server role, or a failover cluster, that goes by the machine's addresses.
ROLE, CLUSTER = "role", "cluster"
#: The address is on the adapter of a virtual switch or of a team: ``of``.
SWITCH, TEAM = "switch", "team"
#: A policy says which resolvers (``addresses``), or which search domains (``text``), whatever is set.
POLICY_RESOLVERS, POLICY_SEARCH = "policy-resolvers", "policy-search"
#: The category of the network ``of``, by which the firewall goes.
CATEGORY = "category"
#: Several adapters have the same name.
NAME_TWICE = "name-twice"
#: The machine has seen that somebody else has its address.
DUPLICATE = "duplicate"
#: An adapter that is not there keeps addresses: ``of``.
ABSENT = "absent"
#: The disk that the system starts from comes over the network.
NETWORK_DISK = "network-disk"
#: An agent of a cloud runs; load balancing shares the adapter's addresses with other machines.
AGENT, BALANCED = "agent", "balanced"
#: Routes that a person typed to stay (``text``), of the whole machine; resolvers (``addresses``) of one network alone.
TYPED_ROUTES, PROFILE_RESOLVERS = "typed-routes", "profile-resolvers"
#: A wireless adapter: its address is the same in every network that it joins.
WIRELESS = "wireless"
#: The machine registers its addresses in DNS by itself.
REGISTERS = "registers"


class Aside(msgspec.Struct, frozen=True):
    """One such fact, and where it stands.

    ``text`` is what stands there, or what is so. ``interface`` is empty for what concerns the whole
    host. ``addresses`` are those that it names, ``routes`` those that it makes. ``of`` is the other
    interface that it is about: a master, a new name.
    """

    kind: str
    place: Place
    text: str
    interface: str = ""
    addresses: tuple[IPAddress, ...] = ()
    routes: tuple[Route, ...] = ()
    of: str = ""


class Unreadable(msgspec.Struct, frozen=True):
    """A file of ``stack`` that cannot be read, and why; for one interface alone, or as a whole.

    With ``stops`` the stack's own reader loads nothing at all because of it. ``column`` is counted
    from 1, and 0 where it is not known.
    """

    place: Place
    what: str
    stack: str
    interface: str = ""
    stops: bool = False
    column: int = 0

    @property
    def where(self) -> str:
        """File, line and column, or the files of the stack where no file is named."""
        if not self.place.file:
            return f"files of {self.stack}"
        return f"{self.place}:{self.column}" if self.column else str(self.place)

    def concerns(self, interface: str, stack: str | None) -> bool:
        """Whether it keeps what is declared for ``interface``, by ``stack`` or by nobody, from being loaded."""
        return self.interface == interface or (self.stops and stack in (self.stack, None))
