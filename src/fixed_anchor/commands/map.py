"""``fixed-anchor map``: the addresses of a plan's segments as a picture."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import click

from fixed_anchor.commands.app import App
from fixed_anchor.commands.common import AT_ONCE, JSON, PLAN, POOLS, ending_in, examples
from fixed_anchor.core.addresses import AddressRange
from fixed_anchor.core.errors import EXIT_AGAINST, EXIT_DONE, AnchorError, InputError, worst
from fixed_anchor.core.garbage_collection import paused
from fixed_anchor.core.segment_map import SegmentMap, segment_map
from fixed_anchor.disk.durable import write_beside
from fixed_anchor.reporting.documents.mapping import MapDocument, mapped
from fixed_anchor.workflow.drafts import judged


@click.command(
    help="The addresses of a segment, or of all: pools, what is free, who holds and who gets what, and what clashes.",
    epilog=examples(
        ("fixed-anchor map plan.yaml quay", "one segment"),
        ("fixed-anchor map plan.yaml quay -o quay.png", "drawn into a file"),
        ("fixed-anchor map plan.yaml quay --free", "its free addresses, one stretch to a line"),
    ),
)
@PLAN
@click.argument("segment", required=False)
@AT_ONCE
@POOLS
@click.option("--no-wire", is_flag=True, help="Send no packets: the map shows what hosts and sources say.")
@click.option(
    "-o",
    "output",
    type=click.Path(dir_okay=False),
    callback=ending_in(".png", ".svg"),
    help="Draw it into this file, a .png or .svg; needs the extra `map`.",
)
@click.option("--free", is_flag=True, help="Only the stretches that are free.")
@JSON
@click.pass_context
def command(
    ctx: click.Context,
    plan: str,
    segment: str | None,
    at_once: int,
    pools: tuple[AddressRange, ...],
    no_wire: bool,
    output: str | None,
    free: bool,
    as_json: bool,
) -> None:
    app = App(ctx, as_json)
    site = app.site(plan, at_once)
    segments = site.plan.segments
    if segment is not None and segment not in segments:
        raise InputError(f"there is no segment {segment}", file=plan, expected="one of " + ", ".join(segments))
    chosen = [one for name, one in segments.items() if segment in (None, name)]
    with paused(), app.status("looking at the hosts" if no_wire else "looking at the hosts, and probing, about 7 s"):
        facts, judgement = judged(site, (), pools, wire=not no_wire)
    maps = [segment_map(facts, judgement, one) for one in chosen]
    clashes = any(ruler.conflicts for found in maps for ruler in found.rulers)
    exit_status = worst(
        [EXIT_AGAINST if clashes else EXIT_DONE, *(error.exit_status for error in site.unreached.values())]
    )
    title = "   ".join(filter(None, [site.plan.site, time.strftime("%Y-%m-%d %H:%M")]))
    if output is not None:
        _draw(app, maps, title, output)
    if as_json:
        app.print_document(MapDocument(command="map", plan=plan, segments=[mapped(one) for one in maps]), exit_status)
    from fixed_anchor.reporting.terminal.segment_map import show_free, show_map

    for found in maps:
        if free:
            show_free(app.out, found)
        elif output is None:
            show_map(app.out, found, title)
    ctx.exit(exit_status)


def _draw(app: App, maps: Sequence[SegmentMap], title: str, output: str) -> None:
    """Writes the picture; matplotlib is loaded here and nowhere else."""
    try:
        from fixed_anchor.reporting.pictures.segment_map import picture
    except ModuleNotFoundError as error:
        raise AnchorError(
            f"this Python has no {error.name}, which draws maps",
            remedy="Install it: `pip install 'fixed-anchor[map]'`. Without it `map` draws in the terminal.",
        ) from None
    with app.status("drawing"):
        drawn = picture(maps, title, Path(output).suffix[1:].lower())
    write_beside(Path(output), drawn, 0o644)
    app.remark(f"wrote {output}")
