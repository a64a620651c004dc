"""Remove holdings."""

from collections.abc import Callable, Mapping, Sequence, Set
from functools import partial
from itertools import takewhile

from msgspec import Struct
from msgspec.structs import replace

from usufruct.actions.applications import application_of
from usufruct.actions.context import Context
from usufruct.actions.listing import find_holdings
from usufruct.actions.refresh import run_after
from usufruct.actions.request import with_taken_out
from usufruct.actions.saving import save_changed
from usufruct.backups import Backups
from usufruct.errors import DriveAway, WrongUsage
from usufruct.files.shells import quoted
from usufruct.ledger import Ledger
from usufruct.ledger.layers import names_of_holding
from usufruct.model.holdings import Holding
from usufruct.planning.patterns import Patterns
from usufruct.survey.drives import Presence, presences, refuse_away
from usufruct.survey.holdings import Destination
from usufruct.transaction.detach import Removal, Removed, removal_of, remove_holding, within
from usufruct.transaction.forget import forget_holding, replaced_by
from usufruct.transaction.together import Leaving, remove_together
from usufruct.transaction.work import Resources


class HoldingRemoved(Struct, frozen=True):
    """What happened to one holding."""

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


class Forgotten(Struct, frozen=True):
    """What happened to the record of one holding."""

    holding: Holding
    files: int
    """Files that stay and are the user's now."""
    over_others: list[str]
    """Paths of those that lie over a file of another holding."""
    saved: tuple[str, ...]
    """Paths of files that it had replaced, of which a copy was saved."""
    kept: tuple[str, ...]
    """Where copies were put that the trash could not take."""
    unbacked: tuple[str, ...]
    """Paths of files that it had replaced and of which the backup is missing, or damaged: that is saved as it is."""


def remove_holdings(
    context: Context,
    words: Sequence[str],
    tell: Callable[[HoldingRemoved], None],
    *,
    application: str | None = None,
    only: Sequence[str] = (),
    gives_back_changed: bool = False,
) -> list[HoldingRemoved]:
    """Remove the holdings that these words mean, one after the other; `tell` is called with each result.

    All are looked up before anything is changed. `only` are patterns of the files to remove, by entry, name or path.
    With `gives_back_changed`, files that the user changed are removed too, once they are saved to the trash. If the
    drive of one of several is not connected, it is told and left; for a single one DriveAway is raised.
    """
    results = []
    with context.writing(f"remove {' '.join(words)}") as resources:
        holdings = find_holdings(resources.ledger, words, application)
        parts = _meant(resources.ledger, holdings, only)
        waiting = [one for one in holdings if not only or one.number in parts]
        while waiting:
            holding = waiting[0]
            try:
                refuse_away(resources.ledger, resources.platform.identity_of_drive, holding)
            except DriveAway as error:
                if len(holdings) == 1:
                    raise
                done = [HoldingRemoved(holding, Removed(0, (), ()), "", away=error)]
            else:
                done = [] if only or gives_back_changed else _remove_several(context, resources, waiting)
                done = done or [_remove_one(context, resources, holding, parts.get(holding.number), gives_back_changed)]
            for removal in done:
                results.append(removal)
                tell(removal)
            del waiting[: len(done)]
    return results


def _remove_one(
    context: Context,
    resources: Resources,
    holding: Holding,
    part: Mapping[int, Set[str]] | None,
    gives_back_changed: bool,
) -> HoldingRemoved:
    saved = _save(context, resources, holding, part) if gives_back_changed else ((), ())
    entries = {
        (directory, name): entry
        for directory, _, name, entry in (names_of_holding(resources.ledger, holding.number) if part else ())
        if name in (part or {}).get(directory, ())
    }

    def without(left: Set[tuple[int, str]]) -> str:
        return with_taken_out(holding.choices, {entry for at, entry in entries.items() if at not in left})

    removed = remove_holding(
        resources,
        holding,
        only=part,
        gives_back_changed=gives_back_changed,
        choices_without=without if part else None,
    )
    return HoldingRemoved(holding, removed, _refresh(context, holding) if removed.taken else "", *saved)


def _remove_several(context: Context, resources: Resources, holdings: Sequence[Holding]) -> list[HoldingRemoved]:
    """Remove the first of these together, as many as possible; perhaps none."""
    removed = remove_together(resources, map(Leaving, takewhile(partial(_is_at_hand, resources), holdings)))
    done = [HoldingRemoved(holding, one, "") for holding, one in zip(holdings, removed, strict=False)]
    # The application's command runs once, after its last holding.
    last = {one.holding.application: number for number, one in enumerate(done) if one.removed.taken}
    for number in last.values():
        done[number] = replace(done[number], after=_refresh(context, done[number].holding))
    return done


def _is_at_hand(resources: Resources, holding: Holding) -> bool:
    try:
        refuse_away(resources.ledger, resources.platform.identity_of_drive, holding)
    except DriveAway:
        return False
    return True


