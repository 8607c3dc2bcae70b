"""``survey`` as it is installed, on the demo's hosts: its document, its log, and what follows from what it finds."""

from __future__ import annotations

from pathlib import Path

from tests.documents import findings, only
from tests.test_commands import run


def test_survey_shape(site: Path) -> None:
    survey = only(run(site, "survey", "--plan", "plan.yaml", "--host", "tide-db", "--json").stdout)
    (interface,) = survey["interfaces"]
    assert survey["stack"] == "netplan"
    assert interface["addresses"][0]["address"] == "203.0.113.131/24"
    assert interface["addresses"][0]["origin"] == "dhcp"
    assert interface["declared_in"][0] == {"file": "/etc/netplan/50-tide.yaml", "line": 5, "column": None}
    tree = only(run(site, "survey", "--root", "hosts/sonar-vm1", "--json").stdout)
    assert [i["interface"] for i in tree["interfaces"]] == ["ens3"]


def test_the_log_names_each_command_and_file(site: Path) -> None:
    words = ("survey", "--root", "hosts/sonar-vm1", "--json")
    assert run(site, *words).stderr == ""
    logged = run(site, "--log-level", "debug", *words)
    assert "DEBUG fixed_anchor.machines.files: read /etc/netplan/50-vm.yaml: " in logged.stderr
    # Standard output is the document alone, whatever is logged.
    assert only(logged.stdout)["stack"] == "netplan"
    (site / "debug").mkdir()
    broken = run(site, "survey", "--root", "debug", "--json")
    assert (broken.returncode, broken.stderr) == (0, "")


def test_what_a_draft_puts_right_speaks_against_no_change(site: Path) -> None:
    """First-boot provisioning would write the file again: the survey says so, and the draft switches it off."""
    etc = site / "hosts/tide-db/etc"
    (etc / "cloud").mkdir()
    (etc / "cloud/cloud.cfg").write_text("preserve_hostname: false\n")
    file = etc / "netplan/50-tide.yaml"
    file.write_text("# generated from the datasource by cloud-init\n" + file.read_text())
    survey = only(run(site, "survey", "--plan", "plan.yaml", "--host", "tide-db", "--json").stdout)
    assert "rewritten-at-boot" in [f["code"] for f in survey["findings"]]
    done = run(site, "check", "plan.yaml", "--host", "tide-db", "--json")
    assert done.returncode == 0
    assert [f["code"] for f in findings(done.stdout)] == ["old-address-in-use", "source-untidy", "search-incomplete"]
    assert (
        "/etc/cloud/cloud.cfg.d/99-fixed-anchor.cfg: new" in run(site, "draft", "plan.yaml", "--host", "tide-db").stdout
    )
