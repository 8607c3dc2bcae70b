"""By which interface the traffic to everywhere leaves, today and after a change."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from fixed_anchor.core.config import Route
from fixed_anchor.core.findings import WARNING, Finding, FindingKind, finding
from fixed_anchor.core.rules.case import HostCase

TRAFFIC_MOVES = FindingKind(
    "traffic-moves",
    "host",
    WARNING,
    "another adapter would carry the traffic to everywhere",
    "Of several default routes the lowest metric wins, its own and the adapter's together.",
    "Give the gateways metrics in the plan, so that the one that is meant is the lowest.",
)


def traffic_findings(case: HostCase) -> Iterator[Finding]:
    """The finding that another interface would carry it, where every default route has a metric that tells so."""
    host, survey, foreseen = case.host.name, case.survey, case.foreseen
    for version in (4, 6):
        today = {i.name: i.default_routes(version) for i in survey.interfaces}
        then = dict(today)
        for name, config in foreseen.wanted.items():
            if config.method(version) in ("fixed", "off"):
                then[name] = config.default_routes(version)
        was, becomes = _carrier(today), _carrier(then)
        if was is None or becomes is None or was == becomes or not then.get(was):
            continue
        metrics = ", ".join(f"{name} {min(r.metric or 0 for r in routes)}" for name, routes in then.items() if routes)
        yield finding(
            TRAFFIC_MOVES,
            f"the IPv{version} traffic leaves by {was} today, and by {becomes} after the change: metrics {metrics}",
            host=host,
            interface=becomes,
            seen_in=f"routes of {survey.host}",
        )


def _carrier(routes: Mapping[str, tuple[Route, ...]]) -> str | None:
    """The interface of the lowest metric; ``None`` where one has none, or two are the lowest."""
    metrics = [(route.metric, name) for name, own in routes.items() for route in own]
    if not metrics or any(metric is None for metric, _ in metrics):
        return None
    lowest = min(metric for metric, _ in metrics if metric is not None)
    names = {name for metric, name in metrics if metric == lowest}
    return names.pop() if len(names) == 1 else None
