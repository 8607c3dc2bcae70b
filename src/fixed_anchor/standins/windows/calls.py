"""What may be asked of a simulated Windows machine, by name, with its arguments as they come from JSON."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fixed_anchor.standins.windows import addressing, naming, registry, rights, tasks
from fixed_anchor.standins.windows.addressing import Failed
from fixed_anchor.standins.windows.by_itself import settled
from fixed_anchor.standins.windows.state import State

#: Each call that changes a machine. What it gives back, if anything, is its return value.
CALLS: dict[str, Callable[..., Any]] = {
    "enable_static": addressing.enable_static,
    "set_gateways": addressing.set_gateways,
    "new_address": addressing.new_address,
    "remove_address": addressing.remove_address,
    "set_address": addressing.set_address,
    "new_route": addressing.new_route,
    "remove_route": addressing.remove_route,
    "set_interface": addressing.set_interface,
    "set_binding": addressing.set_binding,
    "restart_adapter": addressing.restart_adapter,
    "set_value": registry.set_value,
    "remove_value": registry.remove_value,
    "new_key": registry.new_key,
    "remove_key": registry.remove_key,
    "set_resolvers": naming.set_resolvers,
    "set_suffix": naming.set_suffix,
    "set_search": naming.set_search,
    "set_netbios": naming.set_netbios,
    "set_category": naming.set_category,
    "register": naming.register,
    "rename": naming.rename,
    "register_task": tasks.register_task,
    "unregister_task": tasks.unregister_task,
    "icacls": rights.icacls,
}
#: What is asked, and changes nothing.
QUESTIONS: dict[str, Callable[..., Any]] = {
    "get_task": tasks.get_task,
    "export_task": tasks.export_task,
    "ping": tasks.ping,
    "get_acl": rights.get_acl,
}


def call(state: State, name: str, arguments: dict[str, Any]) -> Any:
    """Carries a call out on ``state``. Raises :class:`Failed` as the machine would refuse it."""
    settled(state)
    does = CALLS.get(name) or QUESTIONS.get(name)
    if does is None:
        raise Failed(f"The term '{name}' is not recognized.")
    if state.get("fails", {}).get(name, 0):
        # So many times, or always where the number is below 0.
        state["fails"][name] -= 1
        raise Failed(state.get("fails_with", "Access is denied."))
    try:
        return does(state, **arguments)
    except (TypeError, ValueError) as error:
        raise Failed(f"Cannot process argument: {error}") from None
