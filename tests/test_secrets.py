"""Passphrases and keys of known names are masked wherever text is shown; all else stands as it is."""

from __future__ import annotations

import json
import re
import subprocess
from importlib import resources
from pathlib import Path

import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.cli import cli
from fixed_anchor.core.secrets import HIDDEN, masked, masked_line

SECRETS = (
    "password=tide;secret=1",
    "psk=hunter2 and more",
    "leap-password=x",
    "private-key-password=zz",
    "wep-key0=12345",
    '  password: "not told"',
    "      - password: not told",
    '        "Station": {password: "abc, def", hidden: true}',
    "    wpa-psk secret phrase",
    "    # was: wpa-psk secret phrase",
    "+PrivateKey=QUJDREVGR0hJSktMTU5PUFFSU1RVVldYWVo=",
    "PresharedKey=QUJD",
    "KEY_PASSPHRASE1='zz z'",
    "WPA_PSK=zz",
    '  secret "c2VjcmV0";',
)
#: What only our own reader masks: the names are too plain for more than a look at the value.
KEYS = (
    "      key: QUJDREVGR0hJSktMTU5PUFFSU1RVVldYWVo=",
    "    shared: QUJDREVGR0hJSktMTU5PUFFSU1RVVldYWVo=",
    "pin=1234",
)
PLAIN = (
    "psk-flags=1",
    "password-flags=0",
    "wep-key-type=1",
    "PrivateKeyFile=/etc/systemd/network/key",
    "key-mgmt=wpa-psk",
    "key-management: psk",
    "identity=tide",
    "address1=203.0.113.20/24,203.0.113.1",
    "hostname secret-cove",
    "dns-search=ternpoint.example;",
    "    shared: true",
    "key: value",
    "# the password is kept by the harbour master",
    "token: env:CLOUD_TOKEN",
)


@pytest.mark.parametrize("line", [*SECRETS, *KEYS])
def test_a_secret_is_hidden(line: str) -> None:
    shown = masked_line(line)
    assert HIDDEN in shown
    value = re.split(r"[:=]\s*|psk\s|secret\s", line, maxsplit=1)[1].strip("\"'{}; ")
    assert value not in shown
    # Once more changes nothing.
    assert masked_line(shown) == shown


@pytest.mark.parametrize("line", PLAIN)
def test_what_is_none_stands(line: str) -> None:
    assert masked_line(line) == line


@given(st.text())
def test_lines_stay_lines(text: str) -> None:
    assert len(masked(text).splitlines()) == len(text.splitlines())
    assert masked("hold: 203.0.113.20\n") == "hold: 203.0.113.20\n"


def test_a_runbook_hides_the_same() -> None:
    source = resources.files("fixed_anchor.engine").joinpath("runbook.sh").read_text()
    function = re.search(r"^masked\(\) \{\n.*?^\}\n", source, re.DOTALL | re.MULTILINE)
    assert function is not None
    script = function[0] + "masked"
    done = subprocess.run(
        ["sh", "-c", script], input="\n".join((*SECRETS, *PLAIN)), capture_output=True, text=True, check=True
    )
    lines = done.stdout.splitlines()
    assert [HIDDEN in line for line in lines] == [True] * len(SECRETS) + [False] * len(PLAIN), done.stdout
    assert lines[len(SECRETS) :] == list(PLAIN)


PLAN = """\
plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.2, pools: []}
hosts:
  gannet-ws:
    reach: tree:root
    interfaces:
      wlan0: {segment: quay, hold: 203.0.113.20}
"""
WIRELESS = """\
network:
  wifis:
    wlan0:
      dhcp4: true
      access-points:
        Station:
          password: under the third stone
"""


def test_a_draft_shows_none_and_writes_it(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "root/etc/netplan/50-wifi.yaml"
    path.parent.mkdir(parents=True)
    path.write_text(WIRELESS)
    (tmp_path / "plan.yaml").write_text(PLAN)
    monkeypatch.chdir(tmp_path)
    for words in (("draft", "plan.yaml"), ("draft", "plan.yaml", "--json")):
        shown = CliRunner().invoke(cli, list(words))
        assert "under the third stone" not in shown.output, shown.output
        assert HIDDEN in shown.output
    json.loads(shown.output)
    CliRunner().invoke(cli, ["draft", "plan.yaml", "-o", "out"])
    assert "password: under the third stone" in (tmp_path / "out/gannet-ws/etc/netplan/50-wifi.yaml").read_text()
