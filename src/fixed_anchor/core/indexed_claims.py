"""What one source claims, by address, and in words."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from fixed_anchor.core.addresses import AddressRange, IPAddress, address_key
from fixed_anchor.core.claims import Claims, ListedClaim, RecordClaim, ReservationClaim

#: How many names of one address are said.
_FEW = 8

#: What a kind of source tells, for the evidence: its reservations, leases, records or rows.
TELLS = {
    "kea": "reservations",
    "dhcpd": "reservations",
    "dnsmasq": "reservations",
    "libvirt": "reservations",
    "windows-dhcp": "reservations",
    "kea-leases": "leases",
    "dhcpd-leases": "leases",
    "dnsmasq-leases": "leases",
    "zone": "records",
    "hosts": "records",
    "resolver": "records",
    "address-list": "rows",
}

#: What it says of an address that it knows nothing of.
_NOTHING_SAID = {"reservations": "not reserved", "leases": "no lease", "records": "no name", "rows": "not listed"}


class IndexedClaims:
    """What one source claims, by address; ``is_subnet`` says of a range whether it is a whole subnet of the plan."""

    def __init__(self, claims: Claims, is_subnet: Callable[[AddressRange], bool]) -> None:
        self.claims = claims
        self.label = claims.label
        self.reservations: dict[int, list[ReservationClaim]] = {}
        self.records: dict[int, list[RecordClaim]] = {}
        self._rows: dict[int, list[ListedClaim]] = {}
        self._wide: list[ListedClaim] = []
        for reservation in claims.reservations:
            self.reservations.setdefault(address_key(reservation.address), []).append(reservation)
        for record in claims.records:
            self.records.setdefault(address_key(record.address), []).append(record)
        for row in claims.listed:
            if row.range.size == 1:
                self._rows.setdefault(address_key(row.range.ends[0]), []).append(row)
            elif not is_subnet(row.range):
                # A row for a whole subnet says which network that is, not who holds each address of it.
                self._wide.append(row)

    def mention(self, keys: set[int]) -> None:
        """Adds the keys of all addresses that something is said of here."""
        keys.update(self.claims.leases.keys(), self.reservations, self.records, self._rows)

    @property
    def has_wide_rows(self) -> bool:
        """Whether it has rows for ranges of several addresses."""
        return bool(self._wide)

    def rows(self, address: IPAddress) -> list[ListedClaim]:
        """The rows that an address is in."""
        found = self._rows.get(address_key(address), [])
        return found + [r for r in self._wide if address in r.range] if self._wide else found

    def said(self, address: IPAddress, now: int) -> str:
        """What the source says of one address, in words."""
        key = address_key(address)
        lease, rows = self.claims.leases.at(key), self.rows(address)
        parts = []
        if kept := self.reservations.get(key):
            parts.append("reserved for " + few(whom(r) for r in kept))
        if lease and lease.holds(now):
            parts.append(f"leased to {lease.mac or lease.name or '?'}")
        if names := [r.name for r in self.records.get(key, ())]:
            parts.append("named " + few(names))
        if rows:
            parts.append("listed for " + few(r.name or "nobody in particular" for r in rows))
        return ", ".join(parts) or _NOTHING_SAID[TELLS.get(self.claims.kind, "rows")]


def few(names: Iterable[str]) -> str:
    """Names in words, each once; of very many the first."""
    every = list(dict.fromkeys(names))
    more = f" and {len(every) - _FEW} more" if len(every) > _FEW else ""
    return ", ".join(every[:_FEW]) + more


def whom(reservation: ReservationClaim) -> str:
    """For whom an address is reserved, in words."""
    return reservation.mac or reservation.client or "a client"
