"""Which ``.network`` file is for an interface, systemd.network(5): precedence, masks, drop-ins, matching."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fnmatch import fnmatchcase

from fixed_anchor.change.files import Files
from fixed_anchor.core.aside import UNCLEAR, Aside
from fixed_anchor.core.config import LinkFacts, Place
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.text.ini import IniText

#: systemd.network(5): the folders by precedence; a file of the same name in an earlier one hides a later.
FOLDERS = (
    "/etc/systemd/network/",
    "/run/systemd/network/",
    "/usr/local/lib/systemd/network/",
    "/usr/lib/systemd/network/",
    "/lib/systemd/network/",
)


def is_generated(path: str) -> bool:
    """Whether netplan wrote the file: then it is netplan's to declare."""
    return path.startswith("/run/systemd/network/") and "/10-netplan-" in path


def _rank(path: str) -> int:
    return next(n for n, folder in enumerate(FOLDERS) if path.startswith(folder))


def mains(files: Files) -> list[str]:
    """The ``.network`` files in the order in which networkd tries them: by name, whatever the folder.

    Of one name the first folder counts, also where an empty file, or a link to /dev/null, masks the others.
    """
    by_name: dict[str, str] = {}
    for path in sorted((p for p in files if p.endswith(".network")), key=_rank):
        by_name.setdefault(path.rpartition("/")[2], path)
    return [by_name[name] for name in sorted(by_name)]


def parts_of(files: Files, main: str) -> list[str]:
    """``main`` and its drop-ins, in the order in which they are read."""
    by_name: dict[str, str] = {}
    suffix = "/" + main.rpartition("/")[2] + ".d/"
    for path in sorted((p for p in files if suffix in p and p.endswith(".conf")), key=_rank):
        by_name.setdefault(path.rpartition("/")[2], path)
    return [main, *(by_name[name] for name in sorted(by_name))]


def texts_of(files: Files, main: str) -> list[IniText]:
    """The parsed texts of ``main`` and its drop-ins."""
    return [IniText(files[path].text, path) for path in parts_of(files, main)]


def winner(files: Files, link: LinkFacts) -> str | None:
    """The file that networkd takes for ``link``, ``None`` where none matches: the first one does it."""
    return next((path for path in mains(files) if _judged(texts_of(files, path), link) is True), None)


def unclear(files: Files, link: LinkFacts) -> Iterator[Aside]:
    """The files before the one that is taken for ``link`` of which it cannot be told whether they are for it."""
    for path in mains(files):
        parts = texts_of(files, path)
        judged = _judged(parts, link)
        if judged is True:
            return
        if isinstance(judged, str):
            yield Aside(UNCLEAR, _condition(parts), judged, link.name)


#: Conditions on the host or its boot that are not looked at, and on properties of a link that are not known.
_NOT_JUDGED = frozenset(
    {"Host", "Virtualization", "KernelCommandLine", "KernelVersion", "Version", "Credential", "Architecture"}
) | {"Firmware", "Property"}


def _condition(parts: list[IniText]) -> Place:
    """The first condition that is not looked at; the beginning of the file where there is none."""
    for part in parts:
        for entry in (e for block in part.named("Match") for e in block.entries):
            if entry.key in _NOT_JUDGED:
                return Place(part.path, entry.line)
    return Place(parts[0].path, next((b.first + 1 for b in parts[0].named("Match")), 1))


def _judged(parts: list[IniText], link: LinkFacts) -> bool | str:
    """Whether a file with its drop-ins is for ``link``; or what keeps that from being told."""
    if not any(part.blocks for part in parts):
        # A mask, or nothing at all.
        return False
    rules = match_rules(parts)
    if not rules:
        return "it has no [Match]: by its manual networkd takes it for every interface, by its program for none"
    left = []
    for key, words in rules.items():
        if key in _NOT_JUDGED:
            left.append(f"{key}={' '.join(words)}")
        elif not _fits(key, words, link):
            return False
    return "it depends on " + ", ".join(left) if left else True


def match_rules(parts: list[IniText]) -> dict[str, list[str]]:
    """The words of each setting in ``[Match]``: several lines add up, and an empty one begins anew.

    A leading ``!`` inverts all words of its line.
    """
    rules: dict[str, list[str]] = {}
    for part in parts:
        for entry in (e for block in part.named("Match") for e in block.entries):
            inverted = entry.value.startswith("!")
            words = [f"!{w.lstrip('!')}" if inverted else w for w in entry.value.split()]
            rules[entry.key] = [*rules.get(entry.key, []), *words] if words else []
    return {key: words for key, words in rules.items() if words}


