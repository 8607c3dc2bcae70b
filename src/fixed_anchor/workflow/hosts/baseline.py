"""Recording what is in force and answers before a change, from the very places from which it is judged afterwards."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from fixed_anchor.change import states
from fixed_anchor.core.baseline import Baseline, InterfaceBefore, baseline_of_facts, interface_before
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.times import utc
from fixed_anchor.core.verification import PASS, VerifyCheck
from fixed_anchor.engine import driver
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.kernel import carrier_changes
from fixed_anchor.observe.peers import peers
from fixed_anchor.workflow.network.asking import asking_before, on_link
from fixed_anchor.workflow.network.network_checks import Key, network_checks
from fixed_anchor.workflow.reached.site import own_vantage

#: The file of a change that has its baseline.
FILE = "before.json"
#: How often a check is made that does not pass: one lost packet excuses nothing.
TIMES = 3


def take_baseline(
    host: str,
    machine: Machine,
    survey: HostSurvey,
    coming: Mapping[str, InterfaceConfig | None],
    reachable: Mapping[str, tuple[str, ...]],
) -> Baseline:
    """The baseline of a change to the interfaces of ``coming``, which says what they shall become.

    ``reachable`` is what their users need. Asks gateways and resolvers of today, and those to come.
    """
    servers = survey.time_service.servers if survey.time_service is not None else None
    far = peers(machine, on_link(survey), servers or ())
    befores: list[InterfaceBefore] = []
    checks: list[VerifyCheck] = []
    answers: dict[str, str] = {}
    for name, config in coming.items():
        found = survey.interface(name)
        if found is None:
            continue
        before = interface_before(found, reachable.get(name, ()), carrier_changes(machine, name))
        befores.append(before)
        if not before.is_usable:
            continue
        # Whom the host talks to is known to nobody else yet.
        known = Baseline(peers=far)
        asking = asking_before(host, config, found, survey, own_vantage(machine, survey, name), before.reachable, known)
        made: dict[Key, VerifyCheck] = {}
        for _ in range(TIMES):
            passed = {key for key, check in made.items() if check.outcome == PASS}
            for check in network_checks(asking, passed=passed, answers=answers):
                made[check.code, check.target] = check
            if all(check.outcome == PASS or not check.required for check in made.values()):
                break
        checks += made.values()
    at = utc()
    return Baseline(tuple(befores), tuple(checks), answers, far, at)


def recorded(machine: Machine, number: str) -> Baseline | None:
    """The baseline of change ``number``. Of a runbook it is what its engine saw: addresses and gateways alone."""
    folder = driver.folder_of(machine.store, number)
    file, facts = machine.store.read(f"{folder}/{FILE}"), machine.store.read(f"{folder}/baseline/facts")
    try:
        if file is not None:
            return msgspec.json.decode(file.text, type=Baseline)
    except msgspec.DecodeError:
        pass
    return baseline_of_facts(facts.text) if facts is not None else None


def last_recorded(machine: Machine) -> Baseline | None:
    """The baseline of the last change of a machine that was kept, as far as it can be read."""
    if not machine.running or machine.is_afar:
        return None
    try:
        for number in reversed(driver.numbers(machine.store)):
            if driver.status(machine.store, number).state == states.CONFIRMED:
                return recorded(machine, number)
    except AnchorError:
        # Without root the changes are not to be read: then everything must answer.
        return None
    return None
