"""What a survey of a real host asks of it: two goes, whatever its stack, and one for each level of named files."""

from __future__ import annotations

import json
import sys

import pytest

from tests.lab.conftest import MakeHost
from tests.lab.test_matrix import INTERFACES, STACKS

COUNT = """\
import json
from fixed_anchor.machines.here import Here
from fixed_anchor.observe.stocktaking import take_stock
fetches = []
fetch = Here.fetch
Here.fetch = lambda self, wanted: fetches.append(wanted) or fetch(self, wanted)
survey = take_stock(Here())
print(json.dumps([len(fetches), survey.stack, [i.name for i in survey.interfaces if i.declared]]))
"""


@pytest.mark.parametrize(("stack", "levels"), [("netplan-networkd", 0), ("NetworkManager", 0), ("ifupdown", 2)])
def test_a_survey_takes_two_goes(stack: str, levels: int, make_host: MakeHost) -> None:
    files, units = STACKS[stack]
    if levels:
        files = {
            "/etc/network/interfaces": INTERFACES.partition("auto eth0")[0] + "source /etc/quay/*.if\n",
            "/etc/quay/one.if": "source /etc/quay/deep/two\n",
            "/etc/quay/deep/two": "auto eth0\niface eth0 inet dhcp\n",
        }
    host = make_host(files, units)
    done = host(*host_python(), COUNT)
    fetches, found, declared = json.loads(done.stdout)
    assert (fetches, found, declared) == (2 + levels, stack.partition("-")[0], ["eth0"])


def host_python() -> list[str]:
    return ["env", "PYTHONDONTWRITEBYTECODE=1", sys.executable, "-c"]