def link_fits(rules: Mapping[str, list[str]], link: LinkFacts) -> bool:
    """Whether ``link`` fits all ``rules`` of a ``[Match]``; what is not judged does not fit."""
    return bool(rules) and all(key not in _NOT_JUDGED and _fits(key, words, link) for key, words in rules.items())


def _fits(key: str, words: list[str], link: LinkFacts) -> bool:
    permanent = link.permanent_mac or link.mac
    if key in ("MACAddress", "PermanentMACAddress"):
        own = {link.mac, permanent} if key == "MACAddress" else {permanent}
        return bool(own & {w.lower().replace("-", ":") for w in words})
    if key == "Type":
        kind = "ether" if link.kind == "ethernet" else "wlan" if link.kind == "wireless" else link.kind
        return _glob(words, kind) or (kind != link.kind and _glob(words, link.kind))
    if key == "Name":
        return _any_name(words, link)
    if key == "Driver":
        return link.driver is not None and _glob(words, link.driver)
    if key == "Path":
        return link.path is not None and _glob(words, link.path)
    if key == "Kind":
        return _glob(words, link.kind)
    # What is left is about radio networks.
    return False


def _any_name(words: list[str], link: LinkFacts) -> bool:
    """Whether ``Name=`` fits any of the link's names: so one is excluded only where all of them are."""
    return any(_glob(words, name) for name in (link.name, *link.alternative_names))


def _glob(words: list[str], name: str) -> bool:
    """Globs, any of which may fit, and none that begins with ``!``."""
    if any(fnmatchcase(name, w[1:]) for w in words if w.startswith("!")):
        return False
    positive = [w for w in words if not w.startswith("!")]
    return not positive or any(fnmatchcase(name, w) for w in positive)


def is_shared(parts: list[IniText]) -> bool:
    """Whether a file may be for further interfaces too: it names neither one MAC nor one name."""
    rules = match_rules(parts)
    macs = set(rules.get("MACAddress", []) + rules.get("PermanentMACAddress", []))
    names = set(rules.get("Name", []))
    return len(macs) != 1 and not (len(names) == 1 and not any(c in name for name in names for c in "*?[!"))


def _name_before(taken: str, files: Files, link: LinkFacts) -> str | None:
    """A name for a file of the link's own that comes before ``taken``, as close as can be."""
    names = [f"{number:02d}-{link.name}.network" for number in range(90, -1, -10)] + [f"0-{link.name}.network"]
    present = {path.rpartition("/")[2] for path in files}
    return next((name for name in names if name < taken and name not in present), None)


def new_file(files: Files, link: LinkFacts) -> IniText:
    """A file for ``link``, which none matches: by name and MAC, before every file that is for several interfaces.

    Raises :class:`NotSupported` where no name is left that comes before theirs.
    """
    shared = [path.rpartition("/")[2] for path in mains(files) if is_shared(texts_of(files, path))]
    first = min(shared, default="~")
    name = _name_before(first, files, link)
    if name is None:
        raise NotSupported(
            f"no name is left for a file for {link.name} that comes before {first}, which is for several interfaces",
            remedy=f"rename {first}",
        )
    # What is made of a link has its MAC, too; both together are one device.
    mac = [f"MACAddress={link.mac}\n"] if link.mac is not None else []
    return IniText("".join(["[Match]\n", f"Name={link.name}\n", *mac, "\n", "[Network]\n"]), FOLDERS[0] + name)


def own_file(files: Files, parts: list[IniText], link: LinkFacts) -> IniText:
    """A file of the link's own that says what ``parts`` say, and is tried before them.

    Raises :class:`NotSupported` where no name is left that comes before theirs.
    """
    # Not far before it, so that files which come before both go on doing so.
    name = _name_before(parts[0].path.rpartition("/")[2], files, link)
    if name is None:
        raise NotSupported(
            f"{parts[0].path} is not for {link.name} alone, and no name is left that comes before it",
            file=parts[0].path,
            line=1,
            remedy=f"make a file of its own for {link.name}, and rename this one",
        )
    lines = ["[Match]\n", f"Name={link.name}\n", "\n"]
    for part in parts:
        starts = [block.first for block in part.blocks] + [len(part.lines)]
        for block, end in zip(part.blocks, starts[1:], strict=True):
            if block.name != "Match":
                lines += [line if line.endswith("\n") else line + "\n" for line in part.lines[block.first : end]]
    return IniText("".join(lines), FOLDERS[0] + name)
