"""Whether what a host itself says is what is wanted: its kernel, its resolver, its files, its name."""

from __future__ import annotations

from collections.abc import Mapping

from fixed_anchor.core.baseline import Judge, kept_checks
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.core.verification import FAIL, PASS, VerifyCheck, files_check, skipped_check, state_checks
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.workflow.hosts.host_wide import beside


def state_of(
    host: str,
    machine: Machine,
    survey: HostSurvey,
    every: Mapping[str, InterfaceConfig],
    name: str,
    judge: Judge = Judge(),
    unread: str = "",
) -> list[VerifyCheck]:
    """The checks on what kernel, resolver and files of a host say of one interface.

    ``every`` is what is wanted of all of the host; ``judge`` knows what there was before. ``unread`` says why no
    file could be read.
    """
    wanted = every[name]
    found = survey.interface(wanted.interface)
    if found is None:
        missing = VerifyCheck(
            "interface-present",
            True,
            host,
            wanted.interface,
            machine.name,
            wanted.interface,
            "none",
            FAIL,
            "the machine has no such interface",
        )
        return [missing]
    checks: list[VerifyCheck] = []
    if survey.running:
        kernel = f"kernel of {machine.name}"
        checks += state_checks(host, wanted, found, kernel, beside(survey, every, name))
        before = next((i for i in judge.interfaces if i.interface == wanted.interface), None)
        if before is not None:
            checks += kept_checks(host, wanted, found, kernel, before)
    else:
        checks.append(skipped_check("kernel-state", host, wanted.interface, "only files are here, nothing runs"))
    if unread:
        checks.append(
            skipped_check("files-as-planned", host, wanted.interface, unread, "what a reboot loads is as planned")
        )
        return checks
    broken = next((b for b in survey.unreadable if b.concerns(name, found.stack)), None)
    checks.append(files_check(host, wanted, found, machine.name, broken))
    return checks


def hostname_checks(host: str, machine: Machine, survey: HostSurvey, hostname: str | None) -> tuple[VerifyCheck, ...]:
    """Whether the running hostname is the planned one: whole, or its first label."""
    if hostname is None or not survey.running:
        return ()
    there, planned = survey.hostname, hostname
    if survey.system:
        # Windows tells names in either case, and means the same.
        there, planned = there.lower(), planned.lower()
    good = there in (planned, planned.partition(".")[0])
    return (
        VerifyCheck(
            "hostname",
            True,
            host,
            "",
            f"kernel of {machine.name}",
            hostname,
            survey.hostname,
            PASS if good else FAIL,
            None if good else "the running hostname is another",
        ),
    )
