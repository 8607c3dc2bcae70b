"""The catalogue of findings: every kind that a rule raises, as it stands beside the rule. Codes are stable.

``fixed-anchor explain`` and the documentation are made from it.
"""

from __future__ import annotations

from fixed_anchor.core.findings import FindingKind
from fixed_anchor.core.rules import (
    asides,
    clones,
    declared,
    evidence,
    gateways,
    given,
    host,
    old_address,
    other_interfaces,
    plan,
    prefixes,
    readiness,
    spoken_for,
    survey,
    traffic,
    windows,
    wire,
)

#: In the order in which the families are told.
_FAMILIES = ("plan", "knowledge", "wire", "host")
_MODULES = (
    plan,
    clones,
    spoken_for,
    evidence,
    wire,
    readiness,
    host,
    given,
    gateways,
    prefixes,
    asides,
    survey,
    traffic,
    windows,
    other_interfaces,
    old_address,
    declared,
)
_KINDS = [kind for module in _MODULES for kind in vars(module).values() if isinstance(kind, FindingKind)]

CATALOGUE: dict[str, FindingKind] = {
    kind.code: kind for kind in sorted(_KINDS, key=lambda kind: _FAMILIES.index(kind.family))
}
