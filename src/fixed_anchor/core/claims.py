"""Claims on addresses: what DHCP servers, DNS zones and address lists say, each with its file and line."""

# The structures of which there are many are kept from the garbage collector (`gc=False`): they hold
# nothing that could lead back to them.

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Protocol

import msgspec

from fixed_anchor.core.addresses import AddressRange, IPAddress, IPNetwork, address_key
from fixed_anchor.core.config import Place


class PoolClaim(msgspec.Struct, frozen=True, gc=False):
    """A range from which a DHCP server gives out addresses; ``limits`` says to whom, empty for everybody."""

    range: AddressRange
    place: Place
    limits: str = ""


class SubnetClaim(msgspec.Struct, frozen=True):
    """A subnet that a DHCP server serves, and what it tells its clients there.

    ``None`` where the server's files do not say: it may then tell something of its own. ``said_in`` has
    the place of each of them, by its name here.
    """

    network: IPNetwork
    place: Place
    routers: tuple[IPAddress, ...] | None = None
    resolvers: tuple[IPAddress, ...] | None = None
    search: tuple[str, ...] | None = None
    said_in: dict[str, Place] = {}


class ReservationClaim(msgspec.Struct, frozen=True, gc=False):
    """An address kept for one client. ``mac`` is ``None`` where the client is known by another identifier.

    ``client`` is that identifier, or the client's name, for messages. ``keeps_pool_clear`` is
    false for a server that may lease the address to others all the same, where a pool has it.
    """

    address: IPAddress
    place: Place
    mac: str | None = None
    client: str = ""
    keeps_pool_clear: bool = True


class LeaseClaim(msgspec.Struct, frozen=True, gc=False):
    """A lease as the server recorded it last.

    ``state`` is ``active``, ``free`` (released, expired) or ``declined`` (RFC 2131: a client
    found it in use). ``ends`` is in seconds since 1970 (UTC), ``None`` for ever.
    """

    address: IPAddress
    place: Place
    mac: str | None
    state: str
    ends: int | None = None
    name: str = ""

    def holds(self, now: int) -> bool:
        """Whether the server would still keep the address from others at ``now``."""
        return self.state != "free" and (self.ends is None or self.ends > now)


class Leases(Protocol):
    """Many leases, asked for by address. An address's key is that of :func:`address_key`."""

    def __len__(self) -> int: ...

    def __iter__(self) -> Iterator[LeaseClaim]: ...

    def keys(self) -> Iterable[int]:
        """The keys of all addresses that have an entry."""
        ...

    def at(self, key: int) -> LeaseClaim | None:
        """The latest entry for an address."""
        ...

    def held(self, now: int) -> Iterable[int]:
        """The keys of the addresses that the server keeps from others at ``now``."""
        ...


class LeaseList:
    """Leases that are all read already; of several for one address the last counts."""

    def __init__(self, leases: Iterable[LeaseClaim] = ()) -> None:
        self._by_key = {address_key(lease.address): lease for lease in leases}

    def __len__(self) -> int:
        return len(self._by_key)

    def __iter__(self) -> Iterator[LeaseClaim]:
        return iter(self._by_key.values())

    def keys(self) -> Iterable[int]:
        """The addresses that have a lease, as the numbers of :func:`address_key`."""
        return self._by_key

    def at(self, key: int) -> LeaseClaim | None:
        """The lease of the address with that number, ``None`` where there is none."""
        return self._by_key.get(key)

    def held(self, now: int) -> Iterable[int]:
        """The numbers of the addresses whose lease counts at ``now`` (seconds since 1970)."""
        return [key for key, lease in self._by_key.items() if lease.holds(now)]


class RecordClaim(msgspec.Struct, frozen=True, gc=False):
    """A DNS record or a line of a hosts file: ``name`` (no closing dot) has ``address``.

    ``kind`` is ``A``, ``AAAA``, ``PTR`` or ``hosts``.
    """

    address: IPAddress
    name: str
    kind: str
    place: Place


class ListedClaim(msgspec.Struct, frozen=True, gc=False):
    """A row of the site's own address list, or what a server holds: ``range``, often one address, is of ``name``."""

    range: AddressRange
    place: Place
    name: str = ""
    mac: str | None = None


class Remark(msgspec.Struct, frozen=True):
    """Something about an entry that its keeper should know."""

    what: str
    place: Place


class Claims(msgspec.Struct, frozen=True):
    """All that one source claims.

    ``kind`` and ``path`` are the source's own, as the plan names it. ``untidy`` lists entries
    that were taken although they are not written cleanly, ``broken`` places at which something
    could not be read: what it would have said is not known. ``read_at`` says when it was read.
    ``asked`` are the addresses it was asked for, ``None`` where it was read as a whole.
    """

    kind: str
    path: str
    pools: tuple[PoolClaim, ...] = ()
    subnets: tuple[SubnetClaim, ...] = ()
    reservations: tuple[ReservationClaim, ...] = ()
    leases: Leases = LeaseList()
    records: tuple[RecordClaim, ...] = ()
    listed: tuple[ListedClaim, ...] = ()
    untidy: tuple[Remark, ...] = ()
    broken: tuple[Remark, ...] = ()
    read_at: str = "read now"
    asked: frozenset[IPAddress] | None = None

    @property
    def label(self) -> str:
        """What messages call this source."""
        return f"{self.kind} {self.path}"
