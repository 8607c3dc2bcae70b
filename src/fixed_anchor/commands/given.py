"""The hosts that a plan is proposed for, and the address that an option names."""

from __future__ import annotations

from pathlib import Path

import click
import msgspec

from fixed_anchor.commands.app import App
from fixed_anchor.core.addresses import AddressRange, IPAddress, parse_address, parse_interface_address
from fixed_anchor.core.errors import AnchorError, InputError
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.reporting.documents.saved import read_stock, read_stocks
from fixed_anchor.reporting.documents.stock import HostStock, host_stock
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.reaching import collected, collection_from, way_from, way_to
from fixed_anchor.workflow.targets import HostTarget


def address_option(
    ctx: click.Context, param: click.Parameter, value: str | None
) -> tuple[IPAddress, int | None] | None:
    """The address, and its prefix where one is said."""
    try:
        if value is None:
            return None
        if "/" not in value:
            return parse_address(value), None
        both = parse_interface_address(value)
        return both.ip, both.network.prefixlen
    except ValueError as error:
        raise click.BadParameter(str(error)) from None


class Given(msgspec.Struct, frozen=True):
    """A host to propose a plan for: its survey, as a document has it; and itself, where it can be asked."""

    name: str
    stock: HostStock
    found: HostSurvey | None = None
    target: HostTarget | None = None
    #: How `check` and `draft` find it again.
    reach: str | None = None
    #: The survey that it is known by.
    file: str | None = None


def given_hosts(
    app: App, site: Site | None, hosts: tuple[str, ...], at_once: int, survey_file: str | None, folder: Path
) -> list[Given]:
    """The hosts that were named, or else that of a survey, or this machine. Raises why one does not answer."""
    if hosts:
        every = app.reach.surveyed(site, hosts, at_once)
        for one in every:
            if one.survey is None:
                raise one.why_not
        found = [(one, one.survey) for one in every if one.survey is not None]
        return [
            Given(one.name, host_stock(survey), survey, one.target, way_from(site, one.name, one.reach, folder))
            for one, survey in found
        ]
    if survey_file is None:
        target = app.reach.target()
        survey = target.survey()
        return [Given(survey.host, host_stock(survey), survey, target)]
    host = _collected(survey_file, folder)
    if host is not None:
        return [host]
    stock = read_stock(survey_file)
    return [Given(stock.host, stock, file=survey_file)]


def _collected(path: str, folder: Path) -> Given | None:
    """The host that was collected in a file; ``None`` where that is no collection."""
    host = collected(path)
    if host is None:
        return None
    stock = host_stock(host.survey())
    return Given(stock.host, stock, reach=collection_from(path, folder), file=path)


def given_in_folder(app: App, name: str, folder: Path) -> list[Given]:
    """Every host of the surveys and collections in the folder ``name``; what is neither is told.

    A plan in ``folder`` says how they are reached. Raises :class:`InputError` where the folder cannot be read.
    """
    try:
        files = sorted(path for path in Path(name).iterdir() if path.is_file() and not path.name.startswith("."))
    except OSError as error:
        raise InputError(f"the surveys cannot be read: {error.strerror}", file=name) from None
    found: list[Given] = []
    for path in map(str, files):
        try:
            host = _collected(path, folder)
            found += [host] if host is not None else _saved(path, folder)
        except AnchorError as error:
            app.remark(f"not read: {error}", style="yellow")
    if not found:
        raise InputError("there is no survey in this folder", file=name, expected="what `survey -o FILE` writes")
    return found


def _saved(path: str, folder: Path) -> list[Given]:
    stocks = read_stocks(path)
    return [Given(one.host, one, reach=way_to(one.reach, folder) if one.reach else None, file=path) for one in stocks]


def pools_of(pools: tuple[AddressRange, ...], no_pool: bool) -> tuple[AddressRange, ...] | None:
    """What ``--pool`` and ``--no-pool`` say; ``None`` where nothing is known. Raises a usage error."""
    if no_pool and pools:
        raise click.UsageError("--pool and --no-pool exclude each other")
    return () if no_pool else (pools or None)


def vantage_of(one: Given, interface: str) -> Vantage:
    """From where an address is looked for."""
    if one.target is None:
        return Nowhere(f"the survey {one.file} is of another machine")
    return one.target.vantage(one.found, interface)
