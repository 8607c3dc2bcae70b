"""The one way in which interface files are edited: find, edit, build the file edits, read all of it back.

A format supplies reading and editing. That the result says what is wanted, that no other
interface of the host would change with it, that only files under /etc are touched and that
their modes are right is seen to here, for all formats.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from fixed_anchor.change.files import FileEdit, Files, FileText, apply_edits
from fixed_anchor.core.aside import PORT, RENAMED
from fixed_anchor.core.config import InterfaceConfig, LinkFacts, Place, Wireless, differences
from fixed_anchor.core.errors import AnchorError, NotSupported
from fixed_anchor.formats.protocol import Declaration, Format, Loaded, Texts
from fixed_anchor.text.lines import by_newline

_BY_HAND = "change the file by hand, or write the entry in its usual form, then try again"


def rewrite(
    form: Format,
    files: Files,
    link: LinkFacts,
    wanted: InterfaceConfig,
    links: Iterable[LinkFacts] = (),
    daemon: str | None = None,
    wireless: Wireless | None = None,
) -> tuple[FileEdit, ...]:
    """The edits after which ``files`` declare ``wanted`` for ``link``; none if they do already.

    ``links`` are the links of the host; those that the files call by name are added. ``daemon`` carries out the
    declaration of a link that has none yet, ``wireless`` is the network that it joins. Raises
    :class:`InputError` for broken files, and :class:`NotSupported`, by name, for what cannot
    be written, would not read back as wanted, would change another interface, or for a port.
    """
    every = tuple(links)
    _refuse_port(form, files, link)
    found = form.read(files, (link,))
    if not found:
        if daemon is None:
            raise NotSupported(f"no file of {form.name} declares {link.name}")
        if link.kind == "wireless" and wireless is None:
            raise NotSupported(
                f"{link.name} is wireless, and no file says which network it joins",
                remedy='add `wifi: {network: "NAME", password: file:PATH}` to it in the plan',
            )
        return _declared(form, files, link, wanted, every, daemon, form.declare(files, link, wanted, daemon, wireless))
    (declared,) = found
    todo = differences(declared.config, wanted)
    texts: Texts = form.edit(files, declared, wanted, todo, every) if todo else {}
    own = {place.file for place in declared.places}
    edits = tuple(edit for path in sorted({*texts, *own}) if (edit := _edit(form, files, path, texts)) is not None)
    if edits:
        _prove(form, files, edits, declared, wanted, every)
    return edits


def _declared(
    form: Format,
    files: Files,
    link: LinkFacts,
    wanted: InterfaceConfig,
    links: tuple[LinkFacts, ...],
    daemon: str,
    texts: Texts,
) -> tuple[FileEdit, ...]:
    """The edits of ``texts``, which declare ``link`` for the first time; read back like any other."""
    edits = tuple(edit for path in sorted(texts) if (edit := _edit(form, files, path, texts)) is not None)
    if link.kind == "wireless":
        # There is a passphrase in it.
        edits = tuple(FileEdit(e.path, e.before, _for_root_alone(e.after)) for e in edits)
    after = apply_edits(files, edits)
    declared = form.read(after, (link,))
    where = edits[0].path if edits else None
    left = differences(declared[0].config, wanted) if declared else ("its declaration",)
    if not left and declared[0].daemon != daemon:
        left = (f"its daemon ({declared[0].daemon} would have it)",)
    if left:
        what = f"{link.name} cannot be declared safely in {where}: {', '.join(left)} would not read back as wanted"
        raise NotSupported(what, file=where, remedy=_BY_HAND)
    _prove_others(form, files, after, link, links, Place(edits[0].path, 0))
    for edit in edits:
        if edit.before is not None and (edit.after is None or not _only_more(edit.before.text, edit.after.text)):
            what = f"{link.name} cannot be declared without touching others in {edit.path}"
            raise NotSupported(what, file=edit.path, remedy=_BY_HAND)
    return edits


def _for_root_alone(file: FileText | None) -> FileText | None:
    return FileText(file.path, file.text, file.mode & 0o600) if file is not None else None


def _only_more(before: str, after: str) -> bool:
    """Whether every line of ``before`` is still there, in its order."""
    lines = iter(by_newline(after))
    # The last line may have had no end.
    return all(any(line.rstrip("\r\n") == other.rstrip("\r\n") for other in lines) for line in by_newline(before))


def _refuse_port(form: Format, files: Files, link: LinkFacts) -> None:
    """A port of a bridge, bond or team takes no addresses: its master has them."""
    said = next((a for a in form.asides(files, (link,)) if a.kind == PORT and a.interface == link.name), None)
    master = said.of if said is not None else link.master
    if master is not None:
        place = said.place if said is not None else None
        raise NotSupported(
            f"{link.name} is a port of {master}, and takes no addresses",
            file=place.file if place else None,
            line=place.line if place else None,
            remedy=f"give them to {master}",
        )


def _edit(form: Format, files: Files, path: str, texts: Texts) -> FileEdit | None:
    """One file as it shall become; ``None`` where it may stay as it is."""
    before = files.get(path)
    text = texts.get(path, before.text if before is not None else None)
    if before is None:
        return None if text is None else FileEdit(path, None, FileText(path, text, form.created))
    # A mode that is too open is put right where it is ours to do so, and the text is edited or not.
    mode = before.mode & ~form.mode_taken
    if text == before.text:
        if mode == before.mode or not path.startswith("/etc/"):
            return None
    elif not path.startswith("/etc/"):
        raise NotSupported(
            f"{path} would have to change, and only files under /etc are edited", file=path, remedy=_in_etc(form, path)
        )
    if text is None:
        return FileEdit(path, before, None)
    if text != before.text:
        mode |= form.mode_given
    # What is for one reader alone is for root.
    owner = (0, 0) if form.mode_taken & 0o044 else (before.uid, before.gid)
    return FileEdit(path, before, FileText(path, text, mode, *owner))


def _in_etc(form: Format, path: str) -> str:
    """What to do with a file that is not ours to edit: its like under /etc hides it, unless /run comes first."""
    if path.startswith("/run/") and form.run_wins:
        return f"see what writes {path}, and have that leave it: no file of this name under /etc would count beside it"
    # Drop-ins stay in the folder of what they are for.
    found = re.match(r"/(?:run|lib|usr/lib|usr/local/lib)/(.*)", path)
    return (
        f"copy it to /etc/{found[1]} first" if found else "move it below /etc, and name it there where it is named now"
    )


def _prove(
    form: Format,
    files: Files,
    edits: tuple[FileEdit, ...],
    declared: Declaration,
    wanted: InterfaceConfig,
    links: tuple[LinkFacts, ...],
) -> None:
    """Reads the edited files back, every interface of the host: an editor that errs is found out here."""
    name, after = declared.link.name, apply_edits(files, edits)
    where = edits[0].path
    line = next((place.line for place in declared.places if place.file == where), None)
    try:
        again = form.read(after, (declared.link,))
        left = differences(again[0].config, wanted) if again else ("its declaration",)
    except AnchorError as error:
        # An edit beside an anchor, say: the text is not what it was taken for.
        left = (f"the file ({error.what})",)
    if left:
        raise NotSupported(
            f"{name} cannot be edited safely in {where}: {', '.join(left)} would not read back as wanted",
            file=where,
            line=line,
            remedy=_BY_HAND,
        )
    _prove_others(form, files, after, declared.link, links, Place(where, line or 0))
    if form.others(files, declared) != form.others(after, declared):
        what = f"{name} cannot be edited without touching others in {where}"
        raise NotSupported(what, file=where, line=line, remedy=_BY_HAND)


def _prove_others(
    form: Format, files: Files, after: Files, link: LinkFacts, links: tuple[LinkFacts, ...], where: Place
) -> None:
    """Every other interface of the host must be declared as before."""
    for other in _other_links(form, files, after, link, links):
        was, becomes = _said(form, files, other), _said(form, after, other)
        if was != becomes:
            raise NotSupported(
                f"{other.name} would change with {link.name}: {_respects(was, becomes)}",
                file=where.file,
                line=where.line or None,
                remedy=f"give {other.name} a declaration that owes nothing to that of {link.name}, then try again",
            )


def _other_links(
    form: Format, files: Files, after: Files, link: LinkFacts, links: tuple[LinkFacts, ...]
) -> list[LinkFacts]:
    """The links of the host, and those that the files call by name, now or then: all but ``link``."""
    others = {other.name: other for other in links}
    for named, kind in (form.named(files) | form.named(after)).items():
        others.setdefault(named, LinkFacts(named, kind=kind))
    # The link itself, under the names that it has now and the one that it will have.
    for own in (link.name, *link.alternative_names, *(a.of for a in form.asides(files, (link,)) if a.kind == RENAMED)):
        others.pop(own, None)
    return list(others.values())


#: What the files say of a link, but for the places where they do so; or why they cannot be read for it.
_Said = tuple[InterfaceConfig, str, str, Loaded | None] | str | None


def _said(form: Format, files: Files, link: LinkFacts) -> _Said:
    try:
        found = form.read(files, (link,))
    except AnchorError as error:
        return error.what
    return (found[0].config, found[0].daemon, found[0].identity, found[0].loaded) if found else None


def _respects(was: _Said, becomes: _Said) -> str:
    """In which respects, in the words of a plan."""
    if isinstance(was, tuple) and isinstance(becomes, tuple):
        found = [
            _WORDS.get(field, field)
            for field in InterfaceConfig.__struct_fields__
            if getattr(was[0], field) != getattr(becomes[0], field)
        ]
        return ", ".join(dict.fromkeys(found)) or "who carries it out"
    if becomes is None:
        return "no file would declare it any more"
    return "these files would declare it" if was is None else "its declaration could not be read any more"


#: The words of a plan for what a configuration calls otherwise.
_WORDS = {"addresses": "hold", "routes": "gateway or routes", "lease_routes": "gateway", "lease_resolvers": "resolvers"}
