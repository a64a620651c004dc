"""An archive that was added before: what its holding has, and how to add to it or take its place."""

import os

from msgspec.structs import replace

from usufruct.actions.download import Download
from usufruct.actions.request import Request, choices_from_text
from usufruct.errors import WrongUsage
from usufruct.files.paths import real_path
from usufruct.files.shells import quoted
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import holding_named, holdings_from
from usufruct.ledger.layers import entries_in, entries_of_holding
from usufruct.model.choices import OnClash, combined
from usufruct.model.holdings import Holding
from usufruct.model.plan import Plan

_SPARING = frozenset({OnClash.KEEP, OnClash.NEWER, OnClash.BOTH})
"""Answers by which files of the user's stay."""


def to_update(request: Request, ledger: Ledger | None) -> Request:
    """Return the request for the application or directory of the holding that is to be updated, if any.

    If the earlier version left files of the user's in place, this one does too, unless another answer is given now.
    """
    if request.update is None:
        return request
    old = holding_named(ledger, request.update) if ledger else None
    if not old:
        raise WrongUsage(f"There is no holding called {request.update}.", remedy="`usufruct list` shows what there is.")
    if not request.conflict_is_said:
        earlier, _ = choices_from_text(old.choices)
        on_clash = earlier.on_clash if earlier.on_clash in _SPARING else request.choices.on_clash
        choices = replace(request.choices, on_clash=on_clash, on_clash_of=earlier.on_clash_of)
        request = replace(request, choices=choices)
    if old.application is None:
        return replace(request, applications=(), to=old.root)
    fitting = tuple(one for one in request.applications if one.name == old.application)
    if not fitting:
        raise WrongUsage(
            f"{old.name} belongs to {old.application}.", remedy=f"Say --app {old.application}, or leave --app out."
        )
    return replace(request, applications=fitting, known=request.known or request.applications, is_named=True)


def to_add_more(holding: Holding, request: Request) -> Request:
    """Return the request to add to a holding from the same archive, by its choices and these."""
    old, encoding = choices_from_text(holding.choices)
    if request.choices.claim and not old.claim:
        raise WrongUsage(
            f"{holding.name} was added already, without --claim.",
            remedy=f"`usufruct remove {quoted(holding.name)}` leaves what is yours; then add it with --claim.",
        )
    choices = combined(old, request.choices)
    if request.conflict_is_said and request.choices.on_clash is not old.on_clash:
        choices = replace(choices, on_clash=request.choices.on_clash, on_clash_of=request.choices.on_clash_of)
    return replace(
        request,
        update=holding.name,
        extends=True,
        patterns=(*request.choices.only, *request.choices.skip),
        file_name=os.path.basename(holding.archive),
        choices=choices,
        access=replace(request.access, names=request.access.names or encoding),
    )


def from_this_archive(download: Download, ledger: Ledger) -> Holding | None:
    """Return the holding that came from this very archive, unless the user asked for another directory or name."""
    request = download.request
    if request.update is not None or request.name is not None:
        return None
    named = {application.name for application in request.applications}
    for holding in holdings_from(ledger, download.archive.size, lambda: download.digest):
        if request.to is not None:
            is_meant = real_path(request.to) == holding.root
        else:
            is_meant = not request.is_named or holding.application in named
        if is_meant:
            return holding
    return None


def is_made_so(holding: Holding, download: Download) -> bool:
    """Whether a holding came from this archive as a whole, by the same choices."""
    if holding.is_partial or holding.archive_size != download.archive.size:
        return False
    request = download.request
    # Compared as values: an earlier version may have had fewer options.
    is_alike = choices_from_text(holding.choices) == (request.choices, request.access.names)
    return is_alike and holding.archive_digest == download.digest


def has_all(ledger: Ledger, holding: Holding, plan: Plan) -> bool:
    """Whether a holding has exactly the files that its own archive would place now."""
    layout, count = plan.layout, 0
    for home, rows in enumerate(plan.rows_by_home()):
        here = entries_in(ledger, holding.number, plan.snapshot.surveyed(home).path) if rows else {}
        for row in rows:
            # A file that the user edited would get a free name, but the holding has it all the same.
            if layout.listing.path(row) not in (here.get(plan.name(row)), here.get(layout.name(row))):
                return False
        count += len(rows)
    return count == entries_of_holding(ledger, holding.number)
