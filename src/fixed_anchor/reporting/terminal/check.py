"""The view of a check: findings by host, most serious first; then a line for each address."""

from __future__ import annotations

from collections.abc import Iterable

import msgspec
from rich.console import Console
from rich.text import Text

from fixed_anchor.core.errors import printable
from fixed_anchor.core.findings import (
    BLOCKED,
    CLEAR,
    UNDETERMINED,
    Evidence,
    Finding,
    Judgement,
)
from fixed_anchor.reporting.terminal.findings import counts, show_findings, show_looks
from fixed_anchor.reporting.terminal.paper import STYLES, plural, put, put_table, styled

#: Of more hosts than this each finding has one line, and those without findings are in the table alone.
_FEW = 8

#: Of more hosts than this only the most serious are told of.
_MANY = 200

#: So many hosts without findings are named.
_NAMED = 100

_SERIOUS = {BLOCKED: 0, UNDETERMINED: 1, CLEAR: 2}

#: A host with more addresses than this has them in one line.
_FEW_ADDRESSES = 16


class Shown(msgspec.Struct, frozen=True):
    """What of a check is shown; the verdict does not depend on it. Empty filters show everything."""

    severities: tuple[str, ...] = ()
    codes: tuple[str, ...] = ()
    addresses: tuple[str, ...] = ()
    detail: bool = False

    def of(self, findings: Iterable[Finding]) -> list[Finding]:
        """The findings that are shown."""
        return [
            f
            for f in findings
            if (not self.severities or f.shown_severity in self.severities)
            and (not self.codes or f.code in self.codes)
            and (not self.addresses or f.address in self.addresses)
        ]

    @property
    def filters(self) -> bool:
        """Whether something is left out."""
        return bool(self.severities or self.codes or self.addresses)


def show_check(out: Console, plan_file: str, result: Judgement, hosts: list[str], shown: Shown) -> None:
    """A check of ``hosts``: what is of none of them, every host, for several a table, and the verdict."""
    findings = result.by_host
    # Some are about hosts that were not asked for: the old address may be written in a file of theirs.
    of_none = shown.of(result.elsewhere)
    if of_none:
        show_findings(out, of_none)
        out.print()
    ranked = sorted(hosts, key=lambda h: _SERIOUS[result.verdict_of_host(h)])
    if len(hosts) <= _FEW or shown.addresses or shown.detail:
        evidence: dict[str | None, list[Evidence]] = {}
        for one in result.evidence:
            evidence.setdefault(one.host, []).append(one)
        for host in ranked:
            told = [e for e in evidence.get(host, []) if not shown.addresses or e.address in shown.addresses]
            if shown.of(findings.get(host, ())) or (told if shown.addresses else not shown.filters):
                _show_host(out, host, result, told, shown)
    else:
        _show_briefly(out, ranked, findings, shown)
    if len(hosts) > 1:
        _show_table(out, ranked, result)
        out.print()
        _show_vantages(out, result)
    put(out, verdict_line(plan_file, result))


def _show_vantages(out: Console, result: Judgement) -> None:
    """From where each segment was looked at, and that from nowhere where it was not; nothing without any vantage."""
    if not result.vantages:
        return
    rows: list[list[str | Text]] = []
    for name in dict.fromkeys(s for names in result.segments.values() for s in sorted(names)):
        places = [printable(place) for place in result.vantages.get(name, ())]
        more = f" and {len(places) - _FEW} more" if len(places) > _FEW else ""
        rows.append([name, "; ".join(places[:_FEW]) + more or styled("nowhere", STYLES[UNDETERMINED])])
    if rows:
        put_table(out, ["segment", "looked at from"], rows)
        out.print()


