"""The changes that a plan makes, drafted for each of its hosts. Touches nothing."""

from __future__ import annotations

from fixed_anchor.change.change import Draft
from fixed_anchor.core.errors import InputError
from fixed_anchor.workflow.site import Site
from fixed_anchor.workflow.targets import target_of


def draft(site: Site, host_names: tuple[str, ...] = ()) -> list[Draft]:
    """Drafts for the hosts of the plan that are named, or for all that are reached from here."""
    drafts: list[Draft] = []
    chosen = site.hosts(host_names)
    site.look_at(chosen)
    for host in chosen:
        if host.name in site.unreached:
            continue
        machine, survey = site.machine(host), site.survey(host)
        if machine is None or survey is None:
            if len(chosen) == 1 or host_names:
                raise InputError(
                    f"{host.name} is not reached from here: none of its MACs is on this machine",
                    file=site.plan.file,
                    line=host.line,
                    remedy="run this on the host itself, or say `reach: tree:DIR` in the plan",
                )
            continue
        drafts.append(target_of(machine).draft(site.plan, host, survey))
    return drafts
