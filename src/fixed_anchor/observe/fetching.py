"""What a survey has to know of a machine, fetched in two goes: what any host has, then what runs there and each link.

Commands of a service are only run where it is active: some would start it. Files that other
files name (``source`` of interfaces(5)) take one go more for each further level.
"""

from __future__ import annotations

from fixed_anchor.change.files import FileText
from fixed_anchor.core.errors import InputError
from fixed_anchor.daemons import (
    TIME_DAEMONS,
    all_files,
    all_links,
    all_questions,
    ifupdown,
    is_active,
    links_of_boot,
    others,
    programs,
    starts_at_boot,
    time_is_active,
    units,
)
from fixed_anchor.daemons.protocol import with_interface
from fixed_anchor.formats import FORMATS, interfaces2
from fixed_anchor.machines.fetched import Fetched
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.readable import Readable, Wanted
from fixed_anchor.observe import announced, identity, kernel, lease, provisioning, resolvers

#: How deep files may name others: a loop among them ends here.
_LEVELS = 16


def active_units(fetched: Readable) -> dict[str, bool]:
    """Whether each service runs; empty where that is not known."""
    found = _answers(fetched, is_active(), list(dict.fromkeys(units().values())))
    return found | _answers(fetched, time_is_active(), [d.unit for d in TIME_DAEMONS]) if found else {}


def _answers(fetched: Readable, argv: tuple[str, ...], every: list[str]) -> dict[str, bool]:
    answers = fetched.run(argv).out.split() if fetched.running else []
    if len(answers) != len(every):
        return {}
    return {unit: answer == "active" for unit, answer in zip(every, answers, strict=True)}


def _of_kernel() -> Wanted:
    records = (file for asked in all_questions().values() for file in asked.files)
    return Wanted(
        files=(
            "/proc/sys/kernel/hostname",
            "/etc/hostname",
            resolvers.RESOLV_CONF,
            "/run/udev/data/n*",
            *records,
            kernel.EVENTS.format("*"),
        ),
        links=(resolvers.RESOLV_CONF, *all_links()),
        commands=(*kernel.COMMANDS, is_active(), time_is_active(), starts_at_boot(), lease.PROCESSES),
    )


def fetch_kernel(machine: Machine) -> Fetched:
    """What the kernel and the running services say, and of each link; no interface file, which often need root."""
    return _with_links(machine, machine.fetch(_of_kernel()))


def fetch_for_survey(machine: Machine, beside: bool = True) -> Fetched:
    """Everything that a survey needs; without ``beside`` nothing of what configures interfaces beside the stacks."""
    first = _of_kernel()
    files = (*first.files, *all_files(), *provisioning.FILES, *((*others.FILES, *identity.FILES) if beside else ()))
    # Where systemd runs it is asked instead.
    links = () if machine.running else tuple(path for paths in links_of_boot().values() for path in paths)
    files = files if machine.running else (*files, programs.STATUS)
    commands = (*first.commands, *programs.COMMANDS) if beside else first.commands
    fetched = _with_links(machine, machine.fetch(Wanted(files, (*first.links, *links), commands=commands)))
    return _with_named_files(machine, fetched)


def _with_links(machine: Machine, first: Fetched) -> Fetched:
    """And what the active services say, of the host and of each link."""
    if not first.running:
        return first
    names = kernel.link_names(first)
    active = active_units(first)
    asked = [q for unit, q in all_questions().items() if active.get(unit, not active)]
    of_netplan = [p for p in FORMATS["netplan"].patterns if first.knows(p) and first.glob(p)]
    clients = {lease.client_name(line) for line in first.run(lease.PROCESSES).out.splitlines() if line.split()}
    second = Wanted(
        files=tuple(
            path.format(name) for path in (*ifupdown.LEASES, announced.MTU, kernel.ACCEPT_RA) for name in names
        ),
        links=tuple(kernel.DRIVER.format(name) for name in names),
        commands=(
            *(c for q in asked for c in (*q.commands, *(c for name in names for c in q.of_interface(name)))),
            *([programs.FEATURES] if of_netplan else []),
            *(with_interface(ifupdown.DUMP_LEASE, name) for name in names if "dhcpcd" in clients),
        ),
    )
    return first.joined(machine.fetch(second))


def _with_named_files(machine: Machine, fetched: Fetched) -> Fetched:
    asked = set(all_files())
    for _ in range(_LEVELS):
        named = {pattern for name in FORMATS for pattern in _named_by(fetched, name)} - asked
        if not named:
            return fetched
        fetched = fetched.joined(machine.fetch(Wanted(files=tuple(sorted(named)))))
        asked |= named
    return fetched


def _named_by(fetched: Readable, name: str) -> tuple[str, ...]:
    return FORMATS[name].names_files(format_files(fetched, name))


def is_read(readable: Readable, name: str) -> bool:
    """Whether a program of the host reads the format ``name``: of interfaces(5) there are two, and one is installed."""
    if name not in interfaces2.READERS:
        return True
    link = readable.link_target(interfaces2.IFUP)
    if link is None and not readable.running:
        # A tree may be no more than /etc.
        link = interfaces2.PROGRAM if readable.read(interfaces2.CONF) is not None else None
    return name == interfaces2.reader_of(link)


def format_files(readable: Readable, name: str) -> dict[str, FileText]:
    """All files of a format on a machine that can be read as such, by path, those that they name among them.

    Broken ones are left out: :func:`sifted_files` tells of them. Raises ``NoAccess``.
    """
    return sifted_files(readable, name)[0]


def sifted_files(readable: Readable, name: str) -> tuple[dict[str, FileText], tuple[InputError, ...]]:
    """The files of a format, and what is wrong with those that its reader would not take. Raises ``NoAccess``."""
    if not is_read(readable, name):
        return {}, ()
    form = FORMATS[name]
    found: dict[str, FileText] = {}
    broken: list[InputError] = []
    left = list(form.patterns)
    asked: set[str] = set()
    while left:
        for pattern in left:
            asked.add(pattern)
            for path in readable.glob(pattern):
                try:
                    file = readable.read(path)
                    if file is not None:
                        form.check(file)
                        found[path] = file
                except InputError as error:
                    broken.append(error)
        left = [p for p in form.names_files(found) if p not in asked and readable.knows(p)]
    return found, tuple(broken)
