"""A plan of many hosts carried out in waves, on simulated hosts that are reached over SSH."""

from __future__ import annotations

import datetime
import json
import subprocess
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from fixed_anchor.commands.window import moment_after
from tests.test_commands import run

QUAY = "203.0.113."
STATION = """station: 1
segments:
  quay:
    subnet: 203.0.113.0/24
    devices:
      - {name: quay-router, mac: "00:00:5e:00:53:01", address: 203.0.113.1}
      - {name: resolver-west, mac: "00:00:5e:00:53:03", address: 203.0.113.3, dns: true}
      - {name: lamp-controller, mac: "00:00:5e:00:53:5a", address: 203.0.113.30, echo: false}
    dhcp:
      pool: 203.0.113.100 - 203.0.113.199
      leases: {}
      router: 203.0.113.1
      resolvers: [203.0.113.3]
  labs:
    subnet: 198.51.100.0/24
    forwards_after: 600
    devices:
      - {name: labs-router, mac: "00:00:5e:00:53:04", address: 198.51.100.1}
      - {name: labs-resolver, mac: "00:00:5e:00:53:05", address: 198.51.100.2, dns: true}
hosts:
"""
PLAN = """plan: 1
segments:
  quay: {subnet: 203.0.113.0/24, gateway: 203.0.113.1, resolvers: 203.0.113.3, pools: []}
  labs: {subnet: 198.51.100.0/24, gateway: 198.51.100.1, resolvers: 198.51.100.2, pools: []}
hosts:
"""
#: A host by its name: the address of today, and the planned one; those of labs have a port that forwards no more once
#: their address has changed.
Hosts = dict[str, tuple[str, str]]


def site(folder: Path, hosts: Hosts) -> Path:
    """A plan, and the hosts behind it, each with its address of today in its file."""
    station, plan = STATION, PLAN
    for number, (name, (today, planned)) in enumerate(hosts.items()):
        segment = "labs" if planned.startswith("198") else "quay"
        first = "198.51.100." if segment == "labs" else QUAY
        mac = f"00:00:5e:00:53:{0x80 + number:02x}"
        station += f"  {name}:\n    tree: hosts/{name}\n    over_ssh: yes\n    interfaces:\n"
        station += f'      eth0: {{mac: "{mac}", segment: {segment}}}\n'
        plan += f"  {name}:\n    reach: standin:station.yaml/{name}\n    interfaces:\n"
        plan += f'      eth0: {{segment: {segment}, mac: "{mac}", hold: {planned}}}\n'
        file = folder / f"hosts/{name}/etc/netplan/10-{name}.yaml"
        file.parent.mkdir(parents=True)
        resolver = "198.51.100.2" if segment == "labs" else "203.0.113.3"
        file.write_text(
            f"network:\n  version: 2\n  ethernets:\n    eth0:\n      addresses: [{today}/24]\n"
            f"      routes: [{{to: default, via: {first}1}}]\n      nameservers: {{addresses: [{resolver}]}}\n"
        )
        file.chmod(0o600)
        (folder / f"hosts/{name}/etc/resolv.conf").write_text(f"nameserver {resolver}\n")
    (folder / "station.yaml").write_text(station)
    (folder / "plan.yaml").write_text(plan)
    return folder


