"""The hosts that a plan is proposed for, and the address that an option names."""

from __future__ import annotations

from pathlib import Path

import click
import msgspec

from fixed_anchor.commands.app import App
from fixed_anchor.core.addresses import IPAddress, parse_address, parse_interface_address
from fixed_anchor.core.survey import HostSurvey
from fixed_anchor.reporting.documents.saved import read_stock
from fixed_anchor.reporting.documents.stock import HostStock, host_stock
from fixed_anchor.vantages.nowhere import Nowhere
from fixed_anchor.vantages.protocol import Vantage
from fixed_anchor.workflow.reached.site import Site
from fixed_anchor.workflow.reaching import collected, collection_from, way_from
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
    host = collected(survey_file)
    if host is not None:
        stock = host_stock(host.survey())
        return [Given(stock.host, stock, reach=collection_from(survey_file, folder))]
    stock = read_stock(survey_file)
    return [Given(stock.host, stock)]


def vantage_of(one: Given, interface: str, survey_file: str | None) -> Vantage:
    """From where an address is looked for."""
    if one.target is None:
        return Nowhere(f"the survey {survey_file} is of another machine")
    return one.target.vantage(one.found, interface)
