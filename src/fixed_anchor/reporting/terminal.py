"""Terminal views. Everything printed has lost its control characters."""

from __future__ import annotations

import difflib
import os
from collections.abc import Iterable

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import FileEdit
from fixed_anchor.change.steps import Fed, Step, argv_of
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import printable
from fixed_anchor.core.findings import CheckResult, Consulted, Finding, NotConsulted
from fixed_anchor.core.rules.survey import survey_findings
from fixed_anchor.core.secrets import masked
from fixed_anchor.core.survey import Announced, HostSurvey, SurveyedInterface
from fixed_anchor.core.verification import FAIL, VerifyCheck, VerifyResult
from fixed_anchor.workflow.dhcp_server import ServerDraft
from fixed_anchor.workflow.probe import ProbeResult

STYLES = {
    "blocker": "bold red",
    "undetermined": "bold yellow",
    "warning": "yellow",
    "note": "cyan",
    "pass": "green",
    "fail": "bold red",
    "skipped": "bold yellow",
    "free": "bold green",
    "taken": "bold red",
    "clear": "bold green",
    "blocked": "bold red",
    "as planned": "bold green",
    "not as planned": "bold red",
    states.CONFIRMED: "bold green",
    states.ROLLED_BACK: "bold yellow",
    states.STUCK: "bold red",
}


def console(color: str, stderr: bool = False) -> Console:
    """A console that obeys ``color`` (auto, always, never), NO_COLOR and the terminal."""
    no_color = color == "never" or (color == "auto" and bool(os.environ.get("NO_COLOR")))
    force = True if color == "always" else None
    made = Console(
        stderr=stderr, no_color=no_color, force_terminal=force, highlight=False, soft_wrap=False, emoji=False
    )
    if not made.is_terminal:
        # A pipe has no width; lines are not broken where nobody looks at columns.
        made.width = 200
    return made


def style_of(found: Finding) -> str:
    """The key of a finding in :data:`STYLES`."""
    return "undetermined" if found.undetermined else found.severity


def lifetime(seconds: int | None) -> str:
    """A lifetime in words: ``2 h 10 min left``."""
    if seconds is None:
        return "for ever"
    if seconds >= 7200:
        return f"{seconds // 3600} h {seconds % 3600 // 60} min left"
    return f"{seconds // 60} min left" if seconds >= 120 else f"{seconds} s left"


# --- survey ------------------------------------------------------------------------------


def show_survey(out: Console, survey: HostSurvey) -> None:
    """A survey: the stack, every interface, and the findings."""
    title = Text().append(printable(survey.host), style="bold")
    title.append(
        f"   network stack: {survey.stack or 'none that is supported'}"
        + ("" if survey.running else "   (files only, nothing running)"),
        style="default",
    )
    out.print(title)
    for evidence in survey.stack_evidence:
        out.print(Text(f"  because {printable(evidence)}", style="dim"))
    for interface in survey.interfaces:
        out.print()
        _show_interface(out, interface, survey.running)
    findings = survey_findings(survey)
    if findings:
        out.print()
        show_findings(out, findings)