def _show_briefly(out: Console, hosts: list[str], findings: dict[str | None, list[Finding]], shown: Shown) -> None:
    """Of many hosts each finding in a line, as long as they are not too many."""
    told = [(host, found) for host in hosts if (found := shown.of(findings.get(host, ())))]
    for host, several in told[:_MANY]:
        put(out, styled(host, "bold").append(f"   {counts(findings[host])}", style="dim"))
        for one in several:
            line = styled(f"{one.shown_severity:<14}", STYLES[one.shown_severity]).append(one.code, style="bold")
            put(out, line.append(f"  {printable(one.message)}"), indent=2, hang=16)
    if len(told) > _MANY:
        put(out, f"... and {len(told) - _MANY} more hosts with findings")
    if told:
        put(out, "--host NAME shows where each was seen, and what to do; --severity and --code show fewer", style="dim")
        out.print()


def _show_host(out: Console, host: str, result: Judgement, evidence: list[Evidence], shown: Shown) -> None:
    findings, verdict = result.by_host.get(host, []), result.verdict_of_host(host)
    line = styled(host, "bold").append("   ").append(verdict, style=STYLES[verdict])
    said = counts(findings)
    put(out, line.append(f"   {said}" if said else "", style="dim"))
    show_findings(out, shown.of(findings), indent=2, named=False)
    in_full = shown.detail or bool(shown.addresses)
    if evidence and not in_full and (shown.severities or shown.codes):
        evidence = []
    if len(evidence) > _FEW_ADDRESSES and not in_full:
        put(out, f"{plural(len(evidence), 'address', 'addresses')}; --detail shows each", indent=2, style="dim")
        evidence = []
    rows: list[list[str | Text]] = []
    for one in evidence:
        of_it = result.verdict_of_address(host, one.address)
        asked = f"{len(one.consulted)} asked, {len(one.not_consulted)} not asked"
        if in_full:
            head = styled(one.address, "bold").append("   ").append(of_it, style=STYLES[of_it])
            put(out, head.append(f"   {asked}", style="dim"), indent=2)
            show_looks(out, one.consulted, one.not_consulted, indent=4)
        else:
            rows.append([one.address, styled(of_it, STYLES[of_it]), styled(asked, "dim")])
    if rows:
        put_table(out, ["address", "verdict", "sources and vantages"], rows, indent=2)
    out.print()


def _show_table(out: Console, hosts: list[str], result: Judgement) -> None:
    findings = result.by_host
    verdicts = {host: result.verdict_of_host(host) for host in hosts}
    # Of many hosts those without findings of their own share a line.
    loud = [h for h in hosts if len(hosts) <= _FEW or findings.get(h)]
    rows: list[list[str | Text]] = []
    for host in loud[:_MANY]:
        mine = findings.get(host, [])
        verdict = verdicts[host]
        kinds = [f.shown_severity for f in mine]
        numbers = [str(kinds.count(kind) or "-") for kind in ("blocker", "undetermined", "warning", "note")]
        rows.append([styled(host, "bold"), styled(verdict, STYLES[verdict]), *numbers])
    if rows:
        put_table(out, ["host", "verdict", "blockers", "undetermined", "warnings", "notes"], rows)
    if len(loud) > _MANY:
        put(out, f"... and {len(loud) - _MANY} more")
    if len(hosts) > _FEW:
        for verdict in _SERIOUS:
            quiet = [h for h in hosts if verdicts[h] == verdict and not findings.get(h)]
            if quiet:
                named = ", ".join(quiet[:_NAMED]) + (f", {len(quiet) - _NAMED} more" if len(quiet) > _NAMED else "")
                line = styled(verdict, STYLES[verdict]).append(f"   {plural(len(quiet), 'host')}: {printable(named)}")
                put(out, line, hang=len(verdict) + 3)
        every = list(verdicts.values())
        put(out, f"{len(hosts)} hosts: " + ", ".join(f"{every.count(v)} {v}" for v in _SERIOUS if v in every))


def verdict_line(plan_file: str, result: Judgement) -> Text:
    """The verdict, and how many findings of each kind there are."""
    line = Text(f"{printable(plan_file)}: ")
    line.append(result.verdict, style=STYLES.get(result.verdict, "bold"))
    said = counts(result.findings)
    return line.append(f"   {said}", style="dim") if said else line
