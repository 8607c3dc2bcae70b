"""Evidence that is saved at one place and taken along to another, where the sources cannot be seen."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import msgspec

from fixed_anchor.core.addresses import (
    IPAddress,
    IPNetwork,
    parse_address,
    parse_mac,
    parse_network,
    parse_range,
)
from fixed_anchor.core.claims import (
    Claims,
    LeaseClaim,
    LeaseList,
    ListedClaim,
    PoolClaim,
    RecordClaim,
    Remark,
    ReservationClaim,
    SubnetClaim,
)
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError, Refused
from fixed_anchor.core.findings import Judgement
from fixed_anchor.core.knowledge import Knowledge
from fixed_anchor.core.plan import Plan
from fixed_anchor.core.times import seconds_of, utc
from fixed_anchor.workflow.evidence_bound import subject

FORMAT = 2


#: Hours after which evidence leaves a plan undetermined.
MAX_AGE = 24
#: Seconds by which the clocks of two machines may differ.
_SKEW = 60


class SavedEvidence(msgspec.Struct, frozen=True):
    """Saved evidence: when it was made (seconds since 1970), and its claims by the sources' labels.

    ``about`` is what it is about, by host (:func:`~fixed_anchor.workflow.evidence_bound.subject`). ``sha256`` is
    that of the file at ``path``.
    """

    path: str
    made: int
    claims: dict[str, Claims]
    about: dict[str, Any]
    sha256: str

    def is_old(self, now: int) -> bool:
        """Whether it is older than what it says can be relied on."""
        return now - self.made > MAX_AGE * 3600

    def told(self, now: int) -> dict[str, str]:
        """What the history keeps of it."""
        return {"path": str(Path(self.path).absolute()), "age": self.age(now), "sha256": self.sha256}

    def age(self, now: int) -> str:
        """How old it is, in words."""
        seconds = max(now - self.made, 0)
        if seconds < 120:
            return f"{seconds} s old"
        if seconds < 7200:
            return f"{seconds // 60} min old"
        return f"{seconds // 3600} h old" if seconds < 172800 else f"{seconds // 86400} days old"


def save(path: Path, plan: Plan, result: Judgement, known: Knowledge, now: int) -> None:
    """Writes what was found and what the sources claim of the plan's segments. Raises ``NoAccess``."""
    import hashlib

    from fixed_anchor.disk.durable import write_beside

    subnets = [subnet for segment in plan.segments.values() for subnet in segment.subnets]
    document = {
        "format": FORMAT,
        "made": utc(now),
        "plan_sha256": hashlib.sha256(Path(plan.file).read_bytes()).hexdigest(),
        "about": {host.name: subject(plan, host) for host in plan.hosts.values()},
        "verdict": result.verdict,
        "findings": [msgspec.to_builtins(f) for f in result.findings],
        "evidence": [msgspec.to_builtins(e) for e in result.evidence],
        # What a resolver said on the wire is asked afresh there.
        "claims": [_document(c, subnets) for c in known.claims if c.kind != "resolver"],
    }
    write_beside(path, json.dumps(document, indent=1).encode() + b"\n", 0o600)


def load(path: Path, now: int) -> SavedEvidence:
    """Reads saved evidence. Raises :class:`InputError`, and :class:`Refused` for a date in the future."""
    import hashlib

    try:
        data = path.read_bytes()
        document = json.loads(data)
        if document["format"] != FORMAT:
            raise ValueError("format")
        made = seconds_of(document["made"])
        carried = SavedEvidence(str(path), made, {}, dict(document["about"]), hashlib.sha256(data).hexdigest())
        if made > now + _SKEW:
            raise Refused(
                f"the evidence was made in the future, at {document['made']}",
                file=str(path),
                remedy="look at the clocks of both machines, and save it again",
            )
        shown = f"{carried.age(now)}, from {path.name}"
        for entry in document["claims"]:
            claims = _claims(entry, shown)
            carried.claims[claims.label] = claims
    except OSError as error:
        raise InputError(f"the evidence cannot be read: {error.strerror}", file=str(path)) from None
    except (ValueError, KeyError, TypeError, IndexError, OverflowError):
        raise InputError(
            f"this is not evidence in format {FORMAT}", file=str(path), expected="what `check --evidence FILE` saves"
        ) from None
    return carried


# --- claims as plain values, and back --------------------------------------------------------


def _place(place: Place) -> list[Any]:
    return [place.file, place.line]


def _within(subnets: list[IPNetwork]) -> Callable[[IPAddress], bool]:
    return lambda address: any(address.version == s.version and address in s for s in subnets)


def _document(claims: Claims, subnets: list[IPNetwork]) -> dict[str, Any]:
    near = _within(subnets)
    return {
        "kind": claims.kind,
        "path": claims.path,
        "pools": [[str(p.range), p.limits, *_place(p.place)] for p in claims.pools],
        "subnets": [
            [str(s.network), _texts(s.routers), _texts(s.resolvers), s.search and list(s.search), *_place(s.place)]
            for s in claims.subnets
        ],
        "reservations": [
            [str(r.address), r.mac, r.client, r.keeps_pool_clear, *_place(r.place)]
            for r in claims.reservations
            if near(r.address)
        ],
        "leases": [
            [str(c.address), c.mac, c.state, c.ends, c.name, *_place(c.place)] for c in claims.leases if near(c.address)
        ],
        "records": [
            [str(r.address), r.name, r.kind, *_place(r.place)]
            for r in claims.records
            if near(r.address) or r.kind in ("A", "AAAA")
        ],
        "listed": [
            [str(r.range), r.name, r.mac, *_place(r.place)]
            for r in claims.listed
            if near(r.range.ends[0]) or near(r.range.ends[1])
        ],
        "broken": [[r.what, *_place(r.place)] for r in claims.broken],
    }


def _texts(addresses: Iterable[IPAddress] | None) -> list[str] | None:
    return None if addresses is None else [str(a) for a in addresses]


def _addresses(texts: list[str] | None) -> tuple[IPAddress, ...] | None:
    return None if texts is None else tuple(parse_address(t) for t in texts)


def _mac(text: str | None) -> str | None:
    return None if text is None else parse_mac(text)


def _at(entry: list[Any]) -> Place:
    return Place(str(entry[-2]), int(entry[-1]))


def _claims(entry: dict[str, Any], read_at: str) -> Claims:
    return Claims(
        kind=str(entry["kind"]),
        path=str(entry["path"]),
        pools=tuple(PoolClaim(parse_range(p[0]), _at(p), str(p[1])) for p in entry["pools"]),
        subnets=tuple(
            SubnetClaim(
                parse_network(s[0]),
                _at(s),
                _addresses(s[1]),
                _addresses(s[2]),
                None if s[3] is None else tuple(map(str, s[3])),
            )
            for s in entry["subnets"]
        ),
        reservations=tuple(
            ReservationClaim(parse_address(r[0]), _at(r), _mac(r[1]), str(r[2]), bool(r[3]))
            for r in entry["reservations"]
        ),
        leases=LeaseList(
            LeaseClaim(
                parse_address(c[0]), _at(c), _mac(c[1]), str(c[2]), None if c[3] is None else int(c[3]), str(c[4])
            )
            for c in entry["leases"]
        ),
        records=tuple(RecordClaim(parse_address(r[0]), str(r[1]), str(r[2]), _at(r)) for r in entry["records"]),
        listed=tuple(ListedClaim(parse_range(r[0]), _at(r), str(r[1]), _mac(r[2])) for r in entry["listed"]),
        broken=tuple(Remark(str(r[0]), _at(r)) for r in entry["broken"]),
        read_at=read_at,
    )