def _show_interface(out: Console, interface: SurveyedInterface, running: bool) -> None:
    head = Text().append(printable(interface.name), style="bold")
    head.append(f"   {interface.link.permanent_mac or interface.link.mac or 'no MAC known'}", style="default")
    head.append(f"   {interface.link.kind}, link {printable(interface.state)}", style="dim")
    out.print(head)
    table = Table(box=None, show_header=False, padding=(0, 2, 0, 2))
    table.add_column(style="dim", no_wrap=True)
    table.add_column()
    for address in interface.addresses:
        said = {"dhcp": "leased", "fixed": "fixed", "link-local": "link-local", "slaac": "from router advertisements"}
        text = Text(str(address.address))
        text.append(f"   {said[address.origin]}", style="yellow" if address.origin == "dhcp" else "green")
        if address.origin == "dhcp":
            text.append(f", {lifetime(address.seconds_left)}", style="dim")
        table.add_row("address", text)
    if running and not interface.addresses:
        table.add_row("address", Text("none", style="yellow"))
    if interface.lease is not None and interface.lease.server is not None:
        table.add_row("leased by", str(interface.lease.server))
    for route in interface.routes:
        if route.is_default:
            metric = f"   metric {route.metric}" if route.metric is not None else ""
            table.add_row("gateway", f"{route.next_hop}{metric}")
    if interface.resolvers:
        table.add_row("resolvers", ", ".join(map(str, interface.resolvers)))
    if interface.search:
        table.add_row("search", printable(" ".join(interface.search)))
    declared = interface.declared
    if interface.announced is not None:
        table.add_row("announced", printable(_announced(interface.announced)))
    if declared is not None:
        for version in (4, 6):
            table.add_row("files say" if version == 4 else "", _declared(declared, version))
    if interface.declared_in:
        table.add_row("declared in", _places(interface))
    else:
        table.add_row("declared in", Text("no file of a supported stack", style="yellow"))
    out.print(table)


def _announced(given: Announced) -> str:
    """What routers and DHCPv6 give beside addresses and the default route."""
    said = [f"resolver {r}" for r in given.resolvers]
    said += [f"search {' '.join(given.search)}"] if given.search else []
    said += [f"MTU {given.mtu}"] if given.mtu is not None else []
    said += [f"route {r.destination} via {r.next_hop}" for r in given.routes]
    return ", ".join(said) or "nothing but addresses and the way out"


def _declared(declared: InterfaceConfig, version: int) -> str:
    """``IPv6 fixed 2001:db8:7e::14/64, gateway fe80::1``, with what the files say of router advertisements."""
    method = {"ra": "from router advertisements"}.get(declared.method(version), declared.method(version))
    held = ", ".join(str(a) for a in declared.of_family(version))
    hops = ", ".join(str(r.next_hop) for r in declared.default_routes(version) if r.next_hop is not None)
    heard = "; router advertisements are listened to" if version == 6 and declared.accepts_ra else ""
    return f"IPv{version} {method}" + (f" {held}" if held else "") + (f", gateway {hops}" if hops else "") + heard


def _places(interface: SurveyedInterface) -> str:
    lines: dict[str, list[str]] = {}
    for place in interface.declared_in:
        lines.setdefault(place.file, []).append(str(place.line))
    return printable(", ".join(f"{file}:{','.join(dict.fromkeys(numbers))}" for file, numbers in lines.items()))


# --- check -------------------------------------------------------------------------------


def show_check(out: Console, plan_file: str, result: CheckResult, addresses: int) -> None:
    """A check: findings, evidence, and the verdict."""
    show_findings(out, result.findings)
    if result.findings:
        out.print()
    show_evidence(out, result, addresses)
    out.print(verdict_line(plan_file, result))


def verdict_line(plan_file: str, result: CheckResult) -> Text:
    """The verdict, and how many findings of each kind there are."""
    line = Text(f"{printable(plan_file)}: ")
    line.append(result.verdict, style=STYLES.get(result.verdict, "bold"))
    counts: dict[str, int] = {}
    for found in result.findings:
        counts[style_of(found)] = counts.get(style_of(found), 0) + 1
    if counts:
        line.append("   " + ", ".join(f"{n} {_plural(kind, n)}" for kind, n in counts.items()), style="dim")
    return line


def _plural(kind: str, count: int) -> str:
    return kind if count == 1 or kind == "undetermined" else f"{kind}s"


#: With more addresses than this, the evidence is not printed in words.
_SUMMED_UP = 24

#: Of more findings of one kind than this, only the first ones are shown.
_SHOWN_EACH = 20


