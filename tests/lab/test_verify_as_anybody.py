"""A verification by somebody who is not root: what needs none is looked at, and what does is said."""

from __future__ import annotations

import pytest

from tests.documents import only
from tests.lab.conftest import MakeHost
from tests.lab.host import LabHost
from tests.lab.network import run
from tests.lab.test_matrix import ANOTHER, PLAN, STACKS


def as_nobody(host: LabHost, *words: str) -> list[str]:
    """The tool as an ordinary user of the host."""
    tool = host.tool_argv(*words)
    at = tool.index("env", tool.index("-i") + 1)
    argv = [*tool[:at], "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", *tool[at:]]
    return [word.replace("/root", "/tmp") if word in ("/root", "HOME=/root") else word for word in argv]


@pytest.mark.parametrize("stack", ["netplan-networkd", "networkd"])
def test_it_looks_at_what_needs_no_root(stack: str, make_host: MakeHost) -> None:
    host = make_host(*STACKS[stack])
    plan = PLAN.format(what=f"hold: {ANOTHER}", mac=host.mac, reservations="")
    host.write("/srv/plan.yaml", plan, 0o644)
    kept = host.tool("cutover", "/srv/plan.yaml", "--unattended", "--no-grace")
    assert kept.returncode == 0, kept.stdout + kept.stderr
    done = run(*as_nobody(host, "verify", "/srv/plan.yaml", "--json"), check=False)
    # Frames are sent, and netplan's files read, by root alone: what was not seen is said.
    assert done.returncode == 6, done.stdout + done.stderr
    outcomes = {c["code"]: c["outcome"] for c in only(done.stdout)["checks"]}
    for code in ("address-present", "default-route", "gateway-answers-arp", "resolver-answers"):
        assert outcomes[code] == "pass", done.stdout
    assert "fail" not in outcomes.values(), done.stdout
    skipped = [c for c in only(done.stdout)["checks"] if c["outcome"] == "skipped"]
    files = ["files-as-planned"] if stack.startswith("netplan") else []
    required = [c for c in skipped if c["required"]]
    assert [c["code"] for c in required] == [*files, "sole-owner", "gateway-forwards"]
    assert all("root" in c["why"] for c in required), required
