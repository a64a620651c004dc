"""Restore missing and damaged files of a holding from its archive."""

from pathlib import Path

from msgspec import Struct

from usufruct.actions.applications import known_applications
from usufruct.actions.context import Context
from usufruct.actions.listing import find_holding
from usufruct.actions.refresh import run_after
from usufruct.actions.saving import save_changed
from usufruct.actions.sources import row_for, source_of
from usufruct.archives.reading import Access
from usufruct.model.holdings import Holding
from usufruct.survey.condition import Condition, condition_of
from usufruct.survey.drives import refuse_away
from usufruct.transaction.mend import repair_holding


class Repaired(Struct, frozen=True):
    """The result of a repair."""

    holding: Holding
    written: tuple[str, ...]
    """Paths of files that are as they were placed again."""
    left: tuple[str, ...]
    """Paths of files that somebody changed: they stay."""
    saved: tuple[str, ...]
    """Where changed files were put, if not into the trash."""


def repair(context: Context, name: str, access: Access, archive: Path | None, *, gives_back_changed: bool) -> Repaired:
    """Write missing and damaged files. Changed ones stay unless they are to be restored; then they are saved first."""
    with context.writing(f"repair {name}") as resources:
        holding = find_holding(resources.ledger, name)
        refuse_away(resources.ledger, resources.platform.identity_of_drive, holding)
        found = list(condition_of(resources.ledger, holding.number, deep=True))
        changed = [one for one in found if one.condition in (Condition.CHANGED, Condition.REPLACED)]
        broken = [one for one in found if one.condition in (Condition.MISSING, Condition.DAMAGED)]
        saved: tuple[str, ...] = ()
        if gives_back_changed:
            again = [one for one in changed if one.condition is Condition.CHANGED]
            saved = save_changed(context, [(one.path, None) for one in again])
            broken, changed = [*broken, *again], [one for one in changed if one not in again]
        if broken:
            applications = known_applications(context)
            with source_of(resources, holding, applications, access, archive) as (source, rows):
                source.unlock()
                repair_holding(resources, holding, [(one, row_for(one.layer, rows, holding)) for one in broken], source)
            application = next((one for one in applications if one.name == holding.application), None)
            if application:
                run_after(context, application)
        return Repaired(holding, tuple(one.path for one in broken), tuple(one.path for one in changed), saved)