def show_findings(out: Console, findings: Iterable[Finding]) -> None:
    """Findings, each with what it says, where it was seen and what to do."""
    by_code: dict[str, list[Finding]] = {}
    for found in findings:
        by_code.setdefault(found.code, []).append(found)
    for code, several in by_code.items():
        shown = several if len(several) <= _SHOWN_EACH else several[:5]
        for found in shown:
            _show_finding(out, found)
        if len(shown) < len(several):
            hosts = len({f.host for f in several})
            left = f"... and {len(several) - len(shown)} more {code}, {hosts} hosts in all; --json prints each"
            out.print(Text(left, style=STYLES[style_of(several[0])]))


def _show_finding(out: Console, found: Finding) -> None:
    kind = style_of(found)
    line = Text()
    line.append(f"{kind:<13}", style=STYLES[kind])
    line.append(f"{found.code}", style="bold")
    where = "  ".join(t for t in (found.host, found.interface) if t)
    if where:
        line.append(f"  {printable(where)}", style="dim")
    out.print(line)
    table = Table(box=None, show_header=False, padding=(0, 1, 0, 0))
    table.add_column(width=12)
    table.add_column(style="dim", no_wrap=True)
    table.add_column(overflow="fold")
    table.add_row("", "what", printable(found.message))
    table.add_row("", "seen in", printable(found.seen_in))
    table.add_row("", "do", printable(found.remedy))
    out.print(table)


def show_evidence(out: Console, result: CheckResult, addresses: int) -> None:
    """The evidence for each address; ``addresses`` is how many there are."""
    if addresses > _SUMMED_UP:
        out.print(f"evidence for {addresses} addresses: --json prints that of each, --evidence FILE keeps it")
        return
    for evidence in result.evidence:
        line = Text("evidence for ")
        line.append(evidence.address, style="bold")
        if evidence.host:
            line.append(f"  {printable(evidence.host)}", style="dim")
        out.print(line)
        _show_looks(out, evidence.consulted, evidence.not_consulted)
        out.print()


def _show_looks(out: Console, consulted: Iterable[Consulted], not_consulted: Iterable[NotConsulted]) -> None:
    table = Table(box=None, show_header=False, padding=(0, 2, 0, 2))
    table.add_column(no_wrap=True)
    table.add_column(max_width=50)
    table.add_column(overflow="fold")
    for looked in consulted:
        table.add_row(
            Text("asked", style="green"),
            printable(looked.source),
            Text(printable(looked.said)).append(f"   {printable(looked.at)}", style="dim"),
        )
    for missing in not_consulted:
        table.add_row(Text("not asked", style="yellow"), printable(missing.source), printable(missing.why))
    out.print(table)


# --- probe -------------------------------------------------------------------------------


def show_probe(out: Console, result: ProbeResult) -> None:
    """What was asked about each address, and what follows."""
    for answer in result.addresses:
        line = Text().append(str(answer.address), style="bold").append("  ")
        line.append(answer.verdict, style=STYLES[answer.verdict])
        held = ", ".join(f"{h.mac or 'somebody'} ({h.seen_by})" for h in answer.holders)
        out.print(line.append(f"   held by {printable(held)}" if held else "", style="default"))
        _show_looks(out, answer.consulted, answer.not_consulted)
        out.print()


# --- draft -------------------------------------------------------------------------------


def show_draft(out: Console, drafts: list[Draft]) -> None:
    """The drafted files as diffs, and the commands around them."""
    for draft in drafts:
        head = Text().append(printable(draft.host), style="bold")
        head.append(f"   {draft.stack}", style="dim")
        out.print(head)
        content = draft.content
        if content.is_empty:
            out.print("  nothing to do: the files declare this already")
        _show_steps(out, "first run ", content.steps.leave)
        for edit in content.edits:
            show_diff(out, edit)
        _show_steps(out, "then run  ", content.steps.activate)
        for held in draft.grace:
            out.print(f"  {held.address} stays on {held.interface} until the decision; then:", style="bold")
        if draft.grace:
            for first, last in zip(content.edits, content.ends_with(), strict=True):
                if first.after != last.after:
                    show_diff(out, FileEdit(first.path, first.after, last.after))
            _show_steps(out, "then run  ", content.steps.drop)
        out.print()