def would_remove(
    context: Context,
    words: Sequence[str],
    *,
    application: str | None = None,
    only: Sequence[str] = (),
    gives_back_changed: bool = False,
) -> list[HoldingRemoved]:
    """Return what `remove_holdings` would do with the same options; nothing is changed."""
    results = []
    backups = Backups(context.paths.backups, context.system())
    earlier: dict[tuple[int, str], Destination] = {}
    with context.reading() as ledger:
        holdings = find_holdings(ledger, words, application)
        assert ledger or not holdings, "without a record there is no holding"
        parts = _meant(ledger, holdings, only) if ledger else {}
        away = presences(ledger, context.identity_of_drive) if ledger else {}
        for holding in holdings:
            if only and holding.number not in parts:
                continue
            if away.get(holding.number) is Presence.AWAY:
                error = DriveAway(f"The drive that {holding.name} is on is away.", remedy="Plug it in first.")
                results.append(HoldingRemoved(holding, Removed(0, (), ()), "", away=error))
                continue
            if ledger:
                part = parts.get(holding.number)
                planned = removal_of(
                    ledger, holding.number, within(part), gives_back_changed=gives_back_changed, earlier=earlier
                )
                planned = planned.leaving(_unsound(planned, backups))
                saved = _changed_in(ledger, holding, part) if gives_back_changed else []
                earlier |= {destination.key: destination for destination in planned.afterwards()}
                rest = holding.files - planned.files - len(planned.leaves) if only else 0
                removed = replace(planned.told(), rest=rest)
                results.append(HoldingRemoved(holding, removed, "", tuple(path for path, _ in saved)))
    return results


def _unsound(planned: Removal, backups: Backups) -> set[tuple[int, str]]:
    """Return the destinations whose earlier file is missing from the backups or damaged there."""
    return {
        destination.key
        for destination, step in planned.back
        if step.gives_back and (digest := step.gives_back.state.digest) and not backups.is_sound(digest)
    }


def _meant(ledger: Ledger, holdings: Sequence[Holding], only: Sequence[str]) -> dict[int, dict[int, set[str]]]:
    """Return the names that patterns mean, by holding and directory. Raises WrongUsage if a pattern means nothing."""
    parts: dict[int, dict[int, set[str]]] = {}
    patterns, used = Patterns(only), set[str]()
    for holding in holdings if only else ():
        for directory, path, name, entry in names_of_holding(ledger, holding.number):
            below = f"{path}/{name}".removeprefix(f"{holding.root}/")
            if hit := patterns.match(entry) or patterns.match(below):
                used.add(hit)
                parts.setdefault(holding.number, {}).setdefault(directory, set()).add(name)
    if unused := [pattern for pattern in only if pattern not in used]:
        raise WrongUsage(
            f"{unused[0]} matches nothing that {' or '.join(one.name for one in holdings[:3])} placed.",
            remedy=f"`usufruct show {quoted(holdings[0].name)}` lists its files.",
        )
    return parts


def _save(
    context: Context, resources: Resources, holding: Holding, only: Mapping[int, Set[str]] | None
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Save what the user changed in a holding; return the paths, and where copies are that the trash did not take."""
    files = [
        (path, resources.backups.path_of(digest) if digest else None)
        for path, digest in _changed_in(resources.ledger, holding, only)
    ]
    return tuple(path for path, _ in files), save_changed(context, files)


def _changed_in(
    ledger: Ledger, holding: Holding, only: Mapping[int, Set[str]] | None
) -> list[tuple[str, bytes | None]]:
    """Return paths that the user changed in a holding, each with its backup's digest if another holding covers it."""
    changed: list[tuple[str, bytes | None]] = []
    for destination, _ in removal_of(ledger, holding.number, within(only)).leaves:
        index = destination.index_of(holding.number)
        above = destination.stack[index + 1 :]
        changed.append((destination.file, above[0].state.digest if len(above) > 1 else None))
    return changed


def forget_holdings(context: Context, words: Sequence[str], application: str | None = None) -> list[Forgotten]:
    """Drop the record of these holdings and leave their files; what they had replaced is saved first."""
    results = []
    with context.writing(f"forget {' '.join(words)}") as resources:
        for holding in find_holdings(resources.ledger, words, application):
            backups, replaced = resources.backups, replaced_by(resources.ledger, holding.number)
            files = [(path, backups.path_of(digest)) for path, digest in replaced if backups.holds(digest)]
            unbacked = tuple(path for path, digest in replaced if not backups.is_sound(digest))
            kept = save_changed(context, files)
            left = forget_holding(resources, holding)
            results.append(Forgotten(holding, *left, tuple(path for path, _ in files), kept, unbacked))
    return results


def _refresh(context: Context, holding: Holding) -> str:
    # A holding can be removed even if its application's definition is broken or gone.
    application = application_of(context, holding.application)
    return run_after(context, application) if application else ""
