"""dnsmasq's configuration, dnsmasq(8): ranges, hosts and options of its DHCP service, and its own host records."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fixed_anchor.core.claims import Claims
from fixed_anchor.core.config import Place
from fixed_anchor.sources.dnsmasq_settings import MISSING, Setting, Settings
from fixed_anchor.sources.protocol import Origin, Reader, Reservation, text_of

_ETHERS = "/etc/ethers"


class Dnsmasq:
    """The source ``dnsmasq``."""

    options: tuple[str, ...] = ()

    def claims(self, data: bytes, origin: Origin, reader: Reader) -> Claims:
        return settings_of(_lines(data, origin.path), reader).claims(origin.kind, origin.shown)


def settings_of(lines: Iterable[tuple[str, Place]], reader: Reader) -> Settings:
    """What the ``lines`` of a configuration set, each with its place; files that they name are read."""
    found = Settings()
    for setting in _settings(lines, reader, ()):
        found.take(setting)
    return found


def _lines(data: bytes, path: str) -> list[tuple[str, Place]]:
    return [(line, Place(path, number)) for number, line in enumerate(text_of(data, path).split("\n"), 1)]


def _settings(lines: Iterable[tuple[str, Place]], reader: Reader, above: tuple[str, ...]) -> Iterator[Setting]:
    """All settings of ``lines``, those of the files that they name in their places."""
    for line, place in lines:
        content = _uncommented(line).strip()
        if not content:
            continue
        path = place.file
        key, _, value = content.partition("=")
        setting = Setting(key.strip(), value.strip(), place)
        if setting.key == "conf-file":
            others = [reader.path(setting.value, path)]
        elif setting.key == "conf-dir":
            others = _in_folder(setting, path, reader)
        elif setting.key in ("dhcp-hostsfile", "dhcp-hostsdir"):
            yield from _hosts_in(reader.path(setting.value, path), reader)
            continue
        elif setting.key == "read-ethers":
            yield from _ethers(setting, reader)
            continue
        else:
            yield setting
            continue
        for other in others:
            if other in above or other == path or len(above) > 10:
                raise setting.error(f"{other} includes itself")
            yield from _settings(_lines(reader.read(other), other), reader, (*above, path))


def _hosts_in(path: str, reader: Reader) -> Iterator[Setting]:
    """The lines of a ``dhcp-hostsfile``, or of all files of a folder, each what stands behind ``dhcp-host=``."""
    files = [path]
    if reader.is_folder(path):
        files = [f"{path.rstrip('/')}/{name}" for name in reader.names(path) if name[:1] not in ".#"]
    for file in files:
        for line, place in _lines(reader.read(file), file):
            entry = _uncommented(line).strip()
            if entry:
                yield Setting("dhcp-host", entry, place)


def _ethers(setting: Setting, reader: Reader) -> Iterator[Setting]:
    """ethers(5): ``MAC ADDRESS`` or ``MAC NAME`` a line."""
    path = reader.path(_ETHERS)
    if not reader.exists(path):
        yield Setting(MISSING, f"read-ethers: there is no {_ETHERS} here to be looked at", setting.place)
        return
    for entry, place in _lines(reader.read(path), path):
        words = entry.partition("#")[0].split()
        if len(words) >= 2:
            yield Setting("dhcp-host", f"{words[0]},{words[1]}", place)


def _in_folder(setting: Setting, path: str, reader: Reader) -> list[str]:
    """``conf-dir=FOLDER[,EXTENSION...|,*EXTENSION...]``: all files but some, or only some."""
    folder, *filters = setting.words()
    folder = reader.path(folder, path)
    only = [f.lstrip("*") for f in filters if f.startswith("*")]
    but = [f for f in filters if f and not f.startswith("*")]
    found = []
    for name in reader.names(folder):
        if name.endswith("~") or (name.startswith("#") and name.endswith("#")) or name.startswith("."):
            continue
        if any(name.endswith(ending) for ending in but) or (only and not any(name.endswith(e) for e in only)):
            continue
        found.append(f"{folder.rstrip('/')}/{name}")
    return found


def _uncommented(line: str) -> str:
    """A ``#`` begins a comment at the start of the line or behind white space, outside of quotes."""
    quoted = False
    for position, char in enumerate(line):
        if char == '"':
            quoted = not quoted
        elif char == "#" and not quoted and (position == 0 or line[position - 1].isspace()):
            return line[:position]
    return line


def reserve(text: str, path: str, wanted: Reservation) -> str:
    """``text`` with a ``dhcp-host`` line, below the last one, else below the last range."""
    lines = text.split("\n")
    keys = [_uncommented(line).partition("=")[0].strip() for line in lines]
    places = [n for n, key in enumerate(keys) if key == "dhcp-host"] or [
        n for n, key in enumerate(keys) if key == "dhcp-range"
    ]
    at = places[-1] + 1 if places else len(lines)
    return "\n".join([*lines[:at], line(wanted), *lines[at:]])


def line(wanted: Reservation) -> str:
    """The reservation alone, a ``dhcp-host`` line."""
    held = wanted.address if ":" not in wanted.address else f"[{wanted.address}]"
    return f"dhcp-host={wanted.mac},{held},{wanted.name}"
