"""What the engine does with files: links, access lists, owners, a full disk, and tricks with paths."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from fixed_anchor.change.content import FileContent
from fixed_anchor.change.files import FileEdit, FileText
from fixed_anchor.change.steps import Steps
from tests.changes import NEW, OLD, Scene, shells
from tests.disks import fill, mounted

pytestmark = pytest.mark.one_in(2)

ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="needs root: it mounts, or changes owners")
EDIT = {"a": (OLD, NEW)}


def change_of(*edits: FileEdit) -> FileContent:
    return FileContent(("lo",), edits)


def begun(scene: Scene, change: FileContent) -> Path:
    folder = scene.lay_down(change)
    done = scene.verb("start", folder)
    assert done.returncode == 0, done.stderr
    scene.wait(folder, "waiting")
    return folder


def test_a_link_becomes_a_file_and_comes_back(scene: Scene) -> None:
    """As ``resolv.conf`` does where a resolver's stub is left."""
    live = scene.live("resolv.conf")
    live.symlink_to("../run/stub")
    text = FileText(scene.path("resolv.conf"), NEW, 0o644, os.getuid(), os.getgid())
    edit = FileEdit(scene.path("resolv.conf"), None, text, link_before="../run/stub")
    folder = begun(scene, change_of(edit))
    assert not live.is_symlink()
    assert live.read_text() == NEW
    assert scene.verb("roll-back", folder).returncode == 0
    assert os.readlink(live) == "../run/stub"


def test_a_file_becomes_a_link_and_comes_back(scene: Scene) -> None:
    live = scene.live("a")
    before = FileText(scene.path("a"), OLD, 0o644, os.getuid(), os.getgid())
    folder = begun(scene, change_of(FileEdit(scene.path("a"), before, None, link_after="elsewhere")))
    assert os.readlink(live) == "elsewhere"
    assert scene.verb("roll-back", folder).returncode == 0
    assert not live.is_symlink()
    assert live.read_text() == OLD


def test_another_link_than_the_draft_saw_is_refused(scene: Scene) -> None:
    scene.live("resolv.conf").symlink_to("somewhere")
    text = FileText(scene.path("resolv.conf"), NEW)
    folder = scene.lay_down(change_of(FileEdit(scene.path("resolv.conf"), None, text, link_before="../run/stub")))
    refused = scene.verb("start", folder)
    assert refused.returncode == 1
    assert "symbolic link" in refused.stderr
    assert os.readlink(scene.live("resolv.conf")) == "somewhere"


def test_a_folder_that_is_a_link_is_refused(scene: Scene) -> None:
    (scene.root / "elsewhere").mkdir()
    (scene.root / "elsewhere/x").write_text(OLD)
    scene.live("folder").symlink_to(scene.root / "elsewhere")
    refused = scene.verb("start", scene.lay({"folder/x": (OLD, NEW)}))
    assert refused.returncode == 1
    assert "is a symbolic link" in refused.stderr
    assert (scene.root / "elsewhere/x").read_text() == OLD


@pytest.mark.parametrize("path", ["{root}/etc/../etc/a", "{root}/etc//a", "{root}/etc/./a", "etc/a"])
def test_no_plain_path_is_refused(real: Scene, path: str) -> None:
    folder = real.lay(EDIT)
    manifest = folder / "manifest"
    manifest.write_text(manifest.read_text().replace(real.path("a"), path.format(root=real.root)))
    refused = real.verb("start", folder)
    assert refused.returncode == 2
    assert "is no plain path" in refused.stderr
    assert real.live("a").read_text() == OLD


def test_a_link_laid_in_the_way_of_the_new_contents(real: Scene) -> None:
    """The name beside the file, under which its new contents are written, leads nowhere else."""
    victim = real.root / "victim"
    victim.write_text("precious\n")
    real.live(".fixed-anchor.0001.1").symlink_to(victim)
    real.live(".fixed-anchor.0001.1.old").symlink_to(victim)
    folder = real.lay(EDIT)
    assert real.verb("start", folder).returncode == 0
    real.wait(folder, "waiting")
    assert real.live("a").read_text() == NEW
    assert real.verb("roll-back", folder).returncode == 0
    assert real.live("a").read_text() == OLD
    assert victim.read_text() == "precious\n"


