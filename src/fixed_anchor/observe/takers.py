"""Who takes an interface that no file declares yet: the stack of the others, else what a boot starts."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from fixed_anchor.change.files import FileText
from fixed_anchor.core.config import LinkFacts
from fixed_anchor.core.errors import AnchorError
from fixed_anchor.core.survey import Taker
from fixed_anchor.daemons import DAEMONS, links_of_boot, netplan, starts_at_boot
from fixed_anchor.formats import ifcfg_read, interfaces_read
from fixed_anchor.formats.netplan_entries import MAY_CARRY_OUT, daemon_of, says_renderer
from fixed_anchor.machines.readable import Readable
from fixed_anchor.observe.fetching import is_read
from fixed_anchor.observe.stack import Charge, Services

#: Kinds of link that a file of their own configures. What is made of others is declared with what it is made of.
KINDS = ("ethernet", "wireless")
#: What systemctl(1) calls the state of a unit that a boot starts.
_STARTED = ("enabled", "enabled-runtime", "generated")
_NETPLAN = "/etc/netplan/"


def takers(
    machine: Readable,
    files: Mapping[str, Mapping[str, FileText]],
    charges: Mapping[str, Charge],
    links: Iterable[LinkFacts],
    running: Services | None,
) -> tuple[Taker, ...]:
    """The stacks that would take a further interface: those that govern the ``links`` of the host, by ``charges``.

    Where nothing is configured, those that a boot starts, with netplan in front of its daemon where it is in use.
    """
    found: dict[tuple[str, str], Taker] = {}
    for link in links:
        charge = charges.get(link.name)
        if charge is None or charge.declaration is None or charge.stack is None:
            continue
        daemon = charge.declaration.daemon
        if running is not None and running.known and not running.governs(daemon, link.name).yes:
            continue
        because = f"it has {link.name} ({charge.declaration.places[0]})"
        found.setdefault((charge.stack, daemon), Taker(charge.stack, daemon, because))
    return tuple(found.values()) or at_boot(machine, files["netplan"], running)


def at_boot(machine: Readable, netplan_files: Mapping[str, FileText], running: Services | None) -> tuple[Taker, ...]:
    """Every stack that a boot starts, by its daemon, whatever the files declare."""
    started = _started(machine, running)
    found = [
        Taker(daemon.reads, name, why)
        for name, daemon in DAEMONS.items()
        if (why := started.get(daemon.unit)) is not None and is_read(machine, daemon.reads)
    ]
    yaml = next((path for path in sorted(netplan_files) if path.startswith(_NETPLAN)), None)
    if yaml is None or all(machine.link_target(path) is None for path in netplan.GENERATORS):
        return tuple(found)
    # The generator starts the daemon that it writes files for.
    daemon = _renderer(netplan_files, [taker.daemon for taker in found])
    taken = Taker("netplan", daemon, f"{yaml} is there, and netplan's generator is installed")
    return (taken, *(taker for taker in found if taker.daemon != daemon))


def _renderer(files: Mapping[str, FileText], started: list[str]) -> str:
    """Who carries netplan's files out: whom they name, else the only one that is started, else netplan's own choice."""
    try:
        by_default = daemon_of(files, [])
        if says_renderer(files):
            return by_default
    except AnchorError:
        # A broken file is told of elsewhere, and nothing is drafted from it.
        return MAY_CARRY_OUT[0]
    able = [daemon for daemon in started if daemon in MAY_CARRY_OUT]
    return able[0] if len(able) == 1 else by_default


def _started(machine: Readable, running: Services | None) -> dict[str, str]:
    """The units of the daemons that a boot starts, each with what says so."""
    if running is None:
        return dict(_wanted_in_tree(machine))
    ran = machine.run(starts_at_boot())
    words = (line.split() for line in ran.out.splitlines())
    states = {w[0]: w[1] for w in words if len(w) > 1}
    found = {unit: f"{unit} is {state}" for unit, state in states.items() if state in _STARTED}
    if found or running.known:
        # What runs, and nobody starts at boot, is told as such.
        active = (daemon.unit for name, daemon in DAEMONS.items() if name in running.active)
        return found or {unit: f"{unit} runs" for unit in active}
    # No systemd: other init systems run ifup from a script of the run level, where it has something to read.
    mains = {"networking.service": interfaces_read.MAIN, "network.service": ifcfg_read.NETWORK}
    return {
        unit: f"{path} is there"
        for unit, path in mains.items()
        if machine.knows(path) and machine.read(path) is not None
    }


def _wanted_in_tree(machine: Readable) -> Iterable[tuple[str, str]]:
    """The units that a tree of files has a boot start, each with the link that says so."""
    for unit, (mask, *wants) in links_of_boot().items():
        link = next((path for path in wants if machine.link_target(path) is not None), None)
        if link is not None and machine.link_target(mask) != "/dev/null":
            yield unit, f"{link} starts it"
