"""Asking name servers (RFC 1035): whether they answer, and what they know of addresses and names."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.claims import Claims, RecordClaim
from fixed_anchor.core.config import Place
from fixed_anchor.vantages.protocol import AsksDns

if TYPE_CHECKING:
    import dns.message

#: Seconds that a DNS server has for its answer, and how often it is asked.
DNS_TIMEOUT = 2.0
DNS_TRIES = 3


def ask(vantage: AsksDns, resolver: IPAddress, name: str, kind: str) -> dns.message.Message | None:
    """The answer to one question, ``None`` where none came. Forged and broken ones do not count."""
    import dns.exception
    import dns.message

    query = dns.message.make_query(name, kind)
    for _ in range(DNS_TRIES):
        data = vantage.ask_dns(resolver, query.to_wire(), DNS_TIMEOUT)
        if data is None:
            continue
        try:
            answer = dns.message.from_wire(data)
        except dns.exception.DNSException:
            continue
        if query.is_response(answer):
            return answer
    return None


def useful(
    vantage: AsksDns, resolver: IPAddress, search: tuple[str, ...], own: IPAddress | None
) -> tuple[bool, list[str]]:
    """Whether ``resolver`` gives a usable answer, and what it said to each question.

    It is asked what a resolver of this host should know; one usable answer is enough: the SOA of
    the first search domain, the name of the own address, the root's servers. A resolver that
    refuses them all is of no use, however quickly it says so.
    """
    import dns.rcode
    import dns.reversename

    questions = [(search[0], "SOA")] if search else []
    if own is not None:
        questions.append((str(dns.reversename.from_address(str(own))), "PTR"))
    questions.append((".", "NS"))
    said: list[str] = []
    for name, kind in questions:
        answer = ask(vantage, resolver, name, kind)
        if answer is None:
            # Silence to one question is silence to the next.
            return False, [*said, "no answer"]
        code = answer.rcode()
        said.append(f"{name} {kind}: {dns.rcode.to_text(code)}")
        if code in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
            return True, said
    return False, said


def records(
    vantage: AsksDns, resolver: IPAddress, addresses: Iterable[IPAddress], names: Iterable[str]
) -> Claims | None:
    """What ``resolver`` knows of ``addresses`` and ``names``; ``None`` where it falls silent."""
    import dns.rdatatype
    import dns.reversename

    place = Place(f"resolver {resolver}", 0)
    found: list[RecordClaim] = []
    asked = frozenset(addresses)
    for address in asked:
        answer = ask(vantage, resolver, str(dns.reversename.from_address(str(address))), "PTR")
        if answer is None:
            return None
        for rrset in answer.answer:
            if rrset.rdtype == dns.rdatatype.PTR:
                found += [RecordClaim(address, _plain(r.target), "PTR", place) for r in rrset]
    for name in dict.fromkeys(names):
        for kind in ("A", "AAAA"):
            answer = ask(vantage, resolver, name, kind)
            if answer is None:
                return None
            for rrset in answer.answer:
                if dns.rdatatype.to_text(rrset.rdtype) == kind:
                    found += [RecordClaim(parse_address(r.address), name, kind, place) for r in rrset]
    return Claims("resolver", str(resolver), records=tuple(found), read_at="asked now", asked=asked)


def _plain(name: object) -> str:
    return str(name).rstrip(".").lower()
