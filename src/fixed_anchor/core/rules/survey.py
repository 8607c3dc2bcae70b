"""What taking stock of a host found that speaks against a change, or that an administrator should know."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import msgspec

from fixed_anchor.core.findings import BLOCKER, NOTE, WARNING, Finding, FindingKind, finding
from fixed_anchor.core.programs import TRIED, is_untried, too_old
from fixed_anchor.core.rules.asides import of_survey
from fixed_anchor.core.rules.case import InterfaceCase
from fixed_anchor.core.rules.declared import CODES
from fixed_anchor.core.survey import NOBODY, HostSurvey, SurveyedInterface

TOO_OLD = FindingKind(
    "too-old",
    "host",
    BLOCKER,
    "a program of the host is too old for a way back that can be promised",
    "What a change needs of it, there or back, it does not have.",
    "Convert this host by hand, or bring it up to date first.",
)
UNTRIED_RELEASE = FindingKind(
    "untried-release",
    "host",
    NOTE,
    "a program of the host is newer than all with which this was tried",
    "It is taken to understand what the newest one does that was tried; if not, the change is rolled back.",
    "Read the draft, and convert one such host before the others.",
)
KERNEL_ONLY_STATE = FindingKind(
    "kernel-only-state",
    "host",
    WARNING,
    "the kernel holds state that no file declares",
    "Addresses, routes or rules set by hand may be dropped when the stack loads its files.",
    "Declare it, list it under `leave_alone`, or accept its loss.",
)
TWO_STACKS = FindingKind(
    "two-stacks",
    "host",
    BLOCKER,
    "two network stacks claim the interface",
    "Each undoes what the other does, often only at the next boot.",
    "Take the interface away from one of them.",
)
REWRITTEN_AT_BOOT = FindingKind(
    "rewritten-at-boot",
    "host",
    BLOCKER,
    "the file is regenerated at boot",
    "The change would be gone after the next boot.",
    "Let `draft` switch the regeneration off, in the documented way.",
)
STILL_ASKS_DHCP = FindingKind(
    "still-asks-dhcp",
    "host",
    BLOCKER,
    "DHCP would still be asked",
    "A second file or a running client would bring the lease back beside the fixed address.",
    "Switch it off in the file named.",
)
FILE_TOO_OPEN = FindingKind(
    "file-too-open",
    "host",
    WARNING,
    "a file is open to more users than it should be",
    "Interface files may hold secrets; some stacks refuse to read them.",
    "`draft` tightens it.",
)
RESOLV_CONF_NOT_OURS = FindingKind(
    "resolv-conf-not-ours",
    "host",
    WARNING,
    "/etc/resolv.conf is written by somebody else",
    "Editing it would not last.",
    "The resolvers are set where its owner takes them from.",
)

#: What re-creates interface files at boot, for the message.
_PROVISIONING = "/etc/cloud/cloud.cfg"

#: What a draft puts right by itself speaks against no change; `survey` still says it.
DRAFTED_AWAY = (REWRITTEN_AT_BOOT.code, FILE_TOO_OPEN.code, RESOLV_CONF_NOT_OURS.code)


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
                RESOLV_CONF_NOT_OURS,
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
        if found.code == STILL_ASKS_DHCP.code and "process" not in found.seen_in:
            continue
        if found.address in left_alone:
            continue
        yield msgspec.structs.replace(found, host=case.host.name)


def _two_stacks(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    for rival in interface.rivals:
        first = interface.declared_in[0]
        yield finding(
            TWO_STACKS,
            f"{interface.name} is claimed by {interface.stack} ({first}) and by {rival.stack} ({rival.declared_at})",
            host=survey.host,
            interface=interface.name,
            seen_in=str(rival.declared_at),
            remedy=f"remove it from {rival.declared_at.file}, or from {first.file}",
        )


def _still_asks(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    raised = partial(finding, STILL_ASKS_DHCP, host=survey.host, interface=interface.name)
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
            REWRITTEN_AT_BOOT,
            f"{place.file} is written again at boot by first-boot provisioning ({_PROVISIONING})",
            host=survey.host,
            interface=interface.name,
            seen_in=str(place),
            remedy="`fixed-anchor draft` switches that off, in the documented way",
        )


def _kernel_only(survey: HostSurvey, interface: SurveyedInterface) -> Iterator[Finding]:
    raised = partial(
        finding, KERNEL_ONLY_STATE, host=survey.host, interface=interface.name, seen_in=f"kernel of {survey.host}"
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
                TOO_OLD, why, host=survey.host, interface=interface.name, seen_in=f"packages of {survey.host}"
            )


def _untried(survey: HostSurvey) -> Iterator[Finding]:
    newer = [program for program in survey.programs if is_untried(program)]
    if newer:
        tried = ", ".join(f"{p.shown} (up to {TRIED[p.name][-1]})" for p in newer)
        yield finding(
            UNTRIED_RELEASE,
            f"newer than those with which conversions were tried: {tried}",
            host=survey.host,
            seen_in=f"packages of {survey.host}",
        )


def _rules(survey: HostSurvey) -> Iterator[Finding]:
    for rule in survey.rules_by_hand:
        said = " ".join(rule[rule.index("add") + 1 :])
        yield finding(
            KERNEL_ONLY_STATE,
            f"the routing rule `{said}` is in the kernel, and no stack made it",
            host=survey.host,
            seen_in=f"kernel of {survey.host}",
        )


def _too_open(survey: HostSurvey) -> Iterator[Finding]:
    for file in survey.open_files:
        yield finding(
            FILE_TOO_OPEN,
            f"{file.path} has the mode {file.mode:04o}; {file.stack} wants {file.wanted:04o}",
            host=survey.host,
            seen_in=f"{file.path}:1",
        )
