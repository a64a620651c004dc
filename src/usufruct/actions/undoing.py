"""The history, and taking the last change back."""

from dataclasses import dataclass
from pathlib import Path

from usufruct.actions.applications import known_applications
from usufruct.actions.refresh import run_after
from usufruct.actions.sources import row_for, source_of
from usufruct.actions.surroundings import Surroundings
from usufruct.archives.reading import Access
from usufruct.errors import WrongUsage
from usufruct.ledger.changes import changes_done
from usufruct.ledger.holdings import holding_numbered, holdings_of_change
from usufruct.ledger.layers import past_layers
from usufruct.model.applications import Application
from usufruct.model.changes import Change, ChangeKind
from usufruct.model.holdings import Holding
from usufruct.survey.drives import refuse_away
from usufruct.transaction.mend import lay_back, put_before
from usufruct.transaction.take_out import remove_holding
from usufruct.transaction.work import Edges


@dataclass(frozen=True, slots=True)
class Undone:
    """What taking a change back did."""

    change: Change
    """The one that was taken back."""
    holding: str
    files: int
    """Files placed or taken out."""
    left: tuple[str, ...] = ()
    """Paths of files that were changed since and stay."""


def history(surroundings: Surroundings, most: int | None = None) -> list[Change]:
    """The changes that were done, newest first."""
    with surroundings.reading() as ledger:
        return changes_done(ledger, most) if ledger else []


def undo(surroundings: Surroundings, access: Access, archive: Path | None = None) -> Undone:
    """Take the last change back; `archive` is where the one that is needed is now, if not where it was.

    Raises WrongUsage where there is nothing to undo, MachineError where what is needed is missing.
    """
    with surroundings.writing("undo") as edges:
        # A repair brings back what was there anyway: there is nothing of it to undo.
        done = (one for one in changes_done(edges.ledger) if one.kind is not ChangeKind.REPAIR)
        change = next(done, None)
        if change is None:
            raise WrongUsage("Nothing has been changed yet.", remedy="`usufruct add` places an archive.")
        brought, taken = holdings_of_change(edges.ledger, change.number)
        applications = known_applications(surroundings)
        held = [one for one in (brought, taken) if one] or [_removed_from(edges, change)]
        for one in held:
            refuse_away(edges.ledger, edges.platform.identity_of_volume, one)
        concerned = held[0].application
        match change.kind:
            case ChangeKind.ADD if brought:
                undone = _take_out(edges, change, brought)
            case ChangeKind.REMOVE:
                undone = _lay_back(edges, change, taken, applications, access, archive)
            case ChangeKind.UPDATE if brought and taken:
                undone = _put_before(edges, change, brought, taken, applications, access, archive)
            case _:
                raise WrongUsage(
                    f"The last change, {change.kind} of {change.about}, cannot be undone.",
                    remedy="`usufruct history` lists the changes.",
                )
        application = next((one for one in applications if one.name == concerned), None)
        if application:
            run_after(surroundings, application)
        return undone


def _take_out(edges: Edges, change: Change, holding: Holding) -> Undone:
    removed = remove_holding(edges, holding, is_undo=True)
    return Undone(change, holding.name, removed.taken, removed.left)


def _removed_from(edges: Edges, change: Change) -> Holding:
    """The holding that a removal took something of, but not all."""
    past = past_layers(edges.ledger, change.number)
    number = past[0].layer.holding if past else None
    holding = holding_numbered(edges.ledger, number) if number is not None else None
    if holding is None:
        raise WrongUsage(
            f"The last change, {change.kind} of {change.about}, left nothing that could be put back.",
            remedy="`usufruct history` lists the changes.",
        )
    return holding


def _lay_back(
    edges: Edges,
    change: Change,
    taken: Holding | None,
    applications: list[Application],
    access: Access,
    archive: Path | None,
) -> Undone:
    holding = taken or _removed_from(edges, change)
    past = past_layers(edges.ledger, change.number)
    with source_of(edges.ledger, holding, applications, access, archive) as (source, rows):
        source.unlock()
        pairs = [(one, row_for(one.layer, rows, holding)) for one in past]
        files = lay_back(edges, holding, pairs, source, was_partial=taken is None)
    return Undone(change, holding.name, files)


def _put_before(
    edges: Edges,
    change: Change,
    brought: Holding,
    taken: Holding,
    applications: list[Application],
    access: Access,
    archive: Path | None,
) -> Undone:
    """Undo an update: the holding before it takes the place of the one that came."""
    past = past_layers(edges.ledger, change.number)
    with source_of(edges.ledger, taken, applications, access, archive) as (source, rows):
        source.unlock()
        pairs = [(one, row_for(one.layer, rows, taken)) for one in past]
        files, left = put_before(edges, brought, taken, pairs, source)
    return Undone(change, taken.name, files, left)
