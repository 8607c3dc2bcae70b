"""How a command says that it failed: one style for people, and the document of ``--json`` with its errors."""

from __future__ import annotations

import difflib
import sys

import click

from fixed_anchor.core.errors import (
    EXIT_BUG,
    EXIT_USAGE,
    AnchorError,
    InputError,
    InputErrors,
    NoAccess,
    printable,
)
from fixed_anchor.core.secrets import masked_line


def tell(error: Exception, command: str | None, as_json: bool, log_level: str | None) -> int:
    """Tells of an error that ended ``command``; returns the exit status."""
    known = _of_ours(error)
    if known is None:
        if log_level == "debug":
            import traceback

            traceback.print_exception(error)
        known = AnchorError(
            f"this is a bug of ours ({type(error).__name__}: {printable(str(error))})",
            remedy="nothing more was done; `--log-level debug` shows where",
        )
        known.exit_status = EXIT_BUG
    errors = known.errors if isinstance(known, InputErrors) else (known,)
    for one in errors:
        tell_line(one)
    if len(errors) > 1:
        print(f"fixed-anchor: {len(errors)} errors in {known.file}; nothing was done", file=sys.stderr)
    if as_json:
        _print_document(known, command)
    return known.exit_status


def tell_line(error: AnchorError) -> None:
    """Tells of an error on standard error, beside whatever a command prints."""
    print(f"fixed-anchor: {masked_line(str(error))}", file=sys.stderr)


def _of_ours(error: Exception) -> AnchorError | None:
    """The error as one of ours; ``None`` for one that nobody expected."""
    if isinstance(error, AnchorError):
        return error
    if isinstance(error, PermissionError):
        where = f"{error.filename}: " if error.filename else ""
        return NoAccess(f"{where}this needs root", remedy="run it with sudo")
    if isinstance(error, click.ClickException):
        path = error.ctx.command_path if isinstance(error, click.UsageError) and error.ctx else "fixed-anchor"
        words = path.split()[1:]
        said = error.format_message().rstrip(".")
        if isinstance(error, click.NoSuchOption):
            near = difflib.get_close_matches(error.option_name, error.possibilities or (), 1, 0.0)
            said = f"there is no option {error.option_name!r}" + (f". Did you mean {near[0]!r}?" if near else "")
        # Our sentences begin in lower case, behind the command that they are about.
        said = said[:1].lower() + said[1:]
        known: AnchorError = InputError(f"{' '.join(words)}: {said}" if words else said, remedy=f"see {path} --help")
        known.exit_status = error.exit_code or EXIT_USAGE
        return known
    return None


def _print_document(error: AnchorError, command: str | None) -> None:
    from fixed_anchor.reporting.documents import DOCUMENTS, as_text, document_type
    from fixed_anchor.reporting.documents.parts import problems

    if command not in DOCUMENTS:
        return
    document = document_type(command)(command=command, exit_status=error.exit_status, errors=problems(error))
    print(as_text(document))
