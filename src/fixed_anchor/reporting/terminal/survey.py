"""The view of a survey."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from fixed_anchor.core.aside import (
    AGENT,
    CLUSTER,
    NETWORK_DISK,
    POLICY_RESOLVERS,
    POLICY_SEARCH,
    ROLE,
    TYPED_ROUTES,
)
from fixed_anchor.core.errors import AnchorError, printable
from fixed_anchor.core.rules.survey import survey_findings
from fixed_anchor.core.survey import Announced, HostSurvey, SurveyedInterface, Taker
from fixed_anchor.reporting.terminal.findings import show_findings
from fixed_anchor.reporting.terminal.paper import put, put_rows, put_table, styled

NO_STACK = "none that is supported"
#: What is said of a whole machine, by the kind of the aside.
_OF_MACHINE = {
    ROLE: "{text}",
    CLUSTER: "{text}",
    AGENT: "an agent of a cloud runs here ({text})",
    POLICY_RESOLVERS: "a group policy sets the DNS servers {text}",
    POLICY_SEARCH: "a group policy sets the DNS suffix search list {text}",
    NETWORK_DISK: "the disk that the system starts from comes over the network ({text})",
    TYPED_ROUTES: "routes that were typed to stay (route -p): {text}",
}
_ORIGINS = {"dhcp": "leased", "fixed": "fixed", "link-local": "link-local", "slaac": "from router advertisements"}


def lifetime(seconds: int | None) -> str:
    """A lifetime in words: ``2 h 10 min left``."""
    if seconds is None:
        return "for ever"
    if seconds >= 7200:
        return f"{seconds // 3600} h {seconds % 3600 // 60} min left"
    return f"{seconds // 60} min left" if seconds >= 120 else f"{seconds} s left"


def show_survey(out: Console, survey: HostSurvey) -> None:
    """A survey: the stack, every interface, and the findings."""
    title = styled(survey.host, "bold")
    title.append(
        f"   {survey.system or f'network stack: {survey.stack or NO_STACK}'}"
        + ("" if survey.running else "   (files only, nothing running)"),
        style="default",
    )
    put(out, title)
    for evidence in survey.stack_evidence:
        put(out, evidence if survey.system else f"because {evidence}", indent=2, hang=4, style="dim")
    if survey.programs:
        put(out, "with " + ", ".join(p.shown for p in survey.programs), indent=2, hang=4, style="dim")
    for aside in survey.others:
        if aside.kind in _OF_MACHINE:
            put(out, _OF_MACHINE[aside.kind].format(text=printable(aside.text)), indent=2, hang=4)
    for interface in survey.interfaces:
        out.print()
        _show_interface(out, interface, survey)
    findings = survey_findings(survey)
    if findings:
        out.print()
        show_findings(out, findings)


def show_surveys(out: Console, surveys: Sequence[tuple[str, HostSurvey | AnchorError]]) -> None:
    """Several surveys as a table with a line for each interface; below each host its worst findings, or why it is
    not known."""
    rows: list[list[str | Text]] = []
    under: list[list[str]] = []
    for name, survey in surveys:
        if isinstance(survey, AnchorError):
            rows.append([styled(name, "bold"), "", styled("not known", "bold yellow"), "", "", ""])
            under.append([str(survey)])
            continue
        findings = [f for f in survey_findings(survey) if f.stops]
        interfaces = [i for i in survey.interfaces if i.addresses or i.declared or i.takers] or survey.interfaces[:1]
        for number, interface in enumerate(interfaces):
            last = number == len(interfaces) - 1
            rows.append([styled(name if number == 0 else "", "bold"), *_interface_cells(survey, interface)])
            under.append([f"{f.code}: {f.message}" for f in findings] if last else [])
        if not interfaces:
            # Of a machine of another system that is told which keeps everything else from being known.
            known: list[str | Text] = (
                ["", styled("not known", "bold yellow")] if survey.system else ["no interface", ""]
            )
            rows.append([styled(name, "bold"), *known, "", "", ""])
            under.append(list(survey.stack_evidence) if survey.system else [])
    if rows:
        put_table(out, ["host", "interface", "address", "how", "gateway", "stack"], rows, under=under)


def _interface_cells(survey: HostSurvey, interface: SurveyedInterface) -> list[str | Text]:
    """The cells of one interface: its addresses in one, so that a host has a line."""
    held = [a for a in interface.addresses if a.origin != "link-local"] or list(interface.addresses)
    shown = held[:2]
    addresses = ", ".join(str(a.address) for a in shown) + (f" and {len(held) - 2} more" if len(held) > 2 else "")
    origins = dict.fromkeys(_ORIGINS[a.origin] for a in shown)
    leased = any(a.origin == "dhcp" for a in shown)
    gateways = ", ".join(str(r.next_hop) for r in interface.routes if r.is_default and r.next_hop is not None)
    return [
        interface.name,
        addresses or styled("none", "yellow"),
        styled(", ".join(origins), "yellow" if leased else "green"),
        gateways,
        styled("undeclared", "yellow")
        if interface.takers
        else interface.stack or survey.stack or survey.system.split(" ")[0] or styled("none", "yellow"),
    ]


def _show_interface(out: Console, interface: SurveyedInterface, survey: HostSurvey) -> None:
    head = styled(interface.name, "bold")
    head.append(f"   {interface.link.permanent_mac or interface.link.mac or 'no MAC known'}", style="default")
    is_off = interface.link.bare is not None and not interface.link.bare.up
    state = "switched off" if is_off else f"link {printable(interface.state)}"
    head.append(f"   {interface.link.kind}, {state}", style="dim")
    put(out, head)
    rows: list[tuple[str | Text, str | Text]] = []
    for address in interface.addresses:
        text = Text(str(address.address))
        text.append(f"   {_ORIGINS[address.origin]}", style="yellow" if address.origin == "dhcp" else "green")
        if address.origin == "dhcp":
            text.append(f", {lifetime(address.seconds_left)}", style="dim")
        rows.append(("address", text))
    if survey.running and not interface.addresses:
        rows.append(("address", styled("none", "yellow")))
    if survey.system and interface.link.master is not None:
        rows.append(("taken by", printable(interface.link.master)))
    if interface.lease is not None and interface.lease.server is not None:
        rows.append(("leased by", str(interface.lease.server)))
    elif interface.lease is not None and interface.link.client == "udhcpc":
        rows.append(("leased by", "not known: udhcpc keeps no record of its lease"))
    for route in interface.routes:
        if route.is_default:
            metric = f"   metric {route.metric}" if route.metric is not None else ""
            rows.append(("gateway", f"{route.next_hop}{metric}"))
    if interface.category:
        rows.append(("network profile", f"{interface.network}, {interface.category}"))
    if survey.system and interface.own_metric is not None:
        rows.append(("interface metric", f"{interface.own_metric}   in the metric of its routes"))
    if interface.resolvers:
        rows.append(("DNS servers" if survey.system else "resolvers", ", ".join(map(str, interface.resolvers))))
    if interface.search:
        rows.append(("DNS suffixes" if survey.system else "search", " ".join(interface.search)))
    if interface.announced is not None:
        rows.append(("announced", _announced(interface.announced)))
    if interface.declared is not None:
        for version in (4, 6):
            label = "kept" if survey.system else "files say"
            rows.append((label if version == 4 else "", interface.declared.in_words(version)))
        if interface.declared.fallback is not None and interface.declared.fallback.address is not None:
            when = "in force: no DHCP server answered" if interface.on_fallback else "where no DHCP server answers"
            label = "alternate" if survey.system else "fallback"
            rows.append((label, f"{interface.declared.fallback.address}   {when}"))
        if interface.declared.netbios_servers:
            rows.append(("WINS servers", ", ".join(map(str, interface.declared.netbios_servers))))
    if survey.system:
        rows += [("kept in", str(place)) for place in interface.declared_in]
    elif interface.declared_in:
        rows.append(("declared in", _places(interface)))
    else:
        rows.append(("declared in", styled("no file of a supported stack", "yellow")))
        rows += [("" if n else "would take it", _taker(taker)) for n, taker in enumerate(interface.takers)]
    put_rows(out, rows, indent=2)


def _taker(taker: Taker) -> str:
    """``netplan, with systemd-networkd: it has eth0 (...)``."""
    by = "" if taker.daemon in (taker.stack, f"systemd-{taker.stack}") else f", with {taker.daemon}"
    return f"{taker.stack}{by}: {taker.because}"


def _announced(given: Announced) -> str:
    """What routers and DHCPv6 give beside addresses and the default route."""
    parts = [f"resolver {r}" for r in given.resolvers]
    parts += [f"search {' '.join(given.search)}"] if given.search else []
    parts += [f"MTU {given.mtu}"] if given.mtu is not None else []
    parts += [f"route {r.destination} via {r.next_hop}" for r in given.routes]
    return ", ".join(parts) or "nothing but addresses and the way out"


def _places(interface: SurveyedInterface) -> str:
    lines: dict[str, list[str]] = {}
    for place in interface.declared_in:
        lines.setdefault(place.file, []).append(str(place.line))
    return ", ".join(f"{file}:{','.join(dict.fromkeys(numbers))}" for file, numbers in lines.items())
