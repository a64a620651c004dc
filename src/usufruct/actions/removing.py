"""Taking holdings out again."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from usufruct.actions.applications import known_applications
from usufruct.actions.listing import find_holding
from usufruct.actions.refresh import run_after
from usufruct.actions.saving import save_changed
from usufruct.actions.surroundings import Surroundings
from usufruct.errors import DriveAway
from usufruct.model.holdings import Holding
from usufruct.survey.drives import refuse_away
from usufruct.transaction.forget import forget_holding, replaced_by
from usufruct.transaction.take_out import Removed, removal_of, remove_holding
from usufruct.transaction.work import Edges


@dataclass(frozen=True, slots=True)
class Removal:
    """What became of one holding."""

    holding: Holding
    removed: Removed
    after: str
    """What went wrong with the application's own command, if it did."""
    saved: tuple[str, ...] = ()
    """Paths of changed files of which a copy was saved."""
    kept: tuple[str, ...] = ()
    """Where copies were put that the trash could not take."""
    away: DriveAway | None = None
    """What is to be told of its drive, if that is away: nothing was done then."""


@dataclass(frozen=True, slots=True)
class Forgotten:
    """What became of the record of one holding."""

    holding: Holding
    files: int
    """Files that stay and are the user's now."""
    saved: tuple[str, ...]
    """Paths of files that it had replaced, of which a copy was saved."""
    kept: tuple[str, ...]
    """Where copies were put that the trash could not take."""


def remove_holdings(
    surroundings: Surroundings,
    names: Sequence[str],
    tell: Callable[[Removal], None],
    *,
    gives_back_changed: bool = False,
) -> list[Removal]:
    """Take these holdings out, one after the other; `tell` is called as each is finished.

    All names are looked up before anything is changed. With `gives_back_changed` files that the user changed go too,
    once they are saved to the trash. One of several whose drive is away is told and left; one alone raises DriveAway.
    """
    results = []
    with surroundings.writing(f"remove {' '.join(names)}") as edges:
        holdings = {holding.number: holding for holding in (find_holding(edges.ledger, name) for name in names)}
        for holding in holdings.values():
            try:
                refuse_away(edges.ledger, edges.platform.identity_of_volume, holding)
            except DriveAway as error:
                if len(holdings) == 1:
                    raise
                results.append(Removal(holding, Removed(0, (), ()), "", away=error))
                tell(results[-1])
                continue
            saved = _save(surroundings, edges, holding) if gives_back_changed else ((), ())
            removed = remove_holding(edges, holding, gives_back_changed=gives_back_changed)
            after = _refresh(surroundings, holding) if removed.taken else ""
            removal = Removal(holding, removed, after, *saved)
            results.append(removal)
            tell(removal)
    return results


def _save(surroundings: Surroundings, edges: Edges, holding: Holding) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Save what the user changed of a holding; gives the paths, and where copies are that the trash did not take."""
    files: list[tuple[str, str | None]] = []
    for place, _ in removal_of(edges.ledger, holding.number).leaves:
        path = f"{place.path}/{place.name}"
        index = next(number for number, layer in enumerate(place.stack) if layer.holding == holding.number)
        above = place.stack[index + 1 :]
        # Where another holding covers the changed file, its bytes lie in the backups.
        content = edges.backups.path_of(above[0].state.digest) if len(above) > 1 else None
        files.append((path, content))
    return tuple(path for path, _ in files), save_changed(surroundings, files)


def forget_holdings(surroundings: Surroundings, names: Sequence[str]) -> list[Forgotten]:
    """Drop the record of these holdings and leave their files; what they had replaced is saved first."""
    results = []
    with surroundings.writing(f"forget {' '.join(names)}") as edges:
        for holding in dict.fromkeys(find_holding(edges.ledger, name) for name in names):
            files = [
                (path, edges.backups.path_of(digest)) for path, digest in replaced_by(edges.ledger, holding.number)
            ]
            kept = save_changed(surroundings, files)
            count = forget_holding(edges, holding)
            results.append(Forgotten(holding, count, tuple(path for path, _ in files), kept))
    return results


def _refresh(surroundings: Surroundings, holding: Holding) -> str:
    # What was placed can be taken out even when its application's definition is broken or gone.
    application = next((one for one in known_applications(surroundings) if one.name == holding.application), None)
    return run_after(surroundings, application) if application else ""
