"""The JSON of the commands: every document of every command is as its schema in docs/schemas says."""

from __future__ import annotations

import json
import re
import subprocess
import time
from collections.abc import Iterator
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from fixed_anchor.cli import COMMANDS
from fixed_anchor.reporting.documents import DOCUMENTS
from fixed_anchor.reporting.schemas import schema
from fixed_anchor.standins.layout import lay_out
from tests.documents import only
from tests.test_commands import ALONE, PROGRAM, run

ROOT = Path(__file__).parents[1]
STATE = ("--state-dir", "hosts/tide-db/state")
#: These print what is no document: the walk of the demo, and a script for a shell.
WITHOUT = {"demo", "completion", "report"}

#: Everything that is asked on the demo's site, in this order, and the exit status.
ASKED: list[tuple[tuple[str, ...], int]] = [
    (("survey", "--plan", "plan.yaml"), 0),
    (("survey", "--plan", "plan.yaml", "--host", "sonar-vm1", "-o", "sonar.json"), 0),
    (("survey", "--root", "hosts/sonar-vm1"), 0),
    (("survey", "--root", "no-such-folder"), 2),
    (("propose", "--survey", "sonar.json", "--keep", "-o", "-"), 0),
    ((*STATE, "propose", "--plan", "plan.yaml", "--pick", "-o", "own.yaml"), 0),
    (("propose", "--survey", "plan.yaml", "--keep", "-o", "-"), 2),
    ((*STATE, "probe", "203.0.113.32", "198.18.4.9"), 1),
    ((*STATE, "probe", "203.0.113.999"), 2),
    (("check", "plan.yaml"), 1),
    (("check", "plan.yaml", "--host", "tide-db", "--no-wire"), 6),
    (("check", "broken.yaml"), 2),
    (("check", "plan.yaml", "--host", "tide-bd"), 2),
    (("check", "plan.yaml", "--no-such-option"), 2),
    (("map", "plan.yaml", "quay"), 1),
    (("draft", "plan.yaml"), 0),
    (("draft", "plan.yaml", "--runbook", "-o", "carried"), 1),
    (("draft", "plan.yaml", "--host", "tide-db", "-o", "drafted"), 0),
    ((*STATE, "status"), 0),
    ((*STATE, "history"), 0),
    ((*STATE, "confirm"), 7),
    (("cutover", "plan.yaml", "--host", "kelp-files"), 1),
    (("cutover", "plan.yaml", "--host", "kelp-files", "--dry-run"), 1),
    (
        (
            "cutover",
            "plan.yaml",
            "--host",
            "kelp-files",
            "--unattended",
            "--accept",
            "answers-on-wire",
            "--because",
            "x",
        ),
        3,
    ),
    (("cutover", "plan.yaml", "--host", "tide-db", "--dry-run"), 0),
    (("cutover", "plan.yaml", "--host", "tide-db", "--unattended"), 0),
    (("cutover", "plan.yaml", "--host", "tide-db"), 0),
    (("verify", "plan.yaml", "--host", "tide-db"), 0),
    (("verify", "plan.yaml"), 1),
    ((*STATE, "restore", "--dry-run"), 0),
    ((*STATE, "restore", "--unattended"), 0),
    ((*STATE, "close", "1", "--because", "why not"), 7),
    ((*STATE, "status"), 0),
    ((*STATE, "history"), 0),
    ((*STATE, "history", "2"), 0),
    (("survey", "--plan", "seat.yaml"), 4),
    (("survey", "--plan", "seat.yaml", "--host", "auk-store"), 4),
    (("propose", "--plan", "seat.yaml", "--host", "tide-ns1", "--host", "puffin-web", "--keep", "-o", "-"), 0),
    (("probe", "203.0.113.32", "--plan", "seat.yaml", "--from", "tide-ns1"), 1),
    (("check", "seat.yaml"), 4),
    (("draft", "seat.yaml"), 4),
    (("cutover", "seat.yaml"), 2),
    (("cutover", "seat.yaml", "--host", "tide-ns1", "--unattended"), 0),
    (("verify", "seat.yaml", "--host", "tide-ns1", "--host", "auk-store"), 4),
    (("status", "--plan", "seat.yaml"), 4),
    (("history", "--plan", "seat.yaml"), 4),
    (("history", "--plan", "seat.yaml", "tide-ns1:1"), 0),
    (("confirm", "--plan", "seat.yaml"), 2),
    (("confirm", "--plan", "seat.yaml", "--all"), 4),
    (("restore", "--plan", "seat.yaml", "--host", "tide-ns1", "--host", "puffin-web"), 2),
    (("close", "--plan", "seat.yaml", "tide-ns1:1", "--because", "x"), 7),
    (("explain",), 0),
    (("explain", "3"), 0),
    (("explain", "no-such-code"), 2),
]


