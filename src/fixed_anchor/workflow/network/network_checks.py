"""The checks over the network: gateway, resolvers, and what users need, from one interface."""

from __future__ import annotations

import time
from collections.abc import Collection

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import NoAccess
from fixed_anchor.core.reaching import ACCEPTS, ANSWERS, REFUSES, Reachable, is_beyond, parse_reachable, same_class
from fixed_anchor.core.resolving import NOERROR, Question, questions, usefulness
from fixed_anchor.core.verification import PASS, VerifyCheck
from fixed_anchor.packets.arp_probes import AFTERWARDS
from fixed_anchor.vantages import across_router
from fixed_anchor.workflow.network import names
from fixed_anchor.workflow.network.asking import Asking
from fixed_anchor.workflow.network.gateway_checks import CONNECT_TIMEOUT, Answered, answers_code, gateway_checks
from fixed_anchor.workflow.network.look import Looked, look

#: Which check, and of what.
Key = tuple[str, str]


def network_checks(
    asking: Asking, looked: Looked | None = None, passed: Collection[Key] = (), answers: dict[str, str] | None = None
) -> list[VerifyCheck]:
    """All of them, but those that have ``passed`` before.

    ``looked`` has the gateways' neighbours, where somebody has asked for them already. ``answers`` is filled with
    what the resolvers said, by ``RESOLVER NAME KIND``.
    """
    if asking.vantage.why_not is not None:
        return list(_nothing_asked(asking, asking.vantage.why_not))
    checks: list[VerifyCheck] = []
    for resolver in asking.resolvers:
        if ("resolver-answers", str(resolver)) not in passed:
            checks.append(_resolver(asking, resolver, answers if answers is not None else {}))
    gateways = [g for g in asking.gateways if not _has_passed(asking, g, passed)]
    answered: list[Answered] = []
    for text in asking.reachable:
        # What is reached may be what proves a gateway.
        if gateways or ("reachable", text) not in passed:
            checks.append(_reachable(asking, parse_reachable(text), answered))
    if gateways:
        if looked is None or any(g not in looked.answers for g in gateways):
            looked = look_for_gateways(asking)
        for gateway in gateways:
            try:
                checks += gateway_checks(asking, gateway, looked, answered)
            except NoAccess as error:
                # The link went down meanwhile: a guard that rolls back takes no notice of who looks.
                expected = f"something beyond {gateway} answers"
                checks.append(asking.not_made("gateway-forwards", str(gateway), expected, str(error)))
    return checks


def _has_passed(asking: Asking, gateway: IPAddress, passed: Collection[Key]) -> bool:
    """Whether every required check of a gateway has."""
    codes = ["gateway-forwards", *([answers_code(gateway)] if asking.vantage.has_neighbours else [])]
    return all((code, str(gateway)) in passed for code in codes)


def look_for_gateways(asking: Asking) -> Looked:
    """Who answers for the gateways; where they cannot be asked for, why."""
    if not asking.vantage.has_neighbours:
        return Looked({}, {})
    try:
        return look(asking.vantage, asking.gateways, pattern=AFTERWARDS, in_use=asking.gateways)
    except NoAccess as error:
        return Looked({}, dict.fromkeys(asking.gateways, str(error)))


def _nothing_asked(asking: Asking, why: str) -> list[VerifyCheck]:
    made: list[VerifyCheck] = []
    for gateway in asking.gateways:
        made.append(asking.not_made(answers_code(gateway), str(gateway), str(gateway), why))
    made += [asking.not_made("resolver-answers", str(r), str(r), why) for r in asking.resolvers]
    return made + [asking.not_made("reachable", text, text, why) for text in asking.reachable]


def _resolver(asking: Asking, resolver: IPAddress, answers: dict[str, str]) -> VerifyCheck:
    begun = time.monotonic()
    before = {k.partition(" ")[2]: word for k, word in asking.judge.answers.items() if k.startswith(f"{resolver} ")}
    resolved = frozenset(k.partition(" ")[2] for k, word in asking.judge.answers.items() if word == NOERROR)
    needed = [n.host for n in map(parse_reachable, asking.reachable) if n.address is None]
    asked = questions(needed, asking.names, asking.own, asking.search)
    # What it answered before is asked again, whatever the questions are by now.
    known = {str(q) for q in asked}
    earlier = (text.rpartition(" ") for text in before if text not in known)
    asked += tuple(Question(name, kind) for name, _, kind in earlier)
    answer = names.answers(asking.vantage, resolver, asked, asking.tries)
    answers.update({f"{resolver} {question}": word for question, word in answer.items() if not question.is_own})
    judged = usefulness(resolver, answer, before, resolved, by_own=not asking.is_before)
    return asking.check("resolver-answers", str(resolver), str(resolver), judged.said, judged.why, begun)


def _reachable(asking: Asking, needed: Reachable, answered: list[Answered]) -> VerifyCheck:
    """Whether what users need is reached, from the interface's own address; who answers is put to ``answered``."""
    begun = time.monotonic()
    addresses = [needed.address] if needed.address is not None else []
    if not addresses:
        addresses = names.addresses_of(asking.vantage, asking.looks_up_at, needed.host, asking.tries)
        if not addresses:
            why = f"no resolver has an address of {needed.host}"
            return asking.check("reachable", needed.text, needed.text, "no address", why, begun)
    answer = ""
    usable = [a for a in addresses if a.version in asking.sources or not asking.sources]
    for address in usable[:2] or addresses[:1]:
        answer = _reach(asking, needed, address)
        if answer in ANSWERS or answer.startswith(("status ", ACCEPTS)):
            port = f" port {needed.port}" if needed.port is not None else ""
            if is_beyond(address, asking.on_link):
                answered.append(Answered(address, f"{needed.host}{port} {answer}"))
        if _is_reached(asking, needed, answer):
            return asking.check("reachable", needed.text, needed.text, answer, None, begun)
    return asking.check("reachable", needed.text, needed.text, answer, _why_not(needed, answer), begun)


def _reach(asking: Asking, needed: Reachable, address: IPAddress) -> str:
    source = asking.sources.get(address.version)
    if needed.url:
        return asking.vantage.fetch(address, needed.url, source, CONNECT_TIMEOUT)
    if needed.port is not None:
        return asking.vantage.connect(address, needed.port, source, CONNECT_TIMEOUT)
    answer, _ = asking.vantage.across_router(address)
    return ACCEPTS if across_router.anybody(answer) else "no answer"


def _is_reached(asking: Asking, needed: Reachable, answer: str) -> bool:
    if not needed.url:
        return answer == ACCEPTS
    baselines = (asking.judge.before, asking.judge.undone)
    earlier = [b.check("reachable", asking.interface, needed.text) for b in baselines if b is not None]
    before = [c.observed for c in earlier if c is not None and c.outcome == PASS]
    if before:
        return any(same_class(then, answer) for then in before)
    return answer.startswith("status ") and answer.removeprefix("status ")[0] in "1234"


def _why_not(needed: Reachable, answer: str) -> str:
    if answer == REFUSES:
        return f"{needed.host} is there, but nobody takes connections to port {needed.port}"
    if answer.startswith("status "):
        return "the server answers otherwise than it did, or with an error of its own"
    return f"{needed.host} was not reached"
