"""The view of a verification: by host and interface, what failed first."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from fixed_anchor.core.checks import FROM_ELSEWHERE
from fixed_anchor.core.errors import printable
from fixed_anchor.core.flapping import Changed, Flapping
from fixed_anchor.core.times import on_the_clock
from fixed_anchor.core.verification import FAIL, PASS, SKIPPED, VerifyCheck, VerifyResult, verdict_of
from fixed_anchor.reporting.terminal.paper import STYLES, plural, put, put_table, styled

#: The column in which what was asked begins, and that of its text.
_OUTCOME, _CODE = 9, 22
_OUTCOMES = ((FAIL, "failed"), (SKIPPED, "not made"))
_ORDER = {FAIL: 0, SKIPPED: 1, PASS: 2}


def show_verify(out: Console, result: VerifyResult) -> None:
    """Every check of a verification, and what they amount to."""
    grouped: dict[tuple[str, str], list[VerifyCheck]] = {}
    for check in result.checks:
        grouped.setdefault((check.host, check.interface), []).append(check)
    for (host, interface), checks in grouped.items():
        put(out, _summary(host, interface, checks))
        for check in sorted(checks, key=lambda c: (not c.counts and c.outcome != PASS, _ORDER[c.outcome])):
            _show_check(out, check)
    line = Text("the state is ")
    put(out, line.append(result.verdict, style=STYLES.get(result.verdict, "bold yellow")))


def _summary(host: str, interface: str, checks: list[VerifyCheck]) -> Text:
    """``tide-db enp1s0   as planned   14 checks passed``."""
    verdict = verdict_of(checks)
    line = styled(" ".join(t for t in (host, interface) if t), "bold").append("   ")
    line.append(verdict, style=STYLES.get(verdict, "bold yellow"))
    said: list[str] = []
    numbers = [(sum(1 for c in checks if c.outcome == o and c.counts), w) for o, w in _OUTCOMES]
    numbers.append((sum(1 for c in checks if c.outcome == PASS), "passed"))
    numbers.append((sum(1 for c in checks if c.outcome != PASS and not c.counts), "did not, and does not count"))
    for number, words in numbers:
        if number:
            said.append(f"{plural(number, 'check')} {words}" if not said else f"{number} {words}")
    return line.append(f"   {', '.join(said)}", style="dim")


def _show_check(out: Console, check: VerifyCheck) -> None:
    line = styled(f"{check.outcome:<{_OUTCOME}}", STYLES[check.outcome] if check.counts else "dim")
    line.append(f"{check.code:<{_CODE}}", style="bold")
    line.append(printable(check.expected))
    if check.observed != check.expected:
        line.append(f"   seen: {printable(check.observed)}", style="dim")
    if check.code in FROM_ELSEWHERE:
        line.append(f"   from {printable(check.seen_from)}", style="dim")
    if not check.required:
        line.append("   (not required)", style="dim")
    elif check.as_before:
        line.append("   (as before)", style="dim")
    put(out, line, indent=2, hang=2 + _OUTCOME + 2)
    if check.why:
        style = "" if check.counts and check.outcome == FAIL else "dim"
        put(out, check.why, indent=2 + _OUTCOME + 2, hang=2 + _OUTCOME + 4, style=style)


def show_changed(out: Console, at: str, changed: list[Changed]) -> None:
    """What changed since the round before."""
    for one in changed:
        line = styled(f"{on_the_clock(at)}  ", "dim")
        line.append(f"{printable(one.check.host)} {printable(one.check.interface)}".strip(), style="bold")
        line.append(f"  {one.check.code}  {one.before or 'new'} -> ")
        line.append(one.check.outcome, style=STYLES[one.check.outcome])
        put(out, line.append(f"   {printable(one.check.why or one.check.observed)}", style="dim"), hang=10)


def show_flapping(out: Console, flapping: Flapping) -> None:
    """What changed at all, and how often."""
    rounds = plural(flapping.rounds, "round")
    if not flapping.flapping:
        put(out, f"{rounds}: no check changed its outcome")
        return
    put(out, f"{rounds}; these checks changed their outcome:", style="bold")
    rows: list[list[str | Text]] = [
        [f"{host} {interface}".strip(), code, target, plural(count, "time"), styled(now, STYLES[now])]
        for (host, interface, code, target), count, now in flapping.flapping
    ]
    put_table(out, ["where", "check", "of", "changed", "now"], rows, indent=2)
