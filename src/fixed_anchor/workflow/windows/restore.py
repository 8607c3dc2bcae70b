"""Going back to the settings that confirmed changes of a Windows machine replaced: a change of its own."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from fixed_anchor.change import states
from fixed_anchor.change.change import Draft
from fixed_anchor.change.kept_lines import kept_lines
from fixed_anchor.change.settings import AdapterSettings, MachineSettings, Settings
from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.errors import ChangeOpen, InputError, Refused
from fixed_anchor.engine import driver
from fixed_anchor.machines.protocol import Machine
from fixed_anchor.machines.windows.windows_facts import read_facts
from fixed_anchor.observe.stocktaking import take_stock
from fixed_anchor.observe.windows import windows_survey, with_whole_metrics
from fixed_anchor.observe.windows_settings import settings_now
from fixed_anchor.workflow.hosts.kept import later_ones
from fixed_anchor.workflow.windows.change import config_of, grace_of, options_of, settings_change, with_grace


def restore_windows(machine: Machine, number: str, hold: frozenset[IPAddress] = frozenset()) -> Draft:
    """The change that brings back the settings from before change ``number``, and undoes the later ones with it.

    ``hold`` are addresses of today that stay until the decision. Raises :class:`ChangeOpen` if the change was never
    kept, :class:`Refused` if something was set since.
    """
    state = driver.status(machine.store, number).state
    if state != states.CONFIRMED:
        raise ChangeOpen(f"change {number} is {states.shown(state)}; only a confirmed change can be restored")
    numbers = (number, *later_ones(machine.store, number))
    survey = take_stock(machine)
    facts = machine.windows
    assert facts is not None
    names = {a.guid: a.name for a in facts.adapters}
    first: dict[str, AdapterSettings] = {}
    options: dict[str, str] = {}
    left: dict[str, tuple[str, tuple[str, ...]]] = {}
    search: tuple[str, ...] = ()
    for one in reversed(numbers):
        data = _data(machine, one)
        guids = [str(a["guid"]) for a in data["adapters"]]
        before, alternates = _before(machine, one, guids)
        search = before.machine.search
        first.update({a.guid: a for a in before.adapters})
        options.update({guid: alternates.get(guid, "") for guid in guids})
        for guid in guids:
            left.setdefault(guid, (one, tuple(line for line in data["wanted"] if line.startswith(guid))))
    gone = [a.name for guid, a in first.items() if guid not in names]
    if gone:
        raise Refused(f"{gone[0]} is not on {machine.name} any more", remedy="set the others back by hand")
    now = settings_now(facts, survey, tuple(names[guid] for guid in first))
    _refuse_edited(now, options_of(facts, now), left, machine.name)
    adapters = (msgspec.structs.replace(first[a.guid], name=a.name, index=a.index, mac=a.mac) for a in now.adapters)
    then = Settings(MachineSettings(now.machine.name, search), tuple(adapters))
    grace = tuple(grace_of(survey, then, hold))
    content = settings_change(facts, now, then, grace, options=options)
    configs = tuple(with_whole_metrics(config_of(then, a), facts, a.index) for a in then.adapters)
    waiting = tuple(with_grace(config, grace) for config in configs)
    return Draft(_host_of(machine, number), survey.system, configs, content, waiting, grace)


def _before(machine: Machine, number: str, guids: list[str]) -> tuple[Settings, dict[str, str]]:
    """The settings from before a change, of its adapters ``guids``, and their alternate configurations byte by byte.

    Raises :class:`InputError` where they are gone.
    """
    path = f"{driver.folder_of(machine.store, number)}/facts.json"
    file = machine.store.read(path)
    if file is None:
        raise InputError("the settings from before the change are gone", file=path)
    facts = read_facts(file.text.encode(), path)
    before = settings_now(facts, windows_survey("", facts), tuple(a.name for a in facts.adapters if a.guid in guids))
    return before, options_of(facts, before)


def _data(machine: Machine, number: str) -> dict[str, Any]:
    path = f"{driver.folder_of(machine.store, number)}/change.json"
    file = machine.store.read(path)
    try:
        return json.loads(file.text if file is not None else "")  # type: ignore[no-any-return]
    except ValueError:
        raise InputError("the data of the change is gone", file=path) from None


def _refuse_edited(
    now: Settings, options: dict[str, str], left: dict[str, tuple[str, tuple[str, ...]]], host: str
) -> None:
    """Raises :class:`Refused` where an adapter is not as the last change left it."""
    there = kept_lines(now, options)
    for adapter in now.adapters:
        number, lines = left[adapter.guid]
        missing = next((line for line in lines if line not in there), None)
        if missing is not None:
            raise Refused(
                f"{adapter.name} of {host} was set otherwise since change {number}: it has no longer "
                f"`{missing.removeprefix(adapter.guid).strip()}`",
                remedy="compare `fixed-anchor survey`, and set it by hand if that is meant",
            )


def _host_of(machine: Machine, number: str) -> str:
    try:
        return str(driver.notes(machine.store, number).get("host", machine.name))
    except InputError:
        return machine.name
