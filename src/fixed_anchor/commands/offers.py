"""What the completion of a shell offers: hosts of the plan, codes, and the numbers of changes."""

from __future__ import annotations

from pathlib import Path

import click
from click.shell_completion import CompletionItem


def hosts(ctx: click.Context, param: click.Parameter, begun: str) -> list[str]:
    """The hosts of the plan on the command line that begin so; none where it cannot be read."""
    from fixed_anchor.core.errors import AnchorError
    from fixed_anchor.planfile.reader import read_plan

    # Behind an option whose value is being typed, what was read so far may still be among the words.
    for plan in (ctx.params.get("plan"), *ctx.args):
        try:
            if plan is not None:
                return [name for name in read_plan(Path(plan)).hosts if name.startswith(begun)]
        except AnchorError:
            continue
    return []


def codes(ctx: click.Context, param: click.Parameter, begun: str) -> list[str]:
    """The codes of findings that begin so."""
    from fixed_anchor.reporting.catalogue import CATALOGUE

    return [code for code in CATALOGUE if code.startswith(begun.lower())]


def changes(ctx: click.Context, param: click.Parameter, begun: str) -> list[CompletionItem]:
    """The numbers of the changes of this host, each with its state."""
    from fixed_anchor.change import states
    from fixed_anchor.commands.app import App
    from fixed_anchor.core.errors import AnchorError

    root = ctx.find_root()
    root.obj = {"color": "never", "log_level": "error", "state_dir": root.params.get("state_dir")}
    try:
        target = App(root).reach.kept_target()
        known = [number for number in target.numbers() if number.startswith(begun)]
        return [CompletionItem(number, help=states.shown(target.status(number).state)) for number in known]
    except (AnchorError, OSError):
        return []
