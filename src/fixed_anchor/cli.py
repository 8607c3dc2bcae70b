"""The command line: one group; each subcommand is a module of its own, imported when it is called."""

from __future__ import annotations

import os
import sys
from importlib import import_module
from typing import NoReturn

import click

from fixed_anchor import __version__
from fixed_anchor.commands import streams

#: Every subcommand, its module, and what the overview says of it (so that the overview imports none).
COMMANDS: dict[str, tuple[str, str]] = {
    "survey": ("survey", "Take stock of a host's interfaces."),
    "propose": ("propose", "Write a plan from what is there."),
    "probe": ("probe", "Is this address free?"),
    "check": ("check", "All findings of a plan, with the evidence."),
    "draft": ("draft", "Show the exact files; touch nothing."),
    "cutover": ("cutover", "Bring a plan into force, guarded."),
    "status": ("status", "The open change of this host."),
    "confirm": ("confirm", "Keep the open change."),
    "restore": ("restore", "Go back to the saved files."),
    "close": ("close", "Accept the state of a change that could not be rolled back."),
    "verify": ("verify", "Prove that a plan is in force."),
    "history": ("history", "The changes of this host."),
    "explain": ("explain", "What a finding means, and what to do."),
    "demo": ("demo", "Lay out a made-up site and walk through the job."),
}


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

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, help_text) for name, (_, help_text) in COMMANDS.items()])


@click.group(
    cls=LazyGroup,
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


def main() -> None:
    """Runs the command line. No error of the operator's making ends in a traceback."""
    streams.open_all()
    try:
        status = cli.main(standalone_mode=False)
    except click.exceptions.Exit as stop:
        status = stop.exit_code
    except click.exceptions.Abort:
        status = 130
    except click.ClickException as error:
        error.show()
        status = error.exit_code
    except KeyboardInterrupt:
        print("interrupted", file=sys.stderr)
        status = 130
    except Exception as error:
        status = _report(error)
    _leave(status if isinstance(status, int) else 0)


def _leave(status: int) -> NoReturn:
    """Ends the process without taking its data apart first, which for a large plan takes a tenth of the time."""
    lost = streams.flush_all()
    if lost:
        print(f"fixed-anchor: not all of the output could be written: {lost}", file=sys.stderr)
        sys.stderr.flush()
    os._exit(status)


def _report(error: Exception) -> int:
    from fixed_anchor.core.errors import EXIT_BUG, EXIT_NO_ACCESS, AnchorError, printable

    if isinstance(error, AnchorError):
        from fixed_anchor.core.secrets import masked_line

        print(f"fixed-anchor: {masked_line(str(error))}", file=sys.stderr)
        return error.exit_status
    if isinstance(error, PermissionError):
        where = f"{error.filename}: " if error.filename else ""
        print(printable(f"fixed-anchor: {where}this needs root. Run it with sudo."), file=sys.stderr)
        return EXIT_NO_ACCESS
    if _told.get("log_level") == "debug":
        import traceback

        traceback.print_exception(error)
    kind = type(error).__name__
    print(
        f"fixed-anchor: this is a bug of ours ({kind}: {printable(str(error))}). "
        "Nothing more was done. `--log-level debug` shows where.",
        file=sys.stderr,
    )
    return EXIT_BUG
