"""Files of servers, zones and lists as people write them: read whole, or refused in the right line.

What ``corpus_sources/expected.yaml`` says of each was found by reading the file.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
import yaml

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.config import Place
from fixed_anchor.core.errors import InputError
from fixed_anchor.sources import SOURCES
from fixed_anchor.sources.protocol import Origin, Reader

CORPUS = Path(__file__).parent / "corpus_sources"
EXPECTED: dict[str, list[str]] = yaml.safe_load((CORPUS / "expected.yaml").read_text())
NAMES = sorted(str(p.relative_to(CORPUS)) for p in CORPUS.glob("*/*"))


def said(name: str) -> list[str]:
    """Each claim of a file in words, with its line."""
    path = CORPUS / name
    kind = path.parent.name
    try:
        claims = SOURCES[kind].claims(path.read_bytes(), Origin(kind, path.name, str(path)), Reader(path.parent))
    except InputError as error:
        assert error.file == str(path)
        return [f"refused: {error.what} @{error.line}"]
    return [f"{what} @{place.line}" for what, place in _in_words(claims)]


def _in_words(claims: Claims) -> Iterator[tuple[str, Place]]:
    for pool in claims.pools:
        yield f"pool {pool.range}" + (f" ({pool.limits})" if pool.limits else ""), pool.place
    for subnet in claims.subnets:
        told = {"routers": subnet.routers, "resolvers": subnet.resolvers, "search": subnet.search}
        words = [f"{what} {', '.join(map(str, said)) or 'none'}" for what, said in told.items() if said is not None]
        yield "; ".join([f"subnet {subnet.network}", *words]), subnet.place
    for kept in claims.reservations:
        clear = "" if kept.keeps_pool_clear else ", leased to others too"
        yield f"reserved {kept.address} for {kept.mac or kept.client}{clear}", kept.place
    for lease in sorted(claims.leases, key=lambda lease: lease.place.line):
        name = f" ({lease.name})" if lease.name else ""
        yield f"{lease.state} {lease.address} of {lease.mac}{name} until {lease.ends}", lease.place
    for record in claims.records:
        yield f"{record.kind} {record.name} {record.address}", record.place
    for row in claims.listed:
        yield f"listed {row.range} for {row.name or 'nobody'}" + (f" {row.mac}" if row.mac else ""), row.place
    for kind, remarks in (("untidy", claims.untidy), ("broken", claims.broken)):
        for remark in remarks:
            yield f"{kind}: {remark.what}", remark.place


@pytest.mark.parametrize("name", NAMES)
def test_a_file_as_people_write_it(name: str) -> None:
    assert said(name) == EXPECTED[name]


def test_every_file_is_expected() -> None:
    assert sorted(EXPECTED) == NAMES
    assert len(NAMES) >= 25
