"""The command line: one group; each subcommand is a module of its own, imported when it is called."""

from __future__ import annotations

import difflib
import os
import sys
from importlib import import_module
from typing import NoReturn

import click

from fixed_anchor import __version__
from fixed_anchor.commands import streams

#: Every subcommand, its module, and what the overview says of it (so that the overview imports none).
COMMANDS: dict[str, tuple[str, str]] = {
    "survey": ("survey", "Take stock of the interfaces of hosts."),
    "propose": ("propose", "Write a plan from what is there."),
    "probe": ("probe", "Is this address free?"),
    "check": ("check", "All findings of a plan, with the evidence."),
    "map": ("map", "The addresses of a segment as a picture."),
    "report": ("report", "One page to hand over, of a plan, a run, or a change."),
    "draft": ("draft", "Show the exact files; touch nothing."),
    "cutover": ("cutover", "Bring a plan into force, guarded."),
    "status": ("status", "The open change of this host, or of others."),
    "confirm": ("confirm", "Keep the open change."),
    "restore": ("restore", "Go back to the saved files."),
    "close": ("close", "Accept the state of a change that could not be rolled back."),
    "verify": ("verify", "Prove that a plan is in force."),
    "history": ("history", "The changes of this host, or of others."),
    "explain": ("explain", "What a finding, a check, a status or a key means."),
    "demo": ("demo", "Lay out a made-up site and walk through the job."),
    "completion": ("completion", "Completion for bash, zsh or fish."),
}

#: The order of the work, for whoever types the name alone.
ORDER = ("survey", "propose", "check", "draft", "cutover", "confirm", "verify")


#: What the command line said that is needed when all else has failed.
_told: dict[str, str] = {}


class LazyGroup(click.Group):
    """Knows its commands by name and imports one only when it is needed."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(f"fixed_anchor.commands.{COMMANDS[cmd_name][0]}").command
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """The command that was typed. Raises a usage error that names the nearest one."""
        if args and args[0] not in COMMANDS and not args[0].startswith("-") and not ctx.resilient_parsing:
            near = difflib.get_close_matches(args[0].lower(), COMMANDS, 1, 0.5)
            hint = f". Did you mean {near[0]!r}?" if near else ""
            raise click.UsageError(f"there is no command {args[0]!r}{hint}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, help_text) for name, (_, help_text) in COMMANDS.items()])


@click.group(
    cls=LazyGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    help="Converts hosts from DHCP to static addressing: guarded, proven, and reversible.",
)
@click.version_option(__version__, "--version", prog_name="fixed-anchor")
@click.option("--color", type=click.Choice(["auto", "always", "never"]), default="auto", help="Colour the output.")
@click.option(
    "--log-level",
    type=click.Choice(["debug", "info", "warning", "error"]),
    default="warning",
    help="Log commands (info), files and packets (debug) to stderr.",
)
@click.option(
    "--state-dir",
    type=click.Path(file_okay=False, readable=False),
    default=None,
    envvar="FIXED_ANCHOR_STATE_DIR",
    help="Where changes are kept.  [default: /var/lib/fixed-anchor]",
)
@click.pass_context
def cli(ctx: click.Context, color: str, log_level: str, state_dir: str | None) -> None:
    """The group: it only notes the global options for the subcommand."""
    _told["log_level"] = log_level
    ctx.obj = {"color": color, "log_level": log_level, "state_dir": state_dir}
    if ctx.invoked_subcommand is None:
        _show_order(ctx)


def _show_order(ctx: click.Context) -> None:
    """What somebody needs who typed the name alone: the order of the work, and the first step."""
    from fixed_anchor.commands.app import App
    from fixed_anchor.reporting.terminal.paper import put_command, put_rows, styled

    app = App(ctx)
    app.say(styled("Fixed Anchor", "bold").append(" converts hosts from DHCP to static addressing:"))
    app.say("guarded, proven, and reversible.", indent=2)
    app.say("")
    app.say("The order of the work", style="bold")
    steps = [(f"{n}  {name}", COMMANDS[name][1]) for n, name in enumerate(ORDER, 1)]
    put_rows(app.out, [(styled(label, "cyan"), text) for label, text in steps], indent=2)
    app.say("")
    app.say("At any time", style="bold")
    others = [(name, text) for name, (_, text) in COMMANDS.items() if name not in ORDER]
    put_rows(app.out, [(styled(f"   {name}", "cyan"), text) for name, text in others], indent=2)
    app.say("")
    app.say("The first step, on the host that is to be converted; it only looks", style="bold")
    put_command(app.out, "", "fixed-anchor survey")
    app.say("The same of another host, over SSH", style="bold")
    put_command(app.out, "", "fixed-anchor survey --host ssh:NAME")
    app.say("Without such a host at hand: a made-up site, and the whole job on it", style="bold")
    put_command(app.out, "", "fixed-anchor demo")
    app.say("Every command tells more of itself", style="bold")
    put_command(app.out, "", "fixed-anchor COMMAND --help")


def main() -> None:
    """Runs the command line. No error of the operator's making ends in a traceback."""
    streams.open_all()
    try:
        status = cli.main(standalone_mode=False)
    except click.exceptions.Exit as stop:
        status = stop.exit_code
    except click.exceptions.Abort:
        status = 130
    except KeyboardInterrupt:
        print("interrupted", file=sys.stderr)
        status = 130
    except Exception as error:
        from fixed_anchor.commands.failure import tell

        words = sys.argv[1:]
        command = next((word for word in words if word in COMMANDS), None)
        status = tell(error, command, "--json" in words, _told.get("log_level"))
    _leave(status if isinstance(status, int) else 0)


def _leave(status: int) -> NoReturn:
    """Ends the process without taking its data apart first, which for a large plan takes a tenth of the time."""
    lost = streams.flush_all()
    if lost:
        print(f"fixed-anchor: not all of the output could be written: {lost}", file=sys.stderr)
        sys.stderr.flush()
    os._exit(status)
