"""``fixed-anchor explain``: what a finding means, why it matters, what to do; and what a check asks."""

from __future__ import annotations

import difflib

import click
from rich.text import Text

from fixed_anchor.commands.common import App
from fixed_anchor.core.catalogue import CATALOGUE
from fixed_anchor.core.checks import CHECKS, CheckKind
from fixed_anchor.core.errors import InputError
from fixed_anchor.reporting.terminal import STYLES


@click.command(
    help="What a finding means, why it matters, and what to do; or what a check asks, and what passes or fails it. "
    "Without a code: all of them."
)
@click.argument("code", required=False)
@click.pass_context
def command(ctx: click.Context, code: str | None) -> None:
    app = App(ctx)
    if code is None:
        for entry in CATALOGUE.values():
            kind = "undetermined" if entry.undetermined else entry.severity
            line = Text().append(f"{entry.code:<24}", style="bold").append(f"{kind:<14}", style=STYLES[kind])
            app.out.print(line.append(entry.title))
        for check in CHECKS.values():
            line = Text().append(f"{check.code:<24}", style="bold").append(f"{'check':<14}")
            app.out.print(line.append(f"asks {check.asks}"), soft_wrap=True)
        return
    if code in CHECKS:
        _explain_check(app, CHECKS[code])
        return
    if code not in CATALOGUE:
        near = difflib.get_close_matches(code, (*CATALOGUE, *CHECKS), 1, 0.5)
        raise InputError(
            f"{code!r} is not the code of a finding or of a check",
            remedy=f"did you mean {near[0]!r}?" if near else "`fixed-anchor explain` lists them all",
        )
    entry = CATALOGUE[code]
    kind = "undetermined" if entry.undetermined else entry.severity
    app.out.print(Text().append(entry.code, style="bold").append(f"   {kind}", style=STYLES[kind]))
    app.out.print(f"  {entry.title}")
    app.out.print(f"  why: {entry.why}")
    app.out.print(f"  do:  {entry.do}")


def _explain_check(app: App, check: CheckKind) -> None:
    app.out.print(Text().append(check.code, style="bold").append("   check of a verification"))
    app.out.print(Text(f"  asks:     {check.asks}"))
    app.out.print(Text(f"  passes:   {check.passes}"))
    app.out.print(Text(f"  fails:    {check.fails}"))
    if check.excused:
        app.out.print(Text(f"  excused:  {check.excused}"))
