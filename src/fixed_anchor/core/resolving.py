"""Whether a resolver is of use: how it answers the questions that its host will have, then and now."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Mapping

import msgspec

from fixed_anchor.core.addresses import IPAddress

#: How a question is answered: by the name of its response code (RFC 1035, section 4.1.1), ``NODATA`` where a name has
#: no such record (RFC 2308, section 2.2), or not at all.
NOERROR, NODATA, NXDOMAIN = "NOERROR", "NODATA", "NXDOMAIN"
SILENT, ONLY_TCP = "no answer", "only over TCP"
_USABLE = frozenset({NOERROR, NODATA, NXDOMAIN})

#: Networks whose reverse zones a resolver answers by itself, so that its answer proves nothing (RFC 6303, section 4,
#: RFC 7793).
_ANSWERED_BY_ITSELF = tuple(
    ipaddress.ip_network(text)
    for text in (
        *("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12"),
        *("192.0.2.0/24", "192.168.0.0/16", "198.51.100.0/24", "203.0.113.0/24", "255.255.255.255/32"),
        *("::/128", "::1/128", "fc00::/7", "fe80::/10", "2001:db8::/32"),
    )
)


class Question(msgspec.Struct, frozen=True, order=True):
    """A question to a resolver: a name without its last dot (``.`` is the root), and a type of record.

    ``is_needed`` marks names that users need: they must resolve wherever they did. ``is_own`` marks the host's own
    names and addresses: what is known of those may come and go with a lease, and so with the change itself.
    """

    name: str
    kind: str
    is_needed: bool = False
    is_own: bool = False

    def __str__(self) -> str:
        return f"{self.name} {self.kind}"

    @property
    def proves(self) -> bool:
        """Whether NXDOMAIN is an answer that somebody looked up."""
        address = _reversed(self.name)
        return address is None or not any(address.version == n.version and address in n for n in _ANSWERED_BY_ITSELF)


class Usefulness(msgspec.Struct, frozen=True):
    """Whether a resolver is of use, in words what it said, and why not."""

    good: bool
    said: str
    why: str | None = None


def questions(
    needed: Iterable[str], own_names: Iterable[str], own: Iterable[IPAddress], search: Iterable[str]
) -> tuple[Question, ...]:
    """What a resolver of a host is asked: names its users need, its own names and addresses, its domain, the root."""
    asked = [Question(name.rstrip(".").lower(), "A", is_needed=True) for name in needed]
    asked += [Question(name.rstrip(".").lower(), "A", is_own=True) for name in own_names if "." in name.rstrip(".")]
    asked += [Question(address.reverse_pointer, "PTR", is_own=True) for address in own]
    asked += [Question(domain.lstrip("~").rstrip("."), "SOA") for domain in search if domain.strip("~.")]
    by_name = {(q.name, q.kind): q for q in reversed([*asked, Question(".", "NS")])}
    return tuple(reversed(by_name.values()))


def usefulness(
    resolver: IPAddress,
    answers: Mapping[Question, str],
    before: Mapping[str, str],
    resolved: frozenset[str] = frozenset(),
    by_own: bool = True,
) -> Usefulness:
    """Judges the answers of a resolver.

    ``before`` are the answers of this very resolver before the change, by ``NAME KIND``; ``resolved`` the questions
    to which any resolver of the host had an address. One that refuses what it answered before goes by the address
    that asks. Before a change, ``by_own`` is false: then an answer about the host itself is not enough.
    """
    words = "; ".join(f"{question}: {word}" for question, word in answers.items())
    values = list(answers.values())
    if not values or all(word == SILENT for word in values):
        return Usefulness(False, SILENT, f"{resolver} gave no usable answer")
    if all(word in (SILENT, ONLY_TCP) for word in values):
        why = f"{resolver} answers over TCP only, and programs ask over UDP first"
        return Usefulness(False, "an answer over TCP only", why)
    for question, word in answers.items():
        then = before.get(str(question)) if not question.is_own else None
        if then in _USABLE and word not in _USABLE:
            return Usefulness(False, words, f"{resolver} answered {question} before the change, and now {_now(word)}")
        had = then == NOERROR or str(question) in resolved
        if question.is_needed and had and word != NOERROR:
            why = f"{question.name} was resolved before the change, and {resolver} now says {word}"
            return Usefulness(False, words, why)
    for proof in (NOERROR, NODATA, NXDOMAIN):
        for question, word in answers.items():
            if word == proof and (word != NXDOMAIN or question.proves) and (by_own or not question.is_own):
                return Usefulness(True, f"{question}: {word}")
    return Usefulness(False, words, f"{resolver} gave no usable answer")


def _reversed(name: str) -> IPAddress | None:
    """The address whose reverse name it is (RFC 1035, section 3.5; RFC 3596, section 2.5), or ``None``."""
    labels = name.split(".")[:-2][::-1]
    try:
        if name.endswith(".in-addr.arpa"):
            return ipaddress.IPv4Address(".".join(labels))
        if name.endswith(".ip6.arpa"):
            return ipaddress.IPv6Address(bytes.fromhex("".join(labels)))
    except ValueError:
        pass
    return None


def _now(word: str) -> str:
    if word == SILENT:
        return "is silent"
    return "answers over TCP only" if word == ONLY_TCP else f"says {word}"
