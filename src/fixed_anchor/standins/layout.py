"""Laying the made-up site into a folder."""

from __future__ import annotations

import json
import os
from pathlib import Path

from fixed_anchor.core.errors import InputError, NoAccess
from fixed_anchor.machines import MARKER as MARKER_OF_STATE

MARKER, SEAT = ".tern-point-demo", ".fixed-anchor"


def lay_out(folder: Path) -> None:
    """Writes the Tern Point site into ``folder``, anew where an earlier demo lies there.

    Raises :class:`InputError` for a folder that holds anything else.
    """
    # Loaded here: every command knows of stand-ins, and few lay one out.
    import shutil
    from importlib import resources

    if folder.exists() and not folder.is_dir():
        raise InputError("this is not a folder", file=str(folder), expected="a folder for the demo site")
    if folder.is_dir() and any(folder.iterdir()):
        if not (folder / MARKER).is_file():
            raise InputError(
                "this folder is not empty, and nothing in it is overwritten",
                file=str(folder),
                remedy="name another folder: fixed-anchor demo DIR",
            )
        shutil.rmtree(folder)
    source = resources.files("fixed_anchor.standins") / "ternpoint"
    try:
        with resources.as_file(source) as site:
            shutil.copytree(site, folder, dirs_exist_ok=True)
        (folder / MARKER).write_text("laid out by fixed-anchor demo\n")
        # The seat of the demo keeps its runs here, not among those of whoever tries it.
        (folder / SEAT).mkdir(mode=0o700)
        for host in sorted((folder / "hosts").iterdir()):
            if (host / "etc").is_dir():
                # The stub of systemd-resolved is a link, as on a real host.
                os.symlink("../run/systemd/resolve/stub-resolv.conf", host / "etc" / "resolv.conf")
                for file in (host / "etc" / "netplan").iterdir():
                    file.chmod(0o600)
            # So that `--state-dir` finds the host before it was ever changed.
            (host / "state").mkdir(mode=0o700)
            (host / "state" / MARKER_OF_STATE).write_text(
                json.dumps({"reach": "standin", "station": "../../../station.yaml", "host": host.name})
            )
    except OSError as error:
        raise NoAccess(f"the site cannot be laid out: {error.strerror}", file=str(folder)) from None
