"""The scheduler of a simulated Windows machine: tasks as they are registered, with its defaults."""

from __future__ import annotations

from typing import Any

from fixed_anchor.standins.windows.addressing import Failed
from fixed_anchor.standins.windows.state import State

#: Where a task says nothing else: it does not run on battery, and is ended after three days.
_DEFAULTS: State = {
    "DisallowStartIfOnBatteries": True,
    "StopIfGoingOnBatteries": True,
    "ExecutionTimeLimit": "PT72H",
    "StartWhenAvailable": False,
    "MultipleInstances": "IgnoreNew",
    # Below normal.
    "Priority": 7,
    "Enabled": True,
}


def register_task(state: State, name: str, task: dict[str, Any]) -> None:
    """``Register-ScheduledTask``: a repetition of less than a minute is refused; a policy may set what it likes."""
    for trigger in task["Triggers"]:
        seconds = trigger.get("Every")
        if seconds is not None and seconds < 60:
            raise Failed("The task XML contains a value which is incorrectly formatted or out of range: Interval")
    if name in state.get("tasks", {}):
        raise Failed("Cannot create a file when that file already exists.")
    task["Settings"] = _DEFAULTS | task["Settings"] | state.get("task_policy", {})
    state.setdefault("tasks", {})[name] = task


def export_task(state: State, name: str, path: str) -> str:
    """``Export-ScheduledTask``: its XML, in which accounts are numbers; a policy may have it run as somebody else."""
    user = get_task(state, name, path)["Principal"]["UserId"]
    return f"<Principal><UserId>{state.get('tasks_run_as', user)}</UserId></Principal>"


def get_task(state: State, name: str, path: str) -> dict[str, Any]:
    """``Get-ScheduledTask``, in a folder of the scheduler's."""
    found = state.get("tasks", {}).get(name)
    if found is None or found["TaskPath"] != path:
        raise Failed(f"No MSFT_ScheduledTask objects found with property 'TaskName' equal to '{name}'.")
    return found  # type: ignore[no-any-return]


def unregister_task(state: State, name: str, path: str) -> None:
    """``Unregister-ScheduledTask``: what runs goes on."""
    get_task(state, name, path)
    del state["tasks"][name]


def ping(state: State, address: str) -> bool:
    """``Test-Connection``: whether anybody answers there, by the description of the wire."""
    wire = state.get("wire", {})
    return any(a["status"] == "Up" for a in state["adapters"]) and address in wire.get("answers", ())
