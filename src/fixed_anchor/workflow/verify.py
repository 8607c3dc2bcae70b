"""Proving that a plan is in force: kernel, files, gateway and resolvers."""

from __future__ import annotations

import time
from collections.abc import Mapping
from functools import partial

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import AnchorError, InputError, NoAccess
from fixed_anchor.core.survey import HostSurvey, SurveyedInterface
from fixed_anchor.core.verification import (
    FAIL,
    PASS,
    SKIPPED,
    VerifyCheck,
    VerifyResult,
    files_check,
    skipped_check,
    state_checks,
)
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.packets.echoes import Echoes
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow import names
from fixed_anchor.workflow.host_wide import beside, host_configs
from fixed_anchor.workflow.look import look
from fixed_anchor.workflow.site import Site, own_vantage
from fixed_anchor.workflow.sole_owner import announced_checks, sole_owner_checks


def verify(site: Site, host_names: tuple[str, ...] = ()) -> VerifyResult:
    """Verifies the hosts of the plan that are named, or all."""
    checks: list[VerifyCheck] = []
    for host in site.hosts(host_names):
        survey = site.survey(host)
        machine = site.machine(host)
        wanted = host_configs(site.plan, host, survey)
        for interface in host.interfaces:
            if interface.name not in wanted:
                continue
            if survey is None or machine is None:
                checks.append(skipped_check("reached", host.name, interface.name, "the host is not reached from here"))
                continue
            vantage = site.vantage(host, interface.name, site.plan.segments[interface.segment].subnets)
            checks += verify_interface(host.name, machine, survey, wanted, interface.name, vantage)
        if survey is not None and machine is not None:
            checks += hostname_checks(host.name, machine, survey, host.hostname)
    return VerifyResult(tuple(checks))


