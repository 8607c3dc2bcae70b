"""What taking stock of a host found that speaks against a change, or that an administrator should know."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import msgspec

from fixed_anchor.core.findings import Finding, finding
from fixed_anchor.core.programs import TRIED, is_untried, too_old
from fixed_anchor.core.rules.asides import of_survey
from fixed_anchor.core.rules.case import InterfaceCase
from fixed_anchor.core.rules.declared import CODES
from fixed_anchor.core.survey import NOBODY, HostSurvey, SurveyedInterface

#: What re-creates interface files at boot, for the message.
_PROVISIONING = "/etc/cloud/cloud.cfg"

#: What a draft puts right by itself speaks against no change; `survey` still says it.
DRAFTED_AWAY = ("rewritten-at-boot", "file-too-open", "resolv-conf-not-ours")


def survey_findings(survey: HostSurvey) -> tuple[Finding, ...]:
    """All findings about a host as it is, whatever is planned for it."""
    found: list[Finding] = []
    for interface in survey.interfaces:
        found += _two_stacks(survey, interface)
        found += _still_asks(survey, interface)
        if interface.declared is not None:
            found += _regenerated(survey, interface)
        if interface.declared is not None or interface.takers:
            found += _kernel_only(survey, interface)
        found += _too_old(survey, interface)
    found += _rules(survey)
    found += _untried(survey)
    found += of_survey(survey.host, (*survey.asides, *survey.others), survey.unreadable)
    found += _too_open(survey)
    if survey.resolv_conf_by != NOBODY:
        found.append(
            finding(
                "resolv-conf-not-ours",
                f"/etc/resolv.conf is written by {survey.resolv_conf_by}",
                host=survey.host,
                seen_in=f"/etc/resolv.conf of {survey.host}",
            )
        )
    return tuple(found)


def stock_findings(case: InterfaceCase) -> Iterator[Finding]:
    """Those of them that matter to a change of the interface; not of addresses that the plan lets be."""
    if case.survey is None:
        return
    interface, left_alone = case.interface.name, tuple(map(str, case.interface.leave_alone))
    for found in survey_findings(case.survey):
        # What is judged by the files as they would be has rules of its own.
        if found.interface != interface or found.code in DRAFTED_AWAY or found.code in CODES:
            continue
        if found.code == "still-asks-dhcp" and "process" not in found.seen_in:
            continue
        if found.address in left_alone:
            continue
        yield msgspec.structs.replace(found, host=case.host.name)


def _two_stacks(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    for rival in interface.rivals:
        first = interface.declared_in[0]
        yield finding(
            "two-stacks",
            f"{interface.name} is claimed by {interface.stack} ({first}) and by {rival.stack} ({rival.declared_at})",
            host=survey.host,
            interface=interface.name,
            seen_in=str(rival.declared_at),
            remedy=f"remove it from {rival.declared_at.file}, or from {first.file}",
        )


def _still_asks(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    raised = partial(finding, "still-asks-dhcp", host=survey.host, interface=interface.name)
    declared = interface.declared
    if declared is None:
        return
    if declared.ipv4 == "dhcp" and declared.of_family(4):
        held = ", ".join(str(a) for a in declared.of_family(4))
        where = str(interface.dhcp_in or interface.declared_in[0])
        yield raised(
            f"{interface.name} holds {held}, and {where} turns DHCP on again beside it",
            seen_in=where,
            remedy=f"switch DHCP off in {where}; `fixed-anchor draft` does so",
        )
    for version, client in ((4, interface.client), (6, interface.client6)):
        if client is not None and declared.method(version) != "dhcp":
            yield raised(
                f"a lease client runs for {interface.name} although its files do not ask for one: {client}",
                seen_in=f"processes of {survey.host}",
                remedy="end it, and see what starts it",
            )


def _regenerated(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    for place in interface.regenerated:
        yield finding(
            "rewritten-at-boot",
            f"{place.file} is written again at boot by first-boot provisioning ({_PROVISIONING})",
            host=survey.host,
            interface=interface.name,
            seen_in=str(place),
            remedy="`fixed-anchor draft` switches that off, in the documented way",
        )


def _kernel_only(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    raised = partial(
        finding, "kernel-only-state", host=survey.host, interface=interface.name, seen_in=f"kernel of {survey.host}"
    )
    for address in interface.by_hand:
        yield raised(f"{address} is on {interface.name}, and no file declares it", address=address.ip)
    for route in interface.routes_by_hand:
        yield raised(f"the route {route} leaves by {interface.name}, and no file declares it")


def _too_old(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    """Of the programs those that carry the interface out, and what every change needs."""
    at_work = {interface.stack, interface.daemon, "iproute2"}
    at_work |= {"systemd"} if interface.daemon == "systemd-networkd" else set()
    for program in survey.programs:
        why = too_old(program)
        if why is not None and program.name in at_work:
            yield finding(
                "too-old", why, host=survey.host, interface=interface.name, seen_in=f"packages of {survey.host}"
            )


def _untried(survey: HostSurvey) -> Iterator[Finding]:
    newer = [program for program in survey.programs if is_untried(program)]
    if newer:
        tried = ", ".join(f"{p.shown} (up to {TRIED[p.name][-1]})" for p in newer)
        yield finding(
            "untried-release",
            f"newer than those with which conversions were tried: {tried}",
            host=survey.host,
            seen_in=f"packages of {survey.host}",
        )


def _rules(survey: HostSurvey) -> Iterator[Finding]:
    for rule in survey.rules_by_hand:
        said = " ".join(rule[rule.index("add") + 1 :])
        yield finding(
            "kernel-only-state",
            f"the routing rule `{said}` is in the kernel, and no stack made it",
            host=survey.host,
            seen_in=f"kernel of {survey.host}",
        )


def _too_open(survey: HostSurvey) -> Iterator[Finding]:
    for file in survey.open_files:
        yield finding(
            "file-too-open",
            f"{file.path} has the mode {file.mode:04o}; {file.stack} wants {file.wanted:04o}",
            host=survey.host,
            seen_in=f"{file.path}:1",
        )
