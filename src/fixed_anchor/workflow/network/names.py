"""Asking name servers (RFC 1035): whether they answer, and what they know of addresses and names."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.claims import Claims, RecordClaim
from fixed_anchor.core.config import Place
from fixed_anchor.core.resolving import NODATA, ONLY_TCP, SILENT, Question
from fixed_anchor.vantages.protocol import AsksDns

if TYPE_CHECKING:
    import dns.message

#: Seconds that a DNS server has for its answer, and how often it is asked.
DNS_TIMEOUT = 2.0
DNS_TRIES = 3


def ask(
    vantage: AsksDns, resolver: IPAddress, name: str, kind: str, tries: int = DNS_TRIES, over_tcp: bool = False
) -> dns.message.Message | None:
    """The answer to one question, ``None`` where none came. Forged and broken ones do not count."""
    import dns.exception
    import dns.message

    query = dns.message.make_query(name, kind)
    for _ in range(tries):
        data = vantage.ask_dns(resolver, query.to_wire(), DNS_TIMEOUT, over_tcp)
        if data is None:
            continue
        try:
            answer = dns.message.from_wire(data)
        except dns.exception.DNSException:
            continue
        if query.is_response(answer):
            return answer
    return None


def answers(
    vantage: AsksDns, resolver: IPAddress, asked: Iterable[Question], tries: int = DNS_TRIES
) -> dict[Question, str]:
    """How ``resolver`` answers each question, in the words of :mod:`fixed_anchor.core.resolving`.

    Silence to one question is silence to the next: then it is asked once over TCP, which a resolver may answer
    where a filter takes its datagrams.
    """
    said: dict[Question, str] = {}
    for question in asked:
        answer = ask(vantage, resolver, question.name, question.kind, tries)
        if answer is None:
            over_tcp = ask(vantage, resolver, question.name, question.kind, 1, over_tcp=True)
            said[question] = SILENT if over_tcp is None else ONLY_TCP
            if not any(word not in (SILENT, ONLY_TCP) for word in said.values()):
                break
        else:
            said[question] = _word(answer)
    return said


def _word(answer: dns.message.Message) -> str:
    import dns.rcode

    code = answer.rcode()
    if code == dns.rcode.NOERROR and not answer.answer:
        return NODATA
    return dns.rcode.to_text(code)


def addresses_of(vantage: AsksDns, resolvers: Iterable[IPAddress], name: str, tries: int = 1) -> list[IPAddress]:
    """The addresses of ``name``, from the first of ``resolvers`` that has any; IPv4 first."""
    import dns.rdatatype

    for resolver in resolvers:
        found: list[IPAddress] = []
        for kind in ("A", "AAAA"):
            answer = ask(vantage, resolver, name, kind, tries)
            if answer is None:
                break
            for rrset in answer.answer:
                if dns.rdatatype.to_text(rrset.rdtype) == kind:
                    found += [parse_address(r.address) for r in rrset]
        if found:
            return found
    return []


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
