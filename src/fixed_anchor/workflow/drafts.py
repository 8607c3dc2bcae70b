"""The changes that a plan makes, drafted for each of its hosts. Touches nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from fixed_anchor.change.change import Draft
from fixed_anchor.core.addresses import AddressRange, IPAddress
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.facts import Facts
from fixed_anchor.core.findings import Judgement
from fixed_anchor.core.foreseen import Foreseen
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.workflow.check import check
from fixed_anchor.workflow.gather import gather
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import HostTarget, target_of


def _nothing(target: HostTarget, survey: HostSurvey) -> frozenset[IPAddress]:
    return frozenset()


def drafts_of(
    site: Site,
    hosts: Iterable[HostPlan],
    hold: Callable[[HostTarget, HostSurvey], frozenset[IPAddress]] = _nothing,
) -> dict[str, Draft | AnchorError]:
    """The draft of each host that is reached, or why there is none: what is planned cannot be written there.

    ``hold`` tells which addresses of today stay until the decision.
    """
    made: dict[str, Draft | AnchorError] = {}
    for host in hosts:
        machine, survey = site.machine(host), site.survey(host)
        if machine is None or survey is None:
            continue
        try:
            target = target_of(machine)
            made[host.name] = target.draft(site.plan, host, survey, hold(target, survey))
        except AnchorError as error:
            made[host.name] = error
    return made


def foreseen_of(site: Site, drafts: Mapping[str, Draft | AnchorError]) -> dict[str, Foreseen]:
    """What each draft would declare on its host."""
    found: dict[str, Foreseen] = {}
    for name, draft in drafts.items():
        host = site.plan.hosts[name]
        machine, survey = site.machine(host), site.survey(host)
        if machine is not None and survey is not None:
            found[name] = target_of(machine).foresee(site.plan, host, survey, draft)
    return found


def judged(
    site: Site, host_names: tuple[str, ...], pools: tuple[AddressRange, ...], wire: bool = True
) -> tuple[Facts, Judgement]:
    """What there is of the hosts that are named, or of all, and what it amounts to for what each would become.

    ``pools`` are DHCP pools told on the command line; without ``wire`` nobody looks there.
    """
    facts = gather(site, host_names, pools, wire=wire)
    return facts, check(facts, foreseen_of(site, drafts_of(site, facts.hosts)))


def draft(site: Site, host_names: tuple[str, ...] = ()) -> tuple[list[Draft], dict[str, AnchorError]]:
    """Drafts for the hosts of the plan that are named, or for all that are reached from here.

    Beside them why there is none, by host: it does not answer, or what is planned for it cannot be written there. Where
    one host alone is asked for that is raised.
    """
    chosen = site.hosts(host_names)
    site.look_at(chosen)
    found = drafts_of(site, chosen)
    drafts = [made for made in found.values() if not isinstance(made, AnchorError)]
    failed: dict[str, AnchorError] = {
        name: site.unreached[name] for name in (h.name for h in chosen) if name in site.unreached
    }
    failed |= {name: made for name, made in found.items() if isinstance(made, AnchorError)}
    if host_names or len(chosen) == 1:
        failed |= {h.name: _not_reached(site, h) for h in chosen if h.name not in found and h.name not in failed}
    if failed and len(chosen) == 1:
        raise next(iter(failed.values()))
    return drafts, {host.name: failed[host.name] for host in chosen if host.name in failed}


def _not_reached(site: Site, host: HostPlan) -> InputError:
    return InputError(
        f"{host.name} is not reached from here: none of its MACs is on this machine",
        file=site.plan.file,
        line=host.line,
        remedy="run this on the host itself, or say `reach: tree:DIR` in the plan",
    )
