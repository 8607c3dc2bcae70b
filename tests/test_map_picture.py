"""The map of a segment as a picture: where its rulers and labels are, and what the file holds."""

from __future__ import annotations

import itertools
import struct
import subprocess
import sys
import xml.etree.ElementTree as ET
from ipaddress import ip_network
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fixed_anchor.core.addresses import IPAddress, IPNetwork
from fixed_anchor.core.segment_map import Mark, Move, Ruler, SegmentMap, ruler_of
from fixed_anchor.reporting.pictures import rulers
from tests.test_commands import run


def ruler(subnet: str, hosts: dict[int, str], moves: dict[int, int] | None = None) -> Ruler:
    """A subnet with a host at each of these places, counted from its first address."""
    net: IPNetwork = ip_network(subnet)

    def at(place: int) -> IPAddress:
        return net.network_address + place

    marks = tuple(Mark(at(place), name, "eth0", True, True) for place, name in sorted(hosts.items()))
    gone = (Move(hosts[begin], at(begin), at(end)) for begin, end in (moves or {}).items())
    return ruler_of(net, (), marks, gone)


@pytest.mark.parametrize(
    ("subnet", "places", "moves", "drawn"),
    [
        ("203.0.113.0/24", (), {}, [(0, 255)]),
        ("203.0.113.64/28", (3,), {}, [(0, 15)]),
        ("198.18.4.0/22", (9, 700), {}, [(0, 255), (256, 511), (512, 767), (768, 1023)]),
        # Crowded: nine hosts among 32 addresses; and two that change places, whose arrow would be a dot.
        ("203.0.113.0/24", tuple(range(64, 73)), {}, [(0, 255), (64, 95)]),
        ("203.0.113.0/24", (60, 61), {60: 61, 61: 60}, [(0, 255), (44, 75)]),
        # Of a large subnet what is used.
        ("198.18.0.0/16", (5, 70, 4000, 40000), {}, [(0, 255), (3840, 4095), (39936, 40191)]),
        ("2001:db8:7e:1::/64", (0x20, 0x2A, 1 << 40), {}, [(0x1E, 0x2C), ((1 << 40) - 2, (1 << 40) + 2)]),
    ],
)
def test_what_the_rulers_show(
    subnet: str, places: tuple[int, ...], moves: dict[int, int], drawn: list[tuple[int, int]]
) -> None:
    one = ruler(subnet, {place: f"h{place}" for place in places}, moves)
    begin = int(one.subnet.network_address)
    pieces = [piece for row in rulers.rows(one) for piece in row.pieces]
    assert [(piece.first - begin, piece.last - begin) for piece in pieces] == drawn
    for row in rulers.rows(one):
        assert row.pieces[0].at == 0
        assert row.pieces[-1].end <= rulers.WIDTH + 1e-6
        for before, after in itertools.pairwise(row.pieces):
            assert before.last < after.first
            assert before.end < after.at


@given(st.lists(st.floats(0, 100), max_size=30).map(sorted), st.floats(1, 20))
def test_labels_stand_apart_and_in_order(wanted: list[float], apart: float) -> None:
    places = rulers.spread(wanted, apart, 0, 100)
    fits = min(apart, 100 / max(len(wanted), 1))
    assert all(-1e-6 <= place <= 100 + 1e-6 for place in places)
    assert all(after - before >= fits - 1e-6 for before, after in itertools.pairwise(places))


def test_a_png_and_an_svg(site: Path) -> None:
    done = run(site, "map", "plan.yaml", "quay", "-o", "quay.png")
    assert (done.returncode, done.stdout) == (1, "")
    head = (site / "quay.png").read_bytes()[:24]
    assert head.startswith(b"\x89PNG")
    wide, high = struct.unpack(">II", head[16:24])
    assert wide == 1280
    assert 400 < high < 900
    # Two plans on one sheet: every segment, and text that can be searched for.
    assert run(site, "map", "plan.yaml", "-o", "all.svg").returncode == 1
    words = " ".join(ET.parse(site / "all.svg").getroot().itertext())
    for word in ("quay  203.0.113.0/24", "lofts  198.18.4.0/22", "← .142", "answers-on-wire", "Tern Point"):
        assert word in words


def test_no_name_is_a_formula_or_markup() -> None:
    from fixed_anchor.reporting.pictures.segment_map import picture

    hostile = {5: "$\\frac{1}{", 9: "</text><script>alert(1)</script>", 12: "\x1b[31mred"}
    drawn = picture([SegmentMap("quay", (ruler("203.0.113.0/24", hostile),))], "$title", "svg")
    root = ET.fromstring(drawn)
    assert not [one for one in root.iter() if one.tag.endswith("script")]
    assert "</text><script>alert(1)</script>" in " ".join(root.itertext())
    assert b"\x1b" not in drawn
    assert picture([SegmentMap("quay", (ruler("203.0.113.0/24", hostile),))], "$title", "svg") == drawn


@pytest.mark.parametrize(
    ("name", "says"),
    [("quay.pdf", "must end in .png or .svg"), ("plan.yaml/quay.png", "cannot be written"), ("quay", "must end in")],
)
def test_where_it_cannot_be_drawn(site: Path, name: str, says: str) -> None:
    done = run(site, "map", "plan.yaml", "quay", "--no-wire", "-o", name)
    assert done.returncode in (2, 4)
    assert says in done.stderr
    assert "Traceback" not in done.stderr


def test_what_draws_is_loaded_for_a_picture_alone(site: Path) -> None:
    for words in (["--version"], ["map", "plan.yaml", "quay", "--no-wire"]):
        argv = [sys.executable, "-X", "importtime", "-m", "fixed_anchor", *words]
        loaded = subprocess.run(argv, cwd=site, capture_output=True, text=True).stderr
        assert "click" in loaded
        assert not [name for name in ("matplotlib", "numpy", "jinja2") if f" {name}\n" in loaded]
    # Without the extra it says what to install.
    told = "import sys; sys.modules['matplotlib'] = None; from fixed_anchor.cli import main; sys.argv[1:] = {}; main()"
    argv = [sys.executable, "-c", told.format(["map", "plan.yaml", "quay", "--no-wire", "-o", "x.png"])]
    done = subprocess.run(argv, cwd=site, capture_output=True, text=True)
    assert done.returncode == 2
    assert "pip install 'fixed-anchor[map]'" in done.stderr