def go(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    done = run(folder, "cutover", "plan.yaml", "--all", "--unattended", "--patience", "1", *words)
    assert "Traceback" not in done.stderr, done.stderr
    return done


def held(folder: Path, name: str) -> list[str]:
    """The addresses that a host holds."""
    kernel = json.loads((folder / f"hosts/{name}/run/standin-kernel.json").read_text())
    return [entry["address"].partition("/")[0] for entry in kernel["eth0"]["addresses"]]


def numbers(folder: Path, name: str) -> list[str]:
    """The changes that were ever begun on a host."""
    changes = folder / f"hosts/{name}/state/changes"
    return sorted(path.name for path in changes.iterdir() if path.name.isdecimal()) if changes.exists() else []


def document(done: subprocess.CompletedProcess[str]) -> Any:
    return json.loads(done.stdout)


THREE: Hosts = {
    "tide-db": (f"{QUAY}50", f"{QUAY}20"),
    "kelp-files": (f"{QUAY}51", f"{QUAY}21"),
    "puffin-web": (f"{QUAY}52", f"{QUAY}22"),
}


def test_a_dry_run_shows_the_order_and_touches_nothing(tmp_path: Path) -> None:
    folder = site(tmp_path, THREE)
    done = go(folder, "--dry-run")
    assert done.returncode == 0, done.stdout + done.stderr
    rows = [line.split() for line in done.stdout.splitlines()]
    assert rows[1][:3] == ["1", "tide-db", f"{QUAY}20"]
    assert rows[2][:3] == ["2", "kelp-files", f"{QUAY}21"]
    assert "one host first, alone" in done.stdout
    assert "3 hosts in 2 waves" in done.stdout
    assert all(not numbers(folder, name) for name in THREE)
    told = document(go(folder, "--dry-run", "--json"))
    assert [(turn["wave"], turn["host"], turn["part"]) for turn in told["order"]] == [
        (1, "tide-db", "whole"),
        (2, "kelp-files", "whole"),
        (2, "puffin-web", "whole"),
    ]
    assert all(turn["why"] for turn in told["order"])


def test_all_are_changed_and_the_same_again_does_nothing(tmp_path: Path) -> None:
    folder = site(tmp_path, THREE)
    done = go(folder)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "3 of 3 changes confirmed" in done.stdout
    assert [held(folder, name) for name in THREE] == [[planned] for _, planned in THREE.values()]
    again = go(folder)
    assert again.returncode == 0
    assert "as planned already: tide-db, kelp-files, puffin-web" in again.stdout
    assert [numbers(folder, name) for name in THREE] == [["0001"]] * 3


SWAP: Hosts = {"tide-db": (f"{QUAY}21", f"{QUAY}20"), "kelp-files": (f"{QUAY}20", f"{QUAY}21")}


def test_the_events_of_a_run(tmp_path: Path) -> None:
    folder = site(tmp_path, {"gannet-ws": ("198.51.100.50", "198.51.100.40"), "tide-db": (f"{QUAY}50", f"{QUAY}20")})
    done = go(folder, "--events", "-")
    assert done.returncode == 3
    lines = [json.loads(line) for line in done.stdout.splitlines()]
    schema = json.loads((Path(__file__).parents[1] / "docs/schemas/cutover-events.json").read_text())
    for line in lines:
        Draft202012Validator(schema).validate(line)
    # Its progress only ever goes the ways of a run, and it ends.
    assert [line["event"] for line in lines][:3] == ["made-ready", "baseline-taken", "begun"]
    assert {line["turn"] for line in lines} == {"gannet-ws"}
    assert lines[-1]["progress"] == "ended"
    assert lines[-1]["state"] == "rolled-back"
    assert "gateway" in next(line["words"] for line in lines if line["event"] == "verified")
    # In a file they stand behind those that are there.
    file = folder / "events.jsonl"
    file.write_text("{}\n")
    go(folder, "--events", "events.jsonl")
    told = [json.loads(line) for line in file.read_text().splitlines()]
    assert (told[0], told[-1]["turn"], told[-1]["state"]) == ({}, "tide-db", "confirmed")
    assert go(folder, "--events", "-", "--json").returncode == 2
    assert go(folder, "--events", "no/such/folder").returncode in (0, 1, 4)


def test_a_swap_needs_a_parking_address(tmp_path: Path) -> None:
    folder = site(tmp_path, SWAP)
    refused = go(folder)
    assert refused.returncode == 1
    assert "a circle: tide-db takes 203.0.113.20 from kelp-files" in refused.stdout
    assert not numbers(folder, "tide-db")
    done = go(folder, "--park", f"{QUAY}240")
    assert done.returncode == 0, done.stdout + done.stderr
    assert (held(folder, "tide-db"), held(folder, "kelp-files")) == ([f"{QUAY}20"], [f"{QUAY}21"])
    assert (numbers(folder, "tide-db"), numbers(folder, "kelp-files")) == (["0001", "0002"], ["0001"])


def test_a_parking_address_is_checked_like_any_other(tmp_path: Path) -> None:
    folder = site(tmp_path, SWAP | {"puffin-web": (f"{QUAY}52", f"{QUAY}52")})
    done = go(folder, "--park", f"{QUAY}52")
    assert done.returncode == 1, done.stdout + done.stderr
    assert "203.0.113.52" in done.stdout
    assert not numbers(folder, "tide-db")


def test_a_chain(tmp_path: Path) -> None:
    chain = {n: (f"{QUAY}{20 + i}", f"{QUAY}{21 + i}") for i, n in enumerate(("tide-db", "kelp-files", "puffin-web"))}
    folder = site(tmp_path, chain)
    done = go(folder, "--json")
    assert done.returncode == 0, done.stderr
    assert [turn["host"] for turn in document(done)["order"]] == ["puffin-web", "kelp-files", "tide-db"]
    assert [held(folder, name) for name in chain] == [[planned] for _, planned in chain.values()]


def test_one_host_alone_keeps_the_blocker(tmp_path: Path) -> None:
    """What is order among many is a finding where one host is changed."""
    folder = site(tmp_path, {"tide-db": (f"{QUAY}20", f"{QUAY}21"), "kelp-files": (f"{QUAY}21", f"{QUAY}22")})
    alone = run(folder, "cutover", "plan.yaml", "--host", "tide-db", "--dry-run")
    assert alone.returncode == 1
    assert "answers-on-wire" in alone.stdout


def test_a_host_that_is_rolled_back_ends_it(tmp_path: Path) -> None:
    hosts = {"gannet-ws": ("198.51.100.50", "198.51.100.40")} | THREE
    folder = site(tmp_path, hosts)
    done = go(folder)
    assert done.returncode == 3, done.stdout + done.stderr
    table = {row.split()[0]: row for row in done.stdout.splitlines() if row.split()[:1] and row.split()[0] in hosts}
    assert "rolled-back" in table["gannet-ws"]
    assert "gateway" in table["gannet-ws"]
    for name in THREE:
        assert "not begun" in table[name]
        assert "gannet-ws did not end well" in table[name]
        assert not numbers(folder, name)
    assert held(folder, "gannet-ws") == ["198.51.100.50"]
    # The same again does what is left; the host whose port does not forward is left out now.
    again = go(folder, "--json")
    assert again.returncode == 1
    assert [one["host"] for one in document(again)["left_out"]] == ["gannet-ws"]
    assert [held(folder, name) for name in THREE] == [[planned] for _, planned in THREE.values()]


def test_one_that_is_rolled_back_can_be_tolerated(tmp_path: Path) -> None:
    folder = site(tmp_path, {"gannet-ws": ("198.51.100.50", "198.51.100.40")} | THREE)
    done = go(folder, "--tolerate", "1")
    assert done.returncode == 3, done.stdout + done.stderr
    assert "3 of 4 changes confirmed" in done.stdout


def test_a_host_with_a_blocker_is_left_out_with_those_that_wait_for_it(tmp_path: Path) -> None:
    hosts = {
        "tide-db": (f"{QUAY}50", f"{QUAY}30"),
        "kelp-files": (f"{QUAY}51", f"{QUAY}50"),
        "puffin-web": (f"{QUAY}52", f"{QUAY}22"),
    }
    folder = site(tmp_path, hosts)
    done = go(folder)
    assert done.returncode == 1, done.stdout + done.stderr
    assert "tide-db has 203.0.113.50 today, and is left out" in done.stdout
    assert held(folder, "puffin-web") == [f"{QUAY}22"]
    assert not numbers(folder, "tide-db")
    assert not numbers(folder, "kelp-files")


def test_a_window(tmp_path: Path) -> None:
    folder = site(tmp_path, THREE)
    soon = (datetime.datetime.now() + datetime.timedelta(seconds=200)).isoformat(timespec="seconds")
    done = go(folder, "--until", soon)
    assert done.returncode == 1, done.stdout + done.stderr
    assert done.stdout.count("it might not have ended within the window") == 3
    assert not any(numbers(folder, name) for name in THREE)
    begins = datetime.datetime.now() + datetime.timedelta(seconds=15)
    done = go(folder, "--not-before", begins.isoformat(timespec="seconds"), "--confirm-within", "10")
    assert done.returncode == 0, done.stdout + done.stderr
    assert datetime.datetime.now() > begins.replace(microsecond=0)
    assert "waits until" in done.stderr


@pytest.mark.parametrize(
    ("text", "after", "means"),
    [
        ("22:00", "2026-12-02T21:00", "2026-12-02T22:00"),
        ("22:00", "2026-12-02T22:30", "2026-12-03T22:00"),
        ("0:05:30", "2026-12-31T23:00", "2027-01-01T00:05:30"),
        ("2026-12-05T01:00", "2026-12-02T22:30", "2026-12-05T01:00"),
    ],
)
def test_when_a_window_begins(text: str, after: str, means: str) -> None:
    at, wanted = (datetime.datetime.fromisoformat(one).timestamp() for one in (after, means))
    assert moment_after(text, at) == wanted


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("cutover plan.yaml --at-once 3", "go with --all"),
        ("cutover plan.yaml --park 203.0.113.240", "go with --all"),
        ("cutover plan.yaml --host tide-db --host kelp-files", "go with --all"),
        ("cutover plan.yaml --all --park 203.0.113.240", "--park goes with --unattended"),
        ("cutover plan.yaml --until 22:00", "go with --all"),
        ("cutover plan.yaml --all --until 25:00", "is no time; write 22:00"),
        ("cutover plan.yaml --all --until 2026-01-01T00:00", "is over"),
        ("cutover plan.yaml --all --host tide-bd", "Did you mean 'tide-db'"),
        ("cutover plan.yaml --all --evidence x.json", "--evidence is about one host"),
        ("cutover plan.yaml --all --park 203.0.113.0/24", "without a prefix"),
    ],
)
def test_bad_usage(tmp_path: Path, words: str, said: str) -> None:
    done = run(site(tmp_path, THREE), *words.split())
    assert done.returncode == 2, done.stdout + done.stderr
    assert said in done.stderr
