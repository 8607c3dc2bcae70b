"""``fixed-anchor explain``: what a code, an exit status or a key of a plan means."""

from __future__ import annotations

import difflib

import click
from rich.text import Text

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import JSON, examples
from fixed_anchor.core.checks import CHECKS, CheckKind
from fixed_anchor.core.errors import EXIT_MEANINGS, InputError
from fixed_anchor.planfile.shape import described
from fixed_anchor.reporting.catalogue import CATALOGUE
from fixed_anchor.reporting.documents.explaining import (
    ExplainDocument,
    ExplainedCheck,
    ExplainedFinding,
    ExplainedKey,
    ExplainedStatus,
)
from fixed_anchor.reporting.terminal.paper import STYLES, put_rows, put_table, styled


@click.command(
    help="What a finding means and what to do; what a check of a verification asks, and what passes or fails it; "
    "what an exit status or a key of a plan says. Without a word: all of them.",
    epilog=examples(
        ("fixed-anchor explain in-dhcp-pool", "what a finding means"),
        ("fixed-anchor explain 3", "what an exit status means"),
    ),
)
@click.argument(
    "word",
    metavar="[CODE|STATUS|KEY]",
    required=False,
    shell_complete=lambda _ctx, _param, begun: [word for word in _known() if word.startswith(begun.lower())],
)
@JSON
@click.pass_context
def command(ctx: click.Context, word: str | None, as_json: bool) -> None:
    app = App(ctx, as_json)
    wanted = None if word is None else word.strip().lower()
    findings = [e for e in CATALOGUE.values() if wanted in (None, e.code)]
    checks = [c for c in CHECKS.values() if wanted in (None, c.code)]
    statuses = [(n, m) for n, m in EXIT_MEANINGS.items() if wanted in (None, str(n))]
    keys = [row for row in described() if wanted in (None, row[0])]
    if not (findings or checks or statuses or keys):
        near = difflib.get_close_matches(str(wanted), _known(), 1, 0.5)
        raise InputError(
            f"{word!r} is not the code of a finding or of a check, no exit status and no key of a plan",
            remedy=f"did you mean {near[0]!r}?" if near else "`fixed-anchor explain` lists them all",
        )
    if as_json:
        app.print_document(
            ExplainDocument(
                command="explain",
                findings=[ExplainedFinding(e.code, e.shown_severity, e.title, e.why, e.do) for e in findings],  # type: ignore[arg-type]
                checks=[ExplainedCheck(c.code, c.asks, c.passes, c.fails, c.excused or None) for c in checks],
                exit_statuses=[ExplainedStatus(n, m) for n, m in statuses],
                plan_keys=[ExplainedKey(*row) for row in keys],
            )
        )
    if wanted is None:
        _list(app)
        return
    for entry in findings:
        app.say(styled(entry.code, "bold").append(f"   {entry.shown_severity}", style=STYLES[entry.shown_severity]))
        put_rows(app.out, [("means", entry.title), ("why", entry.why), ("do", entry.do)], indent=2)
    for check in checks:
        _explain_check(app, check)
    for number, meaning in statuses:
        app.say(styled(f"exit status {number}", "bold"))
        app.say(meaning, indent=2)
    for key, belongs_to, meaning in keys:
        app.say(styled(f"{key}:", "bold").append(f"   a key of {belongs_to}"))
        app.say(meaning, indent=2)


def _known() -> list[str]:
    return [*CATALOGUE, *CHECKS, *map(str, EXIT_MEANINGS), *dict.fromkeys(key for key, _, _ in described())]


def _list(app: App) -> None:
    """Everything in a line each."""
    rows: list[list[str | Text]] = [
        [styled(e.code, "bold"), styled(e.shown_severity, STYLES[e.shown_severity]), e.title]
        for e in CATALOGUE.values()
    ]
    rows += [[styled(c.code, "bold"), "check", f"asks {c.asks}"] for c in CHECKS.values()]
    put_table(app.out, ["code", "kind", "meaning"], rows)
    app.say("")
    put_table(app.out, ["exit status", "meaning"], [[str(n), m] for n, m in EXIT_MEANINGS.items()])
    app.say("")
    put_table(app.out, ["key of a plan", "belongs to", "meaning"], [list(row) for row in described()])


def _explain_check(app: App, check: CheckKind) -> None:
    app.say(styled(check.code, "bold").append("   check of a verification"))
    rows: list[tuple[str | Text, str | Text]] = [("asks", check.asks), ("passes", check.passes), ("fails", check.fails)]
    if check.excused:
        rows.append(("excused", check.excused))
    put_rows(app.out, rows, indent=2)