@ROOT
@pytest.mark.parametrize("way", ["renamed", "copied"])
def test_owner_mode_attributes_and_access_lists_come_back(real: Scene, way: str) -> None:
    """By the rename of the very file; and by the saved copy alone, where that name has gone."""
    live = real.live("a")
    live.chmod(0o640)
    os.chown(live, 33, 4)
    os.utime(live, (1_000_000_000, 1_000_000_000))
    os.setxattr(live, "user.note", b"kept by hand")
    # The wire form of the list u::rw-,u:33:r--,g::r--,m::r--,o::--- (acl(5)).
    entries = ((1, 6, -1), (2, 4, 33), (4, 4, -1), (16, 4, -1), (32, 0, -1))
    access = b"\x02\0\0\0" + b"".join(
        tag.to_bytes(2, "little") + bits.to_bytes(2, "little") + (uid & 0xFFFFFFFF).to_bytes(4, "little")
        for tag, bits, uid in entries
    )
    try:
        os.setxattr(live, "system.posix_acl_access", access)
    except OSError:
        pytest.skip("this file system has no access lists")
    before = live.stat()
    folder = begun(
        real, change_of(FileEdit(real.path("a"), FileText(real.path("a"), OLD), FileText(real.path("a"), NEW)))
    )
    # The new file has them too; what somebody does with that one does not matter to the old.
    assert "system.posix_acl_access" in os.listxattr(live)
    os.removexattr(live, "user.note")
    os.removexattr(live, "system.posix_acl_access")
    if way == "copied":
        real.live(".fixed-anchor.0001.1.old").unlink()
    assert real.verb("roll-back", folder).returncode == 0
    after = live.stat()
    assert (after.st_mode, after.st_uid, after.st_gid, after.st_mtime) == (before.st_mode, 33, 4, before.st_mtime)
    assert os.getxattr(live, "user.note") == b"kept by hand"
    assert os.getxattr(live, "system.posix_acl_access") == access


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A small file system of its own, on which a scene can be laid."""
    folder = tmp_path / "small"
    folder.mkdir()
    with mounted(folder, "size=4m"):
        yield folder


@ROOT
@pytest.mark.parametrize("shell", shells())
@pytest.mark.parametrize("full_when", ["waiting", "activating"])
def test_a_disk_that_fills_up_can_still_be_left(small_disk: Path, shell: str, full_when: str) -> None:
    """The decision, the state and the files that come back need no room that was not kept for them."""
    scene = Scene(small_disk, shell)
    scene.live("a").write_text(OLD)
    steps = Steps(activate=(("sleep", "3"),)) if full_when == "activating" else Steps()
    folder = scene.lay(EDIT, steps)
    assert scene.verb("start", folder).returncode == 0
    scene.wait(folder, full_when)
    fill(small_disk)
    if full_when == "waiting":
        assert scene.verb("roll-back", folder).returncode == 0
    scene.wait(folder, "rolled-back", "waiting")
    if scene.state(folder) == "waiting":
        assert scene.verb("roll-back", folder).returncode == 0
    assert scene.state(folder) == "rolled-back"
    assert scene.live("a").read_text() == OLD
    until = time.monotonic() + 120
    while (scene.changes / "open").is_symlink():
        assert time.monotonic() < until, "the lock stays"
        time.sleep(0.1)


def test_which_sync_there_is_is_logged(real: Scene) -> None:
    folder = real.lay(EDIT)
    assert real.verb("start", folder).returncode == 0
    real.wait(folder, "waiting")
    assert "sync: file by file" in real.log(folder)
    real.verb("roll-back", folder)
    # Where the command takes no names, whole file systems are synced, and it is said.
    stub = real.root / "bin/sync"
    stub.write_text(f"#!/bin/sh\n[ $# = 0 ] || exit 1\necho all >>{real.root}/synced\n")
    stub.chmod(0o755)
    second = real.lay(EDIT)
    assert real.verb("start", second).returncode == 0
    real.wait(second, "waiting")
    assert "sync: whole file systems" in real.log(second)
    assert (real.root / "synced").read_text().count("all") > 10
    real.verb("roll-back", second)


def test_what_a_change_keeps_is_as_private_as_its_original(real: Scene) -> None:
    real.live("a").chmod(0o600)
    folder = real.lay(EDIT)
    real.verb("start", folder)
    real.wait(folder, "waiting")
    real.live("a").write_text("by hand\n")
    assert real.verb("confirm", folder).returncode == 0
    kept = [p for p in (*folder.rglob("*"), *real.live("").iterdir()) if p.is_file() and not p.is_symlink()]
    assert {p.name for p in kept} >= {"log", "manifest", "1"}
    for path in kept:
        assert not stat.S_IMODE(path.stat().st_mode) & 0o077, path
    assert (folder / "found/1").read_text() == "by hand\n"
