"""The time daemon of a host, the servers that it follows by its own word, and where those of a plan go."""

from __future__ import annotations

from collections.abc import Mapping

from fixed_anchor.core.survey import TimeService
from fixed_anchor.daemons import TIME_DAEMONS
from fixed_anchor.daemons.chrony import Chrony
from fixed_anchor.daemons.protocol import TimeDaemon
from fixed_anchor.formats import chrony_conf, timesyncd_conf
from fixed_anchor.machines.readable import Readable


def time_service(machine: Readable, active: Mapping[str, bool]) -> TimeService | None:
    """The first of the known daemons that runs, or that a boot would start where nothing runs; ``None`` without one.

    ``active`` says of units whether they run, as far as that is known.
    """
    for daemon in TIME_DAEMONS:
        runs = active.get(daemon.unit)
        if runs or (runs is None and not active and _is_installed(machine, daemon)):
            return _described(machine, daemon, bool(runs))
    return None


def _is_installed(machine: Readable, daemon: TimeDaemon) -> bool:
    """Whether its unit is wanted at boot; or, without units, whether its own configuration is there."""
    wanted = [p for p in daemon.questions.files if p.endswith(f".wants/{daemon.unit}")]
    if any(machine.glob(pattern) for pattern in wanted):
        return True
    return isinstance(daemon, Chrony) and machine.read(daemon.main) is not None


def _described(machine: Readable, daemon: TimeDaemon, runs: bool) -> TimeService:
    servers = None
    if runs:
        ran = machine.run(daemon.questions.commands[0])
        servers = daemon.servers(ran.out) if ran.good else None
    if not isinstance(daemon, Chrony):
        file = machine.read(timesyncd_conf.DROP_IN)
        declared = timesyncd_conf.says_drop_in(file.text if file is not None else "")
        return TimeService(daemon.name, timesyncd_conf.DROP_IN, "", servers, declared)
    path = next((p for p in (daemon.main, *chrony_conf.MAIN) if machine.read(p) is not None), daemon.main)
    main = machine.read(path)
    drop_in, untold = chrony_conf.drop_in_of(main.text if main is not None else "")
    file = machine.read(drop_in)
    declared = chrony_conf.says_drop_in(file.text if file is not None and not untold else "")
    return TimeService(daemon.name, drop_in, path if untold else "", servers, declared)
