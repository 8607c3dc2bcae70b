"""Which ``.network`` file is for an interface, systemd.network(5): precedence, drop-ins, and all ways to match."""

from __future__ import annotations

from fnmatch import fnmatchcase

from fixed_anchor.change.files import Files
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.formats.ini_text import IniText

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
    """The ``.network`` files in the order in which networkd tries them: by name, whatever the folder."""
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


def winner(files: Files, link: LinkFacts) -> str | None:
    """The file that networkd takes for ``link``, ``None`` where none matches: the first one does it."""
    for path in mains(files):
        parts = [IniText(files[p].text, p) for p in parts_of(files, path)]
        if _matches(parts, link):
            return path
    return None


def _matches(parts: list[IniText], link: LinkFacts) -> bool:
    blocks = [b for part in parts for b in part.named("Match")]
    entries = [e for b in blocks for e in b.entries]
    # A file with no [Match] at all, or an empty one, is for every interface.
    for entry in entries:
        words = entry.value.split()
        if not words:
            continue
        if entry.key == "Name":
            if not _glob(words, link.name):
                return False
        elif entry.key in ("MACAddress", "PermanentMACAddress"):
            own = (
                {link.mac, link.permanent_mac or link.mac}
                if entry.key == "MACAddress"
                else {link.permanent_mac or link.mac}
            )
            if not own & {w.lower().replace("-", ":") for w in words}:
                return False
        elif entry.key == "Driver":
            if link.driver is None or not _glob(words, link.driver):
                return False
        elif entry.key == "Path":
            if link.path is None or not _glob(words, link.path):
                return False
        elif entry.key == "Type":
            kind = "ether" if link.kind == "ethernet" else link.kind
            if not _glob(words, kind) and not _glob(words, link.kind):
                return False
        elif entry.key == "Kind":
            if not _glob(words, link.kind):
                return False
        else:
            # A condition on the host, the architecture, the SSID: not to be seen from here.
            return False
    return True


def _glob(words: list[str], name: str) -> bool:
    """Whitespace-separated globs; a leading ``!`` inverts the list."""
    inverted = words[0].startswith("!")
    patterns = [words[0].lstrip("!"), *words[1:]]
    return any(fnmatchcase(name, p) for p in patterns) != inverted


def refuse_shared(main: IniText, link: LinkFacts) -> None:
    """A file for several interfaces cannot hold the address of one."""
    names = [w for b in main.named("Match") for e in b.all("Name") for w in e.value.split()]
    macs = [w for b in main.named("Match") for e in b.entries if e.key.endswith("MACAddress") for w in e.value.split()]
    if len(macs) == 1 or (len(names) == 1 and not any(c in names[0] for c in "*?[!")):
        return
    raise NotSupported(
        f"this file is for every interface that matches {' '.join(names) or 'anything'}, not for {link.name} alone",
        file=main.path,
        line=1,
        remedy=f"make a file of its own for {link.name}, with a name that comes before this one",
    )