def verify_interface(
    host: str,
    machine: Machine,
    survey: HostSurvey,
    every: Mapping[str, InterfaceConfig],
    name: str,
    vantage: Vantage,
    announcing: bool = False,
) -> list[VerifyCheck]:
    """All checks of one interface against what is wanted of it; ``every`` is what is wanted of all of the host.

    ``announcing`` tells the neighbours of addresses that nobody else has.
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
        checks += state_checks(host, wanted, found, f"kernel of {machine.name}", beside(survey, every, name))
    else:
        checks.append(skipped_check("kernel-state", host, wanted.interface, "only files are here, nothing runs"))
    broken = next((b for b in survey.unreadable if b.concerns(name, found.stack)), None)
    checks.append(files_check(host, wanted, found, machine.name, broken))
    if survey.running:
        owned, sole = sole_owner_checks(host, wanted, survey, vantage)
        checks += owned
        if announcing:
            checks += announced_checks(host, machine, wanted, survey, vantage, sole)
        checks += _gateway_checks(host, wanted, found, vantage)
        checks += _resolver_checks(host, wanted, found, vantage)
    return checks


def _gateway_checks(
    host: str, wanted: InterfaceConfig, found: SurveyedInterface, vantage: Vantage
) -> list[VerifyCheck]:
    checks: list[VerifyCheck] = []
    gateways = [r.next_hop for version in (4, 6) for r in wanted.default_routes(version)]
    if wanted.ipv4 == "dhcp":
        gateways += [r.next_hop for r in found.default_routes(4)]
    for gateway in gateways:
        if gateway is None:
            continue
        # "ARP" is what administrators call it; for IPv6 it is neighbour discovery that is asked.
        code = "gateway-answers-arp" if gateway.version == 4 else "gateway-answers-nd"
        skipped = partial(skipped_check, code, host, wanted.interface, expected=str(gateway))
        if vantage.why_not is not None:
            checks.append(skipped(vantage.why_not))
            continue
        begun = time.monotonic()
        try:
            looked = look(vantage, [gateway], quickly=True)
        except NoAccess as error:
            checks.append(skipped(str(error)))
            continue
        answer = looked.answers.get(gateway)
        if answer is None:
            checks.append(skipped(looked.why_not.get(gateway, "not asked")))
            continue
        macs = [h.mac for h in answer.holders]
        checks.append(
            VerifyCheck(
                code,
                True,
                host,
                wanted.interface,
                vantage.name,
                str(gateway),
                f"{gateway} is at {', '.join(macs)}" if macs else "no answer",
                PASS if macs else FAIL,
                None if macs else f"nobody answered {answer.asked}",
                round(time.monotonic() - begun, 3),
            )
        )
        checks.append(_echo_check(host, wanted, found, vantage, gateway, macs))
    return checks


def _echo_check(
    host: str,
    wanted: InterfaceConfig,
    found: SurveyedInterface,
    vantage: Vantage,
    gateway: IPAddress,
    macs: list[str],
) -> VerifyCheck:
    # Not required: a gateway that drops pings forwards as well as any other.
    held = (a.address.ip for a in found.addresses if a.address.version == gateway.version)
    source = next((a for a in held if not a.is_link_local or gateway.is_link_local), None)
    why = None
    if not macs:
        why = "the gateway's MAC is not known"
    elif source is None:
        why = f"the interface has no IPv{gateway.version} address"
    elif vantage.frames is None:
        why = f"{vantage.name} sends no frames"
    if why is not None or source is None or vantage.frames is None:
        return VerifyCheck(
            "gateway-answers-echo", False, host, wanted.interface, vantage.name, str(gateway), "not asked", SKIPPED, why
        )
    begun = time.monotonic()
    echoes = Echoes(vantage.frames.mac, source, macs[0], gateway)
    vantage.frames.converse(echoes)
    return VerifyCheck(
        "gateway-answers-echo",
        False,
        host,
        wanted.interface,
        vantage.name,
        str(gateway),
        "answers" if echoes.answered else "no answer",
        PASS if echoes.answered else FAIL,
        None if echoes.answered else "it does not answer pings; some gateways never do",
        round(time.monotonic() - begun, 3),
    )


def _resolver_checks(
    host: str, wanted: InterfaceConfig, found: SurveyedInterface, vantage: Vantage
) -> list[VerifyCheck]:
    resolvers = wanted.resolvers or (found.resolvers if wanted.ipv4 == "dhcp" else ())
    search = wanted.search or found.search
    address = next((a.address.ip for a in found.addresses if a.origin != "link-local"), None)
    checks = []
    for resolver in resolvers:
        if vantage.why_not is not None:
            checks.append(skipped_check("resolver-answers", host, wanted.interface, vantage.why_not, str(resolver)))
        else:
            checks.append(_resolver_check(host, wanted.interface, vantage, resolver, search, address))
    return checks


def _resolver_check(
    host: str, interface: str, vantage: Vantage, resolver: IPAddress, search: tuple[str, ...], own: IPAddress | None
) -> VerifyCheck:
    begun = time.monotonic()
    good, said = names.useful(vantage, resolver, search, own)
    return VerifyCheck(
        "resolver-answers",
        True,
        host,
        interface,
        vantage.name,
        str(resolver),
        said[-1] if good else ", ".join(said),
        PASS if good else FAIL,
        None if good else f"{resolver} gave no usable answer",
        round(time.monotonic() - begun, 3),
    )


def verify_when_settled(
    host: str,
    machine: Machine,
    wanted: tuple[InterfaceConfig, ...],
    patience: float,
    hostname: str | None = None,
) -> VerifyResult:
    """Verifies interfaces, each from itself, until all is as wanted, for at most ``patience`` seconds.

    A stack answers before it is done (addresses appear a moment later), so a first failure proves nothing.
    Tells the neighbours where the addresses are now.
    """
    until = time.monotonic() + patience
    every = {config.interface: config for config in wanted}
    while True:
        try:
            survey = take_stock(machine, beside=False)
            if time.monotonic() >= until or all(_settled(host, survey, every, n) for n in every):
                checks: list[VerifyCheck] = []
                for name in every:
                    vantage = own_vantage(machine, survey, name)
                    checks += verify_interface(host, machine, survey, every, name, vantage, announcing=True)
                return VerifyResult((*checks, *hostname_checks(host, machine, survey, hostname)))
        except InputError as error:
            if time.monotonic() >= until:
                return VerifyResult((_failed_look(host, wanted[0].interface if wanted else "", error),))
        time.sleep(0.2)


def _settled(host: str, survey: HostSurvey, every: Mapping[str, InterfaceConfig], name: str) -> bool:
    found = survey.interface(name)
    around = beside(survey, every, name)
    return found is not None and all(
        c.outcome == PASS or not c.required for c in state_checks(host, every[name], found, survey.host, around)
    )


def hostname_checks(host: str, machine: Machine, survey: HostSurvey, hostname: str | None) -> tuple[VerifyCheck, ...]:
    """Whether the running hostname is the planned one: whole, or its first label."""
    if hostname is None or not survey.running:
        return ()
    good = survey.hostname in (hostname, hostname.partition(".")[0])
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


def _failed_look(host: str, interface: str, error: AnchorError) -> VerifyCheck:
    return VerifyCheck(
        "files-as-planned", True, host, interface, "here", "readable files", str(error), FAIL, "a file is broken"
    )