def _show_steps(out: Console, when: str, steps: tuple[Step, ...]) -> None:
    for step in steps:
        out.print(Text().append(f"  {when}", style="dim").append(printable(" ".join(argv_of(step)))))
        if isinstance(step, Fed):
            for line in step.text.splitlines():
                out.print(Text().append("            ").append(printable(line)))


def show_server_drafts(out: Console, drafts: list[ServerDraft]) -> None:
    """What must be told to DHCP servers; nothing here writes it there."""
    for draft in drafts:
        out.print(Text("to be told to the DHCP server: ", style="bold").append(printable(draft.label)))
        if draft.edit is not None:
            show_diff(out, draft.edit)
        else:
            out.print(f"  {printable(draft.why_not or '')}", style="yellow")
        out.print()


def show_diff(out: Console, edit: FileEdit) -> None:
    """One file as a unified diff, with the change of its mode."""
    before = masked(edit.before.text) if edit.before else ""
    after = masked(edit.after.text) if edit.after else ""
    if edit.link_before is not None:
        out.print(f"  {printable(edit.path)}: no longer a link to {printable(edit.link_before)}")
    if edit.link_after is not None:
        out.print(f"  {printable(edit.path)}: becomes a link to {printable(edit.link_after)}")
    elif edit.before and edit.after and edit.before.mode != edit.after.mode:
        out.print(f"  {printable(edit.path)}: mode {edit.before.mode:04o} becomes {edit.after.mode:04o}")
    elif edit.before is None and edit.after is not None:
        out.print(f"  {printable(edit.path)}: new, mode {edit.after.mode:04o}")
    elif edit.after is None:
        out.print(f"  {printable(edit.path)}: removed")
    lines = difflib.unified_diff(
        before.splitlines(), after.splitlines(), edit.path, edit.path, "as it is", "as drafted", lineterm=""
    )
    for line in lines:
        if line.startswith(("---", "+++")):
            style = "bold"
        elif line.startswith("@@"):
            style = "cyan"
        elif line.startswith("+"):
            style = "green"
        elif line.startswith("-"):
            style = "red"
        else:
            style = "default"
        shown = line[:1] + printable(line[1:]) if line else line
        out.print(Text("  " + shown, style=style))


# --- verify ------------------------------------------------------------------------------


def show_verify(out: Console, result: VerifyResult) -> None:
    """Every check of a verification, and what they amount to."""
    for check in result.checks:
        line, seen = _check_line(check)
        whole = Text().append_text(line).append_text(seen)
        if whole.cell_len <= out.width:
            out.print(whole)
        else:
            out.print(line)
            out.print(Padding(Text(seen.plain.strip(), style="dim"), (0, 0, 0, _INDENT), expand=False))
        if check.why:
            style = "default" if check.counts and check.outcome == FAIL else "dim"
            out.print(Padding(Text(printable(check.why), style=style), (0, 0, 0, _INDENT), expand=False))
    line = Text("the state is ")
    line.append(result.verdict, style=STYLES.get(result.verdict, "bold yellow"))
    out.print(line)


#: The column in which what was seen of a check, and why it failed, begins.
_INDENT = 9


def _check_line(check: VerifyCheck) -> tuple[Text, Text]:
    """What was asked and how it ended; and what was seen."""
    line = Text()
    line.append(f"{check.outcome:<9}", style=STYLES[check.outcome] if check.counts else "dim")
    line.append(f"{check.code:<22}", style="bold")
    line.append(printable(check.expected))
    seen = Text(style="dim")
    if check.observed != check.expected:
        seen.append(f"   seen: {printable(check.observed)}")
    if not check.required:
        seen.append("   (not required)")
    elif check.as_before:
        seen.append("   (as before)")
    return line, seen
