"""The exact files that a plan makes of what is there. Touches nothing."""

from __future__ import annotations

import msgspec

from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import InputError, NotSupported
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.dialects import DIALECTS
from fixed_anchor.dialects.protocol import FileEdit, Steps, apply_edits
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import dialect_files
from fixed_anchor.workflow.site import Site


class HostDraft(msgspec.Struct, frozen=True):
    """The edits for one host, the steps that load them, and the configuration they declare."""

    host: str
    stack: str
    wanted: InterfaceConfig
    edits: tuple[FileEdit, ...]
    steps: Steps


def draft(site: Site, host_names: tuple[str, ...] = ()) -> list[HostDraft]:
    """Drafts for the hosts of the plan that are named, or for all that are reached from here."""
    drafts: list[HostDraft] = []
    chosen = site.hosts(host_names)
    for host in chosen:
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
        drafts.append(draft_host(site.plan, host, machine, survey))
    return drafts


def draft_host(plan: Plan, host: HostPlan, machine: Machine, survey: HostSurvey) -> HostDraft:
    """The draft of one host. Raises :class:`NotSupported` by name for what cannot be carried out yet."""
    if host.hostname is not None:
        raise NotSupported(
            f"setting the hostname of {host.name} is not supported yet",
            file=plan.file,
            line=host.line,
            remedy="remove `hostname:` from the plan",
        )
    touched = [i for i in host.interfaces if i.ipv4 != "untouched" or i.ipv6 != "untouched"]
    if len(touched) != 1:
        raise NotSupported(
            f"{host.name} has {len(touched)} interfaces to change; one at a time is supported yet",
            file=plan.file,
            line=host.line,
        )
    wanted = wanted_config(plan, touched[0])
    found = survey.interface(wanted.interface)
    if found is None:
        raise InputError(
            f"{host.name} has no interface {wanted.interface}",
            file=plan.file,
            line=touched[0].line,
            expected="one of " + ", ".join(i.name for i in survey.interfaces),
        )
    if survey.stack is None:
        raise NotSupported(
            f"no supported network stack declares {wanted.interface} on {host.name}",
            remedy="supported are: " + ", ".join(DIALECTS),
        )
    files = dialect_files(machine, survey.stack)
    dialect = DIALECTS[survey.stack]
    edits = dialect.rewrite(files, found.link, wanted)
    steps = dialect.steps(files, apply_edits(files, edits), found.link)
    return HostDraft(host.name, survey.stack, wanted, edits, steps)
