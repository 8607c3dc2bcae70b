"""The changes that a plan makes, drafted for each of its hosts. Touches nothing."""

from __future__ import annotations

from fixed_anchor.change.change import Draft
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.plan import HostPlan
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.targets import target_of


def draft(site: Site, host_names: tuple[str, ...] = ()) -> tuple[list[Draft], dict[str, AnchorError]]:
    """Drafts for the hosts of the plan that are named, or for all that are reached from here.

    Beside them why there is none, by host: it does not answer, or what is planned for it cannot be written there. Where
    one host alone is asked for that is raised.
    """
    drafts: list[Draft] = []
    failed: dict[str, AnchorError] = {}
    chosen = site.hosts(host_names)
    site.look_at(chosen)
    for host in chosen:
        if host.name in site.unreached:
            failed[host.name] = site.unreached[host.name]
            continue
        try:
            made = _draft(site, host, bool(host_names) or len(chosen) == 1)
        except AnchorError as error:
            if len(chosen) == 1:
                raise
            failed[host.name] = error
            continue
        drafts += [made] if made is not None else []
    return drafts, failed


def _draft(site: Site, host: HostPlan, must_be_reached: bool) -> Draft | None:
    machine, survey = site.machine(host), site.survey(host)
    if machine is not None and survey is not None:
        return target_of(machine).draft(site.plan, host, survey)
    if not must_be_reached:
        return None
    raise InputError(
        f"{host.name} is not reached from here: none of its MACs is on this machine",
        file=site.plan.file,
        line=host.line,
        remedy="run this on the host itself, or say `reach: tree:DIR` in the plan",
    )
