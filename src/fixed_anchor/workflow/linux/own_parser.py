"""What the host's own parser says of its files as drafted, before any of them is written: a copy is tried there.

Of the stacks that have a parser which changes nothing (:data:`fixed_anchor.daemons.OWN_PARSERS`).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from fnmatch import fnmatchcase

import msgspec

from fixed_anchor.change.files import FileEdit, Files, apply_edits
from fixed_anchor.core.errors import printable
from fixed_anchor.core.foreseen import Refusal
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.daemons import OWN_PARSERS
from fixed_anchor.daemons.protocol import NAMES, OwnParser
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.readable import Ran
from fixed_anchor.observe.fetching import format_files

#: The statuses of a command that is not there, that may not be run, and that did not end, timeout(1).
_NOT_TRIED = (None, 124, 126, 127)
_IFACE = re.compile(r"\s*iface\s+(\S+)")
_SOURCE = re.compile(r"\s*source(?P<all>-directory)?\s+(?P<what>\S+)\s*(#.*)?")
#: A place in what a parser says: the copy of a file, a line, and perhaps a column.
_PLACE = re.compile(r"(?P<path>/[^\s:]*):\s*(?:line)?(?P<line>\d+):(?:\d+:)?")
#: What netplan's own program says on systems without what it looks for; nothing of it is about the files.
_BESIDE_THE_POINT = ("Cannot call openvswitch", "/proc", "WARNING")


class Trial(msgspec.Struct, frozen=True):
    """What is tried: the files of the copy, the command, and of which file and line each line of a copied one is."""

    files: dict[str, str]
    argv: tuple[str, ...]
    #: Of each line of a file in the copy the file and the line that it was made of.
    lines: dict[str, list[tuple[str, int]]]


class Tried(msgspec.Struct, frozen=True):
    """What came of it: why the parser of the host refuses the files, or why it was not asked; neither where it took
    them."""

    refusal: Refusal | None = None
    why_not: str = ""


def tried(machine: Machine, survey: HostSurvey, edits: tuple[FileEdit, ...]) -> Tried:
    """Has the host's own parsers read its files with ``edits``, those of each stack that the edits are about."""
    for stack in dict.fromkeys(i.stack for i in survey.interfaces if i.stack is not None and i.stack in OWN_PARSERS):
        parser = OWN_PARSERS[stack]
        now = format_files(machine, stack)
        changed = [edit for edit in edits if edit.path in now or edit.path.startswith(parser.folder)]
        if not changed:
            continue
        trial = _trial(parser, apply_edits(now, tuple(changed)), survey)
        if not machine.running:
            return Tried(why_not=f"{trial.argv[0]} was not asked: nothing runs there")
        ran = machine.try_out(trial.files, trial.argv)
        if ran.status in _NOT_TRIED or "ermission denied" in ran.err or "must be root" in ran.err:
            return Tried(why_not=f"{trial.argv[0]} could not be asked: {_last(ran) or 'it does not run there'}")
        if not ran.good and any(line.startswith(parser.complains) for line in _words(ran) or [""]):
            return Tried(_refusal(machine.name, trial, ran))
    return Tried()


def _trial(parser: OwnParser, files: Files, survey: HostSurvey) -> Trial:
    if not parser.joined:
        texts = {path: file.text for path, file in files.items()}
        lines = {path: [(path, n) for n in range(1, text.count("\n") + 2)] for path, text in texts.items()}
        return Trial(texts, parser.argv, lines)
    whole = list(_with_sourced(files, parser.joined, ()))
    declared = {found[1] for text, _, _ in whole if (found := _IFACE.match(text))}
    # A bridge's port can belong to the stack without a stanza of its own, as a guest's does: it is not known by name.
    names = [i.name for i in survey.interfaces if i.name in declared]
    argv = tuple(word for given in parser.argv for word in (names or ["-a"] if given == NAMES else [given]))
    copied = {parser.joined: "".join(f"{text}\n" for text, _, _ in whole)}
    return Trial(copied, argv, {parser.joined: [(path, n) for _, path, n in whole]})


def _with_sourced(files: Files, path: str, above: tuple[str, ...]) -> Iterator[tuple[str, str, int]]:
    """The lines of a file with those of the files that it names in their place, each with where it stands.

    The copy lies in another folder, and the paths in the files are those of the host.
    """
    file = files.get(path)
    for number, line in enumerate(file.text.splitlines() if file is not None else (), 1):
        source = _SOURCE.fullmatch(line)
        if source is None:
            yield line, path, number
            continue
        what = source["what"] + ("/*" if source["all"] else "")
        what = what if what.startswith("/") else f"/etc/network/{what}"
        for named in sorted(p for p in files if fnmatchcase(p, what) and p not in (path, *above)):
            yield from _with_sourced(files, named, (path, *above))


def _words(ran: Ran) -> list[str]:
    lines = (" ".join(printable(line).split()) for line in (ran.err or ran.out).splitlines())
    return [line for line in lines if any(c.isalpha() for c in line) and not line.startswith(_BESIDE_THE_POINT)]


def _last(ran: Ran) -> str:
    words = _words(ran)
    return words[-1] if words else ""


def _refusal(host: str, trial: Trial, ran: Ran) -> Refusal:
    """Its own words, without the copy's folder, and the drafted line that they name."""
    said = _words(ran)
    # ifup tells the commands that it would run as well: what it has to complain of has a place, or its name before it.
    said = [line for line in said if _PLACE.search(line) or line.startswith(f"{trial.argv[0]}:")] or said
    place, words = f"files of {host} as drafted", []
    for line in said:
        found = _PLACE.search(line)
        if found is None:
            words.append(line)
            continue
        path = next((p for p in trial.lines if found["path"].endswith(p)), None)
        number = int(found["line"])
        if path is not None and 0 < number <= len(trial.lines[path]):
            file, at = trial.lines[path][number - 1]
            text = trial.files[path].splitlines()[number - 1 : number]
            place = f"{file}:{at} as drafted" + (f", `{printable(text[0].strip())}`" if text else "")
        words.append(" ".join((line[: found.start()] + line[found.end() :]).split()))
    why = "; ".join(words[:2]) or f"status {ran.status}"
    return Refusal(
        f"`{' '.join(trial.argv[:2])}` on {host} does not take the files as drafted: {why}",
        place,
        "Correct that line where it is the host's own; else write the file by hand, or say what is refused.",
    )
