"""An interface that no file declares, as the commands have it: who takes it, what is written, and its way back."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from fixed_anchor.core.config import InterfaceConfig, LinkFacts, differences
from fixed_anchor.core.errors import NotSupported
from fixed_anchor.core.plan import STACKS
from fixed_anchor.formats import FORMATS
from fixed_anchor.formats.rewriting import rewrite
from tests.documents import only
from tests.test_commands import run
from tests.test_formats import LEASED, ON_LINK, REFUSED, TIMED, WANTED, files_of

NEW = LinkFacts("eth9", "00:00:5e:00:53:19", "00:00:5e:00:53:19")
DAEMONS = {"netplan": "systemd-networkd", "networkd": "systemd-networkd", "ifcfg": "NetworkManager"}
PLAN = """\
plan: 1
segments:
  labs: {subnet: 198.51.100.0/24, gateway: 198.51.100.1, resolvers: 198.51.100.2, search: [ternpoint.example],
         pools: [198.51.100.50 - 198.51.100.180], dhcp_servers: [198.51.100.1, 198.51.100.200]}
hosts:
  kelp-files:
    reach: REACH
    interfaces:
      enp2s0: {mac: "00:00:5e:00:53:32", segment: labs, hold: 198.51.100.40, gateway: none}
"""


def for_new(wanted: InterfaceConfig) -> InterfaceConfig:
    return InterfaceConfig(**{f: getattr(wanted, f) for f in wanted.__struct_fields__} | {"interface": NEW.name})


@pytest.mark.parametrize("name", FORMATS)
@pytest.mark.parametrize("goal", WANTED)
def test_every_goal_is_declared_at_once(name: str, goal: str) -> None:
    files, wanted = files_of(LEASED[name]), for_new(WANTED[goal])
    daemon = DAEMONS.get(name, name)
    if (name, goal) in REFUSED:
        with pytest.raises(NotSupported, match="eth9"):
            rewrite(FORMATS[name], files, NEW, wanted, daemon=daemon)
        return
    edits = rewrite(FORMATS[name], files, NEW, wanted, daemon=daemon)
    after = files | {edit.path: edit.after for edit in edits if edit.after is not None}
    (declared,) = FORMATS[name].read(after, (NEW,))
    assert differences(declared.config, wanted) == ()
    assert declared.daemon == daemon
    # Once more changes nothing, and neither was there anything to be kept as a comment.
    assert rewrite(FORMATS[name], after, NEW, wanted) == ()
    assert all("# was:" not in edit.after.text for edit in edits if edit.after is not None)


def test_the_names_of_a_plan_are_those_of_the_stacks() -> None:
    assert set(STACKS) == set(FORMATS)


@pytest.mark.parametrize("name", FORMATS)
def test_a_wireless_link_needs_a_network(name: str) -> None:
    link = LinkFacts("wlan9", kind="wireless")
    with pytest.raises(NotSupported, match="no file says which network it joins"):
        rewrite(FORMATS[name], files_of(LEASED[name]), link, for_new(ON_LINK), daemon=DAEMONS.get(name, name))
    assert TIMED.time_servers is not None


def test_survey_says_who_would_take_it(site: Path) -> None:
    survey = only(run(site, "survey", "--plan", "plan.yaml", "--host", "kelp-files", "--json").stdout)
    second = survey["interfaces"][1]
    assert (second["interface"], second["declared"], second["state"]) == ("enp2s0", None, "down")
    place = "/etc/netplan/01-netcfg.yaml:5"
    assert second["takers"] == [
        {"stack": "netplan", "daemon": "systemd-networkd", "because": f"it has enp1s0 ({place})"}
    ]
    assert survey["interfaces"][0]["takers"] == []


def test_there_and_back(site: Path) -> None:
    (site / "labs.yaml").write_text(PLAN.replace("REACH", "standin:station.yaml/kelp-files"))
    file = site / "hosts/kelp-files/etc/netplan/01-netcfg.yaml"
    before = file.read_text()
    kernel = site / "hosts/kelp-files/run/standin-kernel.json"
    dry = run(site, "cutover", "labs.yaml", "--host", "kelp-files", "--dry-run")
    assert dry.returncode == 0, dry.stdout + dry.stderr
    # Switched on for the probe, and off again.
    assert json.loads(kernel.read_text())["enp2s0"]["off"] is True
    done = run(site, "cutover", "labs.yaml", "--host", "kelp-files", "--unattended")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "enp2s0:" in file.read_text()
    assert json.loads(kernel.read_text())["enp2s0"]["off"] is False
    assert run(site, "verify", "labs.yaml", "--host", "kelp-files").returncode == 0
    back = run(site, "restore", "--plan", "labs.yaml", "--host", "kelp-files")
    assert back.returncode == 0, back.stdout + back.stderr
    assert file.read_text() == before
    state = json.loads(kernel.read_text())["enp2s0"]
    assert (state["addresses"], state["off"]) == ([], True)


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("--at", "198.51.100.40/24"), 0, "subnet: 198.51.100.0/24"),
        (("--at", "198.51.100.40", "--plan", "plan.yaml"), 0, "segment: labs"),
        (("--at", "198.51.100.40"), 2, "Say `--at 198.51.100.40/PREFIX`"),
        (("--keep",), 2, "enp2s0 has no address"),
        (("--at", "198.51.100.400/24"), 2, "octet 4 is 400"),
    ],
)
def test_propose(words: tuple[str, ...], status: int, said: str, site: Path) -> None:
    survey = run(site, "survey", "--plan", "plan.yaml", "--host", "kelp-files", "-o", "kelp.json")
    assert survey.returncode == 0
    done = run(site, "propose", "--survey", "kelp.json", "--interface", "enp2s0", *words, "-o", "-")
    assert done.returncode == status, done.stdout + done.stderr
    assert said in done.stdout + done.stderr
    if status == 0:
        assert "gateway: none" in done.stdout
        assert "# enp1s0 has the default route, by 203.0.113.1" in done.stdout
        (site / "proposed.yaml").write_text(done.stdout)
        assert run(site, "draft", "proposed.yaml").returncode in (0, 2)


def test_offline(site: Path) -> None:
    (site / "labs.yaml").write_text(PLAN.replace("REACH", "tree:hosts/kelp-files"))
    drafted = run(site, "draft", "labs.yaml")
    assert "+      dhcp4: false" in drafted.stdout, drafted.stdout + drafted.stderr
    text = (site / "labs.yaml").read_text().replace("    reach:", "    stack: ifcfg\n    reach:")
    (site / "labs.yaml").write_text(text)
    refused = run(site, "draft", "labs.yaml")
    assert "nothing on " in refused.stderr, refused.stderr
    assert "Name one that could take enp2s0: netplan" in refused.stderr
    (site / "labs.yaml").write_text(text.replace("ifcfg", "Netplan"))
    assert "Did you mean 'netplan'?" in run(site, "draft", "labs.yaml").stderr


def test_a_file_that_is_written_again_at_boot(site: Path) -> None:
    """First-boot provisioning would drop the new entry: it is switched off, as for an entry that was there."""
    (site / "labs.yaml").write_text(PLAN.replace("REACH", "tree:hosts/kelp-files"))
    etc = site / "hosts/kelp-files/etc"
    (etc / "cloud").mkdir()
    (etc / "cloud/cloud.cfg").write_text("preserve_hostname: false\n")
    file = etc / "netplan/01-netcfg.yaml"
    file.write_text("# generated from the datasource by cloud-init\n" + file.read_text())
    assert "/etc/cloud/cloud.cfg.d/99-fixed-anchor.cfg: new" in run(site, "draft", "labs.yaml").stdout
