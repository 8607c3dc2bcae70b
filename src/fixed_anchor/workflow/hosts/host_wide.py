"""What a host has once, composed of all its interfaces: resolvers and search list that belong to no interface."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec

from fixed_anchor.core.addresses import IPAddress
from fixed_anchor.core.config import InterfaceConfig
from fixed_anchor.core.errors import NotSupported, located
from fixed_anchor.core.plan import HostPlan, Plan
from fixed_anchor.core.survey import FOR_EACH_LINK, HostSurvey, SurveyedInterface, TimeService
from fixed_anchor.core.verification import Beside
from fixed_anchor.core.wanted import wanted_config
from fixed_anchor.daemons import DAEMONS
from fixed_anchor.daemons.protocol import IN_DROP_IN, IN_FILES, IN_RESOLV_CONF
from fixed_anchor.formats.resolv_conf import MAXNS

_EVERY_FILE = "every file"


def place_of(survey: HostSurvey, found: SurveyedInterface | None) -> str:
    """Where the resolvers of an interface go: one of the places of :mod:`fixed_anchor.daemons.protocol`."""
    if found is None or found.daemon is None:
        return IN_FILES
    return DAEMONS[found.daemon].resolver_place(survey.resolv_conf_by)


def host_configs(plan: Plan, host: HostPlan, survey: HostSurvey | None) -> dict[str, InterfaceConfig]:
    """What ``plan`` wants of each interface of ``host`` that it touches.

    Where resolvers and search list are the host's, every fixed interface has those of all: first those of
    the one with the default route, each once. Raises :class:`NotSupported` for more than are used.
    """
    touched = host.touched
    wanted = {i.name: wanted_config(plan, i) for i in touched}
    if survey is None:
        return wanted
    _compose_time_servers(survey, wanted)
    for place in dict.fromkeys(_shared_place(survey, name) for name in wanted):
        if place == IN_FILES:
            continue
        here = [c for c in in_order(wanted.values()) if _shared_place(survey, c.interface) == place]
        fixed = [c for c in here if "fixed" in (c.ipv4, c.ipv6) and c.resolvers is not None]
        resolvers = tuple(dict.fromkeys(r for c in fixed for r in c.resolvers or ()))
        search = tuple(dict.fromkeys(d for c in fixed for d in c.search or ()))
        if place == IN_RESOLV_CONF:
            with located(plan.file, host.line):
                if len(resolvers) > MAXNS:
                    raise NotSupported(
                        f"{len(resolvers)} resolvers for {host.name}, and /etc/resolv.conf uses the first {MAXNS} only",
                        remedy="name the best three",
                    )
            resolvers = tuple(dict.fromkeys((*resolvers, *_of_others(survey, wanted))))[:MAXNS] if fixed else ()
        for config in here:
            if config in fixed:
                wanted[config.interface] = msgspec.structs.replace(config, resolvers=resolvers, search=search)
            elif place == IN_RESOLV_CONF or (place == IN_DROP_IN and fixed):
                # A lease client writes its own: what it leaves there is not a matter of the plan.
                wanted[config.interface] = msgspec.structs.replace(config, resolvers=None, search=None)
    return wanted


def time_servers_apart(survey: HostSurvey, name: str) -> TimeService | None:
    """The time daemon whose own file takes the time servers of an interface; ``None`` where its interface file does.

    systemd-networkd tells systemd-timesyncd of those in its files, and nobody else.
    """
    found, service = survey.interface(name), survey.time_service
    if service is None or found is None:
        return None
    return None if service.name == found.time_daemon else service


def _compose_time_servers(survey: HostSurvey, wanted: dict[str, InterfaceConfig]) -> None:
    """The time daemon follows those of all interfaces: each says them all, in the order of :func:`in_order`."""
    saying = [
        c
        for c in in_order(wanted.values())
        if c.time_servers is not None and time_servers_apart(survey, c.interface) is not None
    ]
    servers = tuple(dict.fromkeys(s for c in saying for s in c.time_servers or ()))
    for config in saying:
        wanted[config.interface] = msgspec.structs.replace(config, time_servers=servers)


def _shared_place(survey: HostSurvey, name: str) -> str:
    """Where the host's resolvers go, for an interface of it.

    Where those of each interface are written over the ones before, every file has them all.
    """
    found = survey.interface(name)
    if found is not None and found.daemon is not None and DAEMONS[found.daemon].joins_resolvers:
        return _EVERY_FILE
    return place_of(survey, found)


def in_order(configs: Iterable[InterfaceConfig]) -> list[InterfaceConfig]:
    """Those with a default route first, by its metric; else as they are given."""

    def rank(config: InterfaceConfig) -> tuple[bool, int]:
        metrics = [route.metric or 0 for route in config.default_routes()]
        return not metrics, min(metrics, default=0)

    return sorted(configs, key=rank)


def _of_others(survey: HostSurvey, wanted: Mapping[str, InterfaceConfig]) -> Iterable[IPAddress]:
    """The resolvers that interfaces outside the plan, or planned for DHCP, lease; or have in the file now."""
    fixed_outside = False
    changing: set[IPAddress] = set()
    for interface in survey.interfaces:
        lease = interface.lease.resolvers if interface.lease is not None else ()
        config = wanted.get(interface.name)
        if config is None or config.ipv4 == "dhcp":
            yield from lease
            fixed_outside |= interface.declared is not None and interface.declared.ipv4 == "fixed"
        else:
            changing |= set(lease)
            changing |= set(config.resolvers or ())
            if interface.declared is not None and interface.declared.ipv4 == "fixed":
                # Which of those in the file were its own, no file tells.
                changing |= set(interface.resolvers)
    if fixed_outside:
        # An interface that the plan does not mention has its resolvers in the same file.
        yield from (r for i in survey.interfaces[:1] for r in i.resolvers if r not in changing)


def beside(survey: HostSurvey, every: Mapping[str, InterfaceConfig], name: str) -> Beside:
    """What other interfaces than ``name`` may bring into force; ``every`` is what is wanted of all of the host."""
    resolvers: set[IPAddress] = set()
    search: set[str] = set()
    versions: set[int] = set()
    for other in survey.interfaces:
        if other.name == name:
            continue
        for config in (every.get(other.name), other.declared):
            resolvers |= set(config.resolvers or ()) if config is not None else set()
            search |= set(config.search or ()) if config is not None else set()
        resolvers |= set(other.lease.resolvers) if other.lease is not None else set()
        versions |= {r.destination.version for r in other.routes if r.is_default}
    found = survey.interface(name)
    one_for_all = survey.resolv_conf_by != FOR_EACH_LINK
    # Another one may have brought the only default route.
    is_second = found is not None and found.daemon is not None and DAEMONS[found.daemon].own_client
    return Beside(
        frozenset(resolvers) if one_for_all else frozenset(),
        frozenset(search) if one_for_all else frozenset(),
        frozenset(versions) if is_second else frozenset(),
    )
