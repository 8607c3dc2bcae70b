"""The document of ``draft``, which is also a part of a change's."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from fixed_anchor.change.change import Draft
from fixed_anchor.change.files import FileEdit
from fixed_anchor.change.steps import argv_of
from fixed_anchor.core.findings import Finding
from fixed_anchor.core.secrets import masked
from fixed_anchor.reporting.documents.parts import CheckVerdict, Document, FoundFinding, Problem, found_finding
from fixed_anchor.workflow.dhcp_server import ServerDraft


class DraftedFile(Struct, frozen=True):
    """A file as it is and as it is drafted, without its secrets; null where there is none. ``mode`` is octal."""

    file: str
    before: str | None
    after: str | None
    mode: str | None


class DraftedSettings(Struct, frozen=True):
    """The settings of a Windows machine as they are and as they are drafted, a setting in each line.

    ``acts`` bring them about, in order: each as the call that it comes to. ``restart`` says what waits for a restart.
    """

    before: list[str]
    after: list[str]
    acts: list[str]
    restart: str


class HostDrafted(Struct, frozen=True, kw_only=True):
    """The draft of one host: its files, and the commands that bring them into force.

    ``verdict`` is the check's; ``runbook`` the script that was written, ``written`` the other files. Of a Windows
    machine there are ``settings`` instead of files.
    """

    host: str
    error: Problem | None = None
    verdict: CheckVerdict | None = None
    stack: str | None = None
    interfaces: list[str] = []
    files: list[DraftedFile] = []
    activate: list[list[str]] = []
    settings: DraftedSettings | None = None
    findings: list[FoundFinding] = []
    written: list[str] = []
    runbook: str | None = None


class ServerDrafted(Struct, frozen=True):
    """What is to be told to a DHCP server, as its file or as commands; ``why_not`` where it could not be drafted."""

    source: str
    draft: DraftedFile | None
    commands: list[str]
    why_not: str | None


class DraftDocument(Document, kw_only=True):
    """What ``draft --json`` prints; ``findings`` are those of no host that was drafted."""

    plan: str | None = None
    verdict: CheckVerdict | None = None
    findings: list[FoundFinding] = []
    hosts: list[HostDrafted] = []
    dhcp_servers: list[ServerDrafted] = []


def drafted_file(edit: FileEdit) -> DraftedFile:
    """A file as a part of a document."""
    return DraftedFile(
        edit.path,
        masked(edit.before.text) if edit.before else None,
        masked(edit.after.text) if edit.after else None,
        None if edit.after is None else f"{edit.after.mode:04o}",
    )


def host_drafted(
    draft: Draft,
    verdict: CheckVerdict | None = None,
    findings: Iterable[Finding] = (),
    written: Iterable[str] = (),
    runbook: str | None = None,
) -> HostDrafted:
    """The draft of a host as a part of a document."""
    shown = draft.content.shown()
    settings = None
    if shown.settings is not None:
        before, after = map(list, shown.settings)
        settings = DraftedSettings(before, after, [" ".join(argv_of(step)) for step in shown.then], shown.remark)
    steps = (*shown.first, *shown.then) if settings is None else ()
    return HostDrafted(
        host=draft.host,
        verdict=verdict,
        stack=draft.stack,
        interfaces=list(draft.interfaces),
        files=[drafted_file(e) for e in shown.edits],
        activate=[list(argv_of(step)) for step in steps],
        settings=settings,
        findings=[found_finding(f) for f in findings],
        written=list(written),
        runbook=runbook,
    )


def servers_drafted(servers: Iterable[ServerDraft]) -> list[ServerDrafted]:
    """What is to be told to DHCP servers, as a part of a document."""
    return [
        ServerDrafted(s.label, drafted_file(s.edit) if s.edit else None, list(s.commands), s.why_not) for s in servers
    ]
