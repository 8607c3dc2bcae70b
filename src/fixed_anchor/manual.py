"""The manual page, built from the commands: man(7).

``python -m fixed_anchor.manual > docs/fixed-anchor.1``
"""

from __future__ import annotations

from collections.abc import Iterator

import click

from fixed_anchor import __version__
from fixed_anchor.cli import COMMANDS, ORDER, cli
from fixed_anchor.core.errors import EXIT_MEANINGS


def page() -> str:
    """The page in the man macros of roff."""
    return "\n".join(_lines()) + "\n"


def _lines() -> Iterator[str]:
    root = click.Context(cli, info_name="fixed-anchor", **cli.context_settings)
    yield f'.TH FIXED\\-ANCHOR 1 "" "fixed\\-anchor {__version__}" "User Commands"'
    yield ".SH NAME"
    yield "fixed\\-anchor \\- convert hosts from DHCP to static addressing: guarded, proven, and reversible"
    yield ".SH SYNOPSIS"
    yield ".B fixed\\-anchor"
    yield "[\\fIOPTIONS\\fR] \\fICOMMAND\\fR [\\fIARGUMENTS\\fR]"
    yield ".SH DESCRIPTION"
    yield _text(
        "Takes stock of a host, learns which addresses are spoken for, writes the interface files of the host's own "
        "network stack, brings them into force without losing the machine, and proves that gateway and DNS work. A "
        "change that nobody confirms is rolled back."
    )
    yield ".PP"
    yield _text("The order of the work: " + ", ".join(ORDER) + ".")
    yield ".SH OPTIONS"
    yield from _options(cli, root)
    yield ".SH COMMANDS"
    for name in COMMANDS:
        command = cli.get_command(root, name)
        assert command is not None
        yield from _command(name, command, root)
    yield ".SH EXIT STATUS"
    for status, meaning in EXIT_MEANINGS.items():
        yield from _tagged(f"\\fB{status}\\fR", meaning)
    yield ".SH ENVIRONMENT"
    yield from _tagged("\\fBFIXED_ANCHOR_STATE_DIR\\fR", "Where changes are kept, as with --state-dir.")
    yield from _tagged("\\fBNO_COLOR\\fR", "If it is set, nothing is coloured.")
    yield ".SH FILES"
    yield from _tagged(
        "\\fI/var/lib/fixed\\-anchor\\fR",
        "The changes of this host, with the files that each replaced. It is readable for root alone.",
    )


def _command(name: str, command: click.Command, root: click.Context) -> Iterator[str]:
    context = click.Context(command, info_name=name, parent=root, help_option_names=["-h", "--help"])
    yield f'.SS "{_escaped(" ".join([name, *command.collect_usage_pieces(context)]))}"'
    for paragraph in (command.help or "").split("\n\n"):
        lines = paragraph.splitlines()
        if lines[:1] == ["\b"]:
            yield from _as_it_is(lines[1:])
        else:
            yield _text(" ".join(lines))
            yield ".PP"
    yield from _options(command, context)
    lines = (command.epilog or "").splitlines()
    if lines[:2] == ["\b", "Examples:"]:
        yield ".PP"
        yield "Examples:"
        yield from _as_it_is(lines[2:])


def _options(command: click.Command, context: click.Context) -> Iterator[str]:
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record is not None:
            # The library makes this option once, with the names of whichever context asked first.
            names = "-h, --help" if "--help" in parameter.opts else record[0]
            yield from _tagged(f"\\fB{_escaped(names)}\\fR", record[1])


def _tagged(tag: str, text: str) -> Iterator[str]:
    yield ".TP"
    yield tag
    yield _text(text)


def _as_it_is(lines: list[str]) -> Iterator[str]:
    yield ".PP"
    yield ".nf"
    yield from (_text(line) for line in lines)
    yield ".fi"


def _text(text: str) -> str:
    """A line of text, none of which is taken for a request."""
    escaped = _escaped(text)
    return f"\\&{escaped}" if escaped[:1] in (".", "'") else escaped


def _escaped(text: str) -> str:
    return (
        text.replace("\\", "\\e").replace("-", "\\-").replace('"', "\\(dq").replace("`", "\\(ga").replace("'", "\\(aq")
    )


if __name__ == "__main__":
    print(page(), end="")
