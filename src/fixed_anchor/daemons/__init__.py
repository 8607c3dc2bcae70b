"""What brings interface files into force, one module each. A new one is a new module and one line here."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from fixed_anchor.change.files import Files
from fixed_anchor.change.steps import Steps
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.daemons import ifupdown, ifupdown2, netplan
from fixed_anchor.daemons.chrony import Chrony
from fixed_anchor.daemons.hostname import Hostname
from fixed_anchor.daemons.network_manager import NetworkManager
from fixed_anchor.daemons.network_scripts import NetworkScripts
from fixed_anchor.daemons.networkd import Networkd
from fixed_anchor.daemons.protocol import Daemon, HostWide, OwnParser, Questions, TimeDaemon
from fixed_anchor.daemons.resolved import Resolved
from fixed_anchor.daemons.timesyncd import Timesyncd
from fixed_anchor.formats import FORMATS, chrony_conf, interfaces2
from fixed_anchor.formats.protocol import Declaration

#: By the names that declarations say.
DAEMONS: dict[str, Daemon] = {
    "systemd-networkd": Networkd(),
    "NetworkManager": NetworkManager(),
    "ifupdown": ifupdown.Ifupdown(),
    "ifupdown2": ifupdown2.Ifupdown2(),
    "network-scripts": NetworkScripts(),
}

#: In the order in which they are asked whether they run; only one does.
TIME_DAEMONS: tuple[TimeDaemon, ...] = (
    Timesyncd(),
    Chrony("chrony.service", chrony_conf.MAIN[0]),
    Chrony("chronyd.service", chrony_conf.MAIN[1]),
)

#: In the order in which they load their files, which is before the interfaces are loaded.
HOST_WIDE: tuple[HostWide, ...] = (Resolved(), Hostname(), *TIME_DAEMONS)


#: What makes a daemon's files of a format's, by the name of the format.
GENERATORS: dict[str, Callable[[Steps], Steps]] = {"netplan": netplan.generated}

#: What reads the files of a stack and changes nothing, by the name of their format.
OWN_PARSERS: dict[str, OwnParser] = {
    "netplan": netplan.OWN_PARSER,
    "ifupdown": ifupdown.OWN_PARSER,
    "ifupdown2": ifupdown2.OWN_PARSER,
}


def interface_steps(stack: str, before: Files, after: Files, link: LinkFacts) -> Steps:
    """The commands that bring a change of ``link`` into force; ``stack`` is the format's name.

    ``before`` and ``after`` are all files of that format. Raises :class:`NotSupported` where
    neither declares the link.
    """
    old, new = (_declared(stack, files, link) for files in (before, after))
    declared = new or old
    if declared is None:
        raise NotSupported(f"no file of {stack} declares {link.name}, neither before nor after the change")
    steps = DAEMONS[declared.daemon].steps(old, new, link)
    return GENERATORS[stack](steps) if stack in GENERATORS else steps


def _declared(stack: str, files: Files, link: LinkFacts) -> Declaration | None:
    found = FORMATS[stack].read(files, (link,))
    return found[0] if found else None


def host_wide_steps(paths: Iterable[str]) -> Steps:
    """Steps for those of ``paths`` that belong to no interface: both ways the same, they load what is there.

    They come before the steps of the interfaces: a lease client that knows nothing of
    systemd-resolved writes its servers into the file that a restart makes anew.
    """
    changed = sorted(set(paths))
    load = tuple(dict.fromkeys(step for wide in HOST_WIDE for path in changed for step in wide.load(path)))
    boot = tuple(dict.fromkeys(step for wide in HOST_WIDE for path in changed for step in wide.at_boot(path)))
    return Steps(activate=load, reload=load, boot=boot)


def units() -> dict[str, str]:
    """The services of all of them, by their names here."""
    wide = {w.name: w.unit for w in HOST_WIDE if w.unit is not None and w not in TIME_DAEMONS}
    return {name: daemon.unit for name, daemon in DAEMONS.items()} | wide


def is_active() -> tuple[str, ...]:
    """The command that tells which of the services run: a word for each, in the order of :func:`units`, each once."""
    return ("systemctl", "is-active", *dict.fromkeys(units().values()))


def time_is_active() -> tuple[str, ...]:
    """The same of the time daemons. A question of its own: what was collected before there was one stays good."""
    return ("systemctl", "is-active", *(daemon.unit for daemon in TIME_DAEMONS))


def starts_at_boot() -> tuple[str, ...]:
    """The command that tells which of the daemons a boot starts: a line for each unit that is installed."""
    units_of_daemons = dict.fromkeys(daemon.unit for daemon in DAEMONS.values())
    return ("systemctl", "list-unit-files", "--no-legend", *units_of_daemons)


def busy_patterns() -> tuple[str, ...]:
    """Extended regular expressions of the command lines that show any of them in the middle of something."""
    return tuple(dict.fromkeys((*(p for d in DAEMONS.values() for p in d.busy), *netplan.BUSY)))


def all_questions() -> dict[str, Questions]:
    """Everything that has to be collected from a host beside its interface files, by the service it is about.

    Commands are only for hosts on which that service runs: some would start it.
    """
    found: dict[str, Questions] = {}
    every = [(d.unit, q) for d in DAEMONS.values() for q in (d.charge, d.further)]
    for unit, more in [*every, *((w.unit or w.name, w.questions) for w in HOST_WIDE)]:
        found[unit] = found.get(unit, Questions()).joined(more)
    return found


def all_links() -> tuple[str, ...]:
    """Symbolic links that tell which programs are installed."""
    return (interfaces2.IFUP, *netplan.GENERATORS)


def links_of_boot() -> dict[str, tuple[str, ...]]:
    """By the unit of each daemon the links of a file tree by which a boot starts it, the one that masks it first.

    systemd.unit(5).
    """
    folder = "/etc/systemd/system"
    targets = ("multi-user.target", "network-online.target", "network.target", "basic.target")
    return {
        daemon.unit: (f"{folder}/{daemon.unit}", *(f"{folder}/{target}.wants/{daemon.unit}" for target in targets))
        for daemon in DAEMONS.values()
    }


def all_files() -> tuple[str, ...]:
    """Paths and patterns of all files that formats and daemons need."""
    patterns = [p for form in FORMATS.values() for p in form.patterns]
    return tuple(dict.fromkeys([*patterns, *(f for q in all_questions().values() for f in q.files)]))
