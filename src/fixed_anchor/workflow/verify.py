"""Proving that a plan is in force: kernel, files, gateway and resolvers."""

from __future__ import annotations

from fixed_anchor.core.baseline import Judge
from fixed_anchor.core.errors import AnchorError, NoAccess, Unreachable
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import VerifyCheck, VerifyResult, skipped_check
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.beside.neighbour_checks import seen_by
from fixed_anchor.workflow.beside.neighbours import neighbours_of
from fixed_anchor.workflow.beside.on_segment import vantage_for
from fixed_anchor.workflow.hosts.baseline import last_recorded
from fixed_anchor.workflow.hosts.host_wide import host_configs
from fixed_anchor.workflow.hosts.looks import Looks
from fixed_anchor.workflow.reached.at_once import at_once
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import target_of


def verify(site: Site, host_names: tuple[str, ...] = ()) -> VerifyResult:
    """Verifies the hosts of the plan that are named, or all.

    What did not answer before the last change there either is no fault of the plan.
    """
    chosen = site.hosts(host_names)
    # Once, before several threads want to know it.
    site.own_hosts()
    checks: list[VerifyCheck] = []
    for host, made in zip(
        chosen, at_once(chosen, lambda host: _checks_of(site, host), site.at_once, site.told), strict=True
    ):
        if isinstance(made, NoAccess) and len(chosen) > 1:
            site.unreached[host.name] = made
            checks += [skipped_check("reached", host.name, i.name, str(made)) for i in host.interfaces]
        elif isinstance(made, AnchorError):
            raise made
        else:
            checks += made
    # Once every host has been looked at: those are the neighbours.
    for seen in at_once(chosen, lambda host: _from_beside(site, host), site.at_once):
        checks += seen if not isinstance(seen, AnchorError) else []
    return VerifyResult(tuple(checks))


def _from_beside(site: Site, host: HostPlan) -> list[VerifyCheck]:
    """What a neighbour sees of a host; for the one on which this runs nobody is connected who was not anyway."""
    machine = site.machine(host)
    survey = site.survey(host) if machine is not None and machine.running else None
    if machine is None or survey is None:
        return []
    beside = neighbours_of(site, host, machine, survey, may_connect=machine is not site.here)
    return list(seen_by(beside, target_of(machine).wanted(site.plan, host, survey).values()))


def _checks_of(site: Site, host: HostPlan) -> list[VerifyCheck]:
    """The checks of one host. Raises :class:`NoAccess` where it is reached and does not answer."""
    survey, unread = _stock(site, host)
    machine = site.machine(host)
    judge = Judge(last_recorded(machine)) if machine is not None else Judge()
    wanted = (
        target_of(machine).wanted(site.plan, host, survey)
        if machine is not None and survey is not None
        else host_configs(site.plan, host, survey)
    )
    planned = {i.name: i for i in host.interfaces if i.name in wanted}
    if survey is None or machine is None:
        return [skipped_check("reached", host.name, name, "the host is not reached from here") for name in planned]
    reachable = {name: site.plan.segments[interface.segment].reachable for name, interface in planned.items()}
    every = {name: wanted[name] for name in planned}

    def vantage(_: HostSurvey, name: str) -> Vantage:
        return vantage_for(site, host, planned[name])

    looks = Looks(host.name, machine, every, host.hostname, judge, vantage, reachable, change=False)
    return list(looks.once(survey, at_last=True, unread=unread))


def _stock(site: Site, host: HostPlan) -> tuple[HostSurvey | None, str]:
    """The survey of a host; for somebody who may not read its files what its kernel says, and why no more."""
    try:
        return site.survey(host), ""
    except Unreachable:
        raise
    except NoAccess as error:
        survey = site.survey_of_kernel(host)
        if survey is None:
            raise
        return survey, str(error)
