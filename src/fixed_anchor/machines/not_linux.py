"""This machine where it is no Linux host: plans are read, checked and drafted here, and nothing is looked at."""

from __future__ import annotations

import platform
import sys

from fixed_anchor.core.errors import AnchorError, NotSupported
from fixed_anchor.core.survey import SurveyedInterface
from fixed_anchor.machines.here import Here
from fixed_anchor.machines.readable import Ran
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage


def is_linux() -> bool:
    """Whether this machine has what the tool works on."""
    return sys.platform.startswith("linux")


class NotLinux(Here):
    """A seat from which nothing of this machine is asked or changed."""

    running = False

    def _why_no_change(self) -> AnchorError | None:
        return NotSupported(
            f"this machine runs {platform.system() or sys.platform}: only Linux hosts can be looked at and converted",
            remedy="what works here: `check --no-wire` and `draft` for hosts that a plan reaches by tree: or "
            "collected:, `propose --survey`, `survey --root`, `explain` and `demo`",
        )

    def vantage(self, interface: SurveyedInterface) -> Vantage:
        return Nowhere("this machine is no Linux host")

    def run(self, argv: tuple[str, ...], timeout: float = 30.0) -> Ran:
        return Ran(127, "", f"{argv[0]}: this machine is no Linux host")