@pytest.fixture(scope="module")
def printed(tmp_path_factory: pytest.TempPathFactory) -> list[tuple[str, tuple[str, ...], int, int, str]]:
    """Command, words, the exit status that is right, the one that came, and what was printed."""
    site = tmp_path_factory.mktemp("documents") / "site"
    lay_out(site)
    (site / "broken.yaml").write_text("plan: 1\nsegments\n  quay: {subnet: 203.0.113.0/33}\nhosts: {}\n")
    found = []
    for words, status in ASKED:
        done = run(site, *words, "--json")
        found.append((next(w for w in words if w in COMMANDS), words, status, done.returncode, done.stdout))
    found += _decided(site)
    return found


def _decided(site: Path) -> Iterator[tuple[str, tuple[str, ...], int, int, str]]:
    """A change that waits: asked after, given more time, and confirmed."""
    argv = [*ALONE, str(PROGRAM), "cutover", "plan.yaml", "--host", "tide-db", "--confirm-within", "300", "--json"]
    with subprocess.Popen(argv, cwd=site, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as first:
        until = time.monotonic() + 120
        while (waiting := only(run(site, *STATE, "status", "--json").stdout)["open"]) is None or not waiting["verdict"]:
            assert time.monotonic() < until
            time.sleep(0.2)
        for words in (("status",), ("confirm", "--more-time", "60"), ("confirm",)):
            done = run(site, *STATE, *words, "--json")
            yield words[0], words, 0, done.returncode, done.stdout
        out, _ = first.communicate(timeout=120)
        yield "cutover", ("cutover",), 0, first.returncode, out


def test_every_command_that_acts_or_tells_has_json(printed: list[tuple[Any, ...]]) -> None:
    for name, (module, _) in COMMANDS.items():
        command = import_module(f"fixed_anchor.commands.{module}").command
        options = [option for parameter in command.params for option in parameter.opts]
        assert ("--json" in options) is (name not in WITHOUT), name
    assert set(DOCUMENTS) == set(COMMANDS) - WITHOUT == {name for name, *_ in printed} | {"close"}


def test_every_document_is_as_its_schema_says(printed: list[tuple[str, tuple[str, ...], int, int, str]]) -> None:
    for name, words, status, came, text in printed:
        assert came == status, (words, text)
        document = json.loads(text)
        Draft202012Validator(json.loads((ROOT / f"docs/schemas/{name}.json").read_text())).validate(document)
        assert (document["format"], document["command"], document["exit_status"]) == (2, name, status), words
        refused = words[0] == "cutover" and status == 1
        of_hosts = [host for host in document.get("hosts", ()) if host.get("error")]
        assert bool(document["errors"] or of_hosts) is (status in (2, 4, 7) or refused), words
        # Why it is refused is told with it.
        assert not refused or all(host["findings"] and host["draft"] for host in document["hosts"])


def test_one_vocabulary(printed: list[tuple[str, tuple[str, ...], int, int, str]]) -> None:
    """A place, a time, a host and an interface have one form, wherever they stand."""

    def walk(value: Any, path: str) -> None:
        if isinstance(value, dict):
            if "file" in value and "line" in value:
                assert set(value) == {"file", "line", "column"}, path
            for key, inner in value.items():
                if key in ("time", "begun", "deadline") and inner is not None:
                    assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", inner), f"{path}.{key}: {inner}"
                assert key not in ("name", "nic", "status", "state_text", "result"), f"{path}.{key}"
                walk(inner, f"{path}.{key}")
            if "code" in value and ("message" in value or "observed" in value):
                assert {"host", "interface"} <= set(value), path
        elif isinstance(value, list):
            for number, inner in enumerate(value):
                walk(inner, f"{path}[{number}]")

    for name, _, _, _, text in printed:
        document = json.loads(text)
        assert name in ("explain", "map") or isinstance(document["hosts"], list)
        walk(document, name)


def test_errors_are_json_with_their_places(printed: list[tuple[str, tuple[str, ...], int, int, str]]) -> None:
    text = next(text for _, words, _, _, text in printed if "broken.yaml" in words)
    places = [(e["place"]["file"], e["place"]["line"]) for e in json.loads(text)["errors"]]
    assert places == [("broken.yaml", 2), ("broken.yaml", 3)]
    near = next(text for _, words, _, _, text in printed if "tide-bd" in words)
    assert "tide-db" in json.loads(near)["errors"][0]["remedy"]


def test_the_schemas_are_current() -> None:
    for name in DOCUMENTS:
        assert json.loads((ROOT / f"docs/schemas/{name}.json").read_text()) == json.loads(json.dumps(schema(name)))


def test_a_saved_survey_is_read(site: Path) -> None:
    run(site, "survey", "--plan", "plan.yaml", "--host", "tide-db", "-o", "new.json")
    assert run(site, "propose", "--survey", "new.json", "--keep", "-o", "-").stdout != ""
    for wrong in ("{}", "[]", '{"format": 3}', '{"format": 2, "hosts": []}', '{"format": 2, "hosts": 4}'):
        (site / "old.json").write_text(wrong)
        done = run(site, "propose", "--survey", "old.json", "--keep", "-o", "-")
        assert (done.returncode, "Traceback" in done.stderr, "bug of ours" in done.stderr) == (2, False, False), wrong
