"""What is wrong at the seat once a host has another address: the lines to change, with their places."""

from __future__ import annotations

import glob
import os
import re
import shutil
import socket
import subprocess
from collections.abc import Iterator
from fnmatch import fnmatchcase
from pathlib import Path
from typing import NamedTuple

from fixed_anchor.core.addresses import IPAddress, parse_address
from fixed_anchor.core.errors import printable
from fixed_anchor.machines.ssh.client import Effective
from fixed_anchor.machines.ssh.destination import Destination

_HOSTS = Path("/etc/hosts")
#: The user's own configuration of OpenSSH before everybody's, ssh_config(5); Include counts from these folders.
_CONFIGS = (Path("~/.ssh/config"), Path("/etc/ssh/ssh_config"))
_LINE = re.compile(r"\s*([A-Za-z]+)\s*(?:=\s*|\s)\s*(.*?)\s*$")


class Correction(NamedTuple):
    """A line that shall stand somewhere: where, and what stands there now; and the line."""

    where: str
    line: str


def corrections(destination: Destination, effective: Effective, address: IPAddress, known_as: str) -> list[Correction]:
    """What no longer leads to the host, which is at ``address`` now; empty where its name leads there.

    ``said`` is what the configuration makes of ``destination``, ``known_as`` the name by which its key is known.
    """
    try:
        old = parse_address(effective.hostname)
    except ValueError:
        return list(_name(effective.hostname, address))
    if old == address:
        return []
    wrong = list(_alias(destination, effective, address))
    if effective.alias is None:
        wrong += _key(effective, address, known_as)
    return wrong


def _name(name: str, address: IPAddress) -> Iterator[Correction]:
    """A name that resolves to something else: in /etc/hosts, else in DNS."""
    try:
        found = {str(entry[4][0]).partition("%")[0] for entry in socket.getaddrinfo(name, None)}
    except OSError:
        found = set()
    if str(address) in found:
        return
    for number, line in enumerate(_lines(_HOSTS), 1):
        words = line.partition("#")[0].split()
        if name in words[1:] and words[0] in found:
            where = f"{_HOSTS}, line {number}, instead of `{printable(line.strip())}`"
            yield Correction(where, printable(" ".join([str(address), *words[1:]])))
            return
    kind = "A" if address.version == 4 else "AAAA"
    instead = f", instead of {', '.join(sorted(found))}" if found else ""
    yield Correction(f"DNS{instead}, and the PTR record of {address}", f"{name.rstrip('.')}. IN {kind} {address}")


def _alias(destination: Destination, effective: Effective, address: IPAddress) -> Iterator[Correction]:
    """An address in the configuration of OpenSSH, or in the plan."""
    if destination.name == effective.hostname:
        yield Correction(f"the plan, instead of `reach: ssh:{destination.name}`", f"reach: ssh:{address}")
        return
    for config in _CONFIGS:
        for file, number, line in _host_name_lines(config.expanduser(), destination.name):
            if effective.hostname in re.split(r'[\s="]+', line):
                where = f"{file}, line {number}, instead of `{printable(line.strip())}`"
                yield Correction(where, f"HostName {address}")
                return
    where = f"your configuration of ssh for `Host {destination.name}`, instead of `HostName {effective.hostname}`"
    yield Correction(where, f"HostName {address}")


def _host_name_lines(file: Path, host: str, depth: int = 0) -> Iterator[tuple[Path, int, str]]:
    """The HostName lines of a configuration that are for ``host``, with their places; ssh_config(5)."""
    is_for_it = True
    for number, line in enumerate(_lines(file), 1):
        found = _LINE.match(line)
        if found is None:
            continue
        keyword, value = found[1].lower(), found[2].strip('"')
        if keyword == "host":
            patterns = value.split()
            refused = any(p.startswith("!") and fnmatchcase(host, p[1:]) for p in patterns)
            is_for_it = not refused and any(fnmatchcase(host, p) for p in patterns)
        elif keyword == "match":
            is_for_it = False
        elif keyword == "hostname" and is_for_it:
            yield file, number, line
        elif keyword == "include" and is_for_it and depth < 16:
            for pattern in value.split():
                for name in sorted(glob.glob(os.path.join(file.parent, os.path.expanduser(pattern)))):
                    yield from _host_name_lines(Path(name), host, depth + 1)


def _key(effective: Effective, address: IPAddress, known_as: str) -> Iterator[Correction]:
    """Its key, which is known by the old address alone: the line by which it is known by the new one too."""
    new = str(address) if effective.port == 22 or not known_as.startswith("[") else f"[{address}]:{effective.port}"
    for name in effective.known_hosts:
        file = Path(name).expanduser()
        if any(True for _ in _known(file, new)):
            return
        for number, words in _known(file, known_as):
            at = 1 if words[0].startswith("@") else 0
            words[at] = new
            where = f"{file}, beside line {number}, which knows its key by {known_as} alone"
            yield Correction(where, printable(" ".join(words[: at + 3])))
            return


def _known(file: Path, name: str) -> Iterator[tuple[int, list[str]]]:
    """The lines of a known_hosts file for ``name``, hashed or not, as ssh-keygen(1) finds them."""
    program = shutil.which("ssh-keygen")
    if program is None or not file.exists():
        return
    argv = [program, "-F", name, "-f", str(file)]
    try:
        done = subprocess.run(argv, capture_output=True, text=True, errors="replace", timeout=10, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return
    for told in re.findall(r"found: line (\d+)", done.stdout):
        every = _lines(file)
        number = int(told)
        if 1 <= number <= len(every) and len(words := every[number - 1].split()) >= 3:
            yield number, words


def _lines(file: Path) -> list[str]:
    try:
        return file.read_text("utf-8", "replace").splitlines()
    except OSError:
        return []
