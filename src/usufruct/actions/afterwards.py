"""Move archives away once their content is placed, and find out where they are."""

import os
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct

from usufruct.actions.context import Context
from usufruct.actions.listing import find_holdings
from usufruct.actions.volumes import is_still
from usufruct.errors import MachineError
from usufruct.files.moving import are_one_name, place_twice
from usufruct.files.paths import expanded
from usufruct.files.trash import to_trash
from usufruct.ledger.holdings import all_holdings, move_volume, trash_volume, trashed_volumes, volumes_of
from usufruct.model.holdings import Holding, Volume
from usufruct.model.settings import STORE, TRASH
from usufruct.planning.names import free_name, spelling_key, tidy_name
from usufruct.survey.condition import Condition, condition_of
from usufruct.survey.drives import archive_away, enter_archive_drives
from usufruct.transaction.work import Resources

_HEADERS = 16 << 10
"""Bytes of a small archive that are no content."""


class PutAway(Struct, frozen=True):
    """What happened to an archive."""

    how: str
    """`keep`, `trash` or `store`."""
    paths: tuple[str, ...] = ()
    """Where its files are now, as far as they are anywhere."""
    fault: str = ""
    """Why it stayed where it was, if it did."""


def store_of(context: Context) -> Path:
    """The directory that archives are stored in."""
    named = context.settings().store
    return expanded(named).absolute() if named else context.paths.data / "archives"


def put_away(context: Context, resources: Resources, holding: str, how: str) -> PutAway:
    """Move all files of a holding's archives to the trash or the store; if that fails, they stay, and it is told."""
    number = next(one.number for one in all_holdings(resources.ledger) if one.name == holding)
    volumes = volumes_of(resources.ledger, number)
    if any(os.path.isdir(volume.path) for volume in volumes):
        return PutAway(how, fault="The folder stays where it was: only archives are stored or go to the trash")
    try:
        if how == TRASH:
            return PutAway(how, tuple(filter(None, (_trash(context, resources, volume) for volume in volumes))))
        if how == STORE:
            return PutAway(how, _store(context, resources, volumes))
    except (OSError, MachineError) as error:
        said = error.message if isinstance(error, MachineError) else f"{error.strerror or error}"
        return PutAway(how, fault=f"The archive stays where it was: {said}")
    return PutAway(how)


def _trash(context: Context, resources: Resources, volume: Volume) -> str:
    where = to_trash(volume.path, context.paths.saved, resources.platform)
    with resources.ledger.transaction():
        if where:
            move_volume(resources.ledger, volume.path, where)
        else:
            trash_volume(resources.ledger, volume.path)
    return where


def _store(context: Context, resources: Resources, volumes: list[Volume]) -> tuple[str, ...]:
    """Store all files of a set together: first all are copied, then that is recorded, then the old ones are removed."""
    store = directory = store_of(context)
    outside = [volume for volume in volumes if store not in Path(volume.path).parents]
    if len(outside) > 1:
        # The parts of a set are found by name, so they must not meet the parts of others.
        taken = {spelling_key(name) for name in os.listdir(store)} if store.is_dir() else set()
        name = tidy_name(os.path.basename(outside[0].path))
        directory = store / (free_name(name, taken) if spelling_key(name) in taken else name)
    moved = [
        (volume.path, place_twice(volume.path, directory, volume.digest, resources.platform)) for volume in outside
    ]
    with resources.ledger.transaction():
        for old, new in moved:
            move_volume(resources.ledger, old, new)
        enter_archive_drives(resources.ledger, resources.platform.identity_of_drive, (new for _, new in moved))
    for old, new in moved:
        # The store may be the archive's own folder, by another spelling of its path.
        if not are_one_name(old, new):
            resources.platform.unlink(old)
    return tuple(new for _, new in moved)


class Kept(Struct, frozen=True):
    """One recorded file of an archive."""

    path: str
    size: int
    holdings: tuple[str, ...]
    state: str
    """`stored`, `there` (where it was added from), `trash`, `changed`, `missing`, `away` with its drive; `unneeded` in
    the store.
    """


def kept_archives(context: Context, words: Sequence[str] = ()) -> list[Kept]:
    """Return the archives of all holdings or of those that are named, with where they are.

    For all holdings, archives in the store that no holding needs are returned as well.
    """
    store = store_of(context)
    found: dict[str, tuple[Volume, list[str]]] = {}
    kept: list[Kept] = []
    with context.reading() as ledger:
        if ledger:
            trashed = trashed_volumes(ledger)
            for holding in find_holdings(ledger, words):
                for volume in volumes_of(ledger, holding.number):
                    found.setdefault(volume.path, (volume, []))[1].append(holding.name)
            for path, (volume, names) in sorted(found.items()):
                state = _state(path, volume, str(store), is_trashed=path in trashed)
                if state == "missing" and archive_away(ledger, context.identity_of_drive, path):
                    state = "away"
                kept.append(Kept(path, volume.size, tuple(names), state))
    unneeded = sorted(path for path in store.rglob("*") if path.is_file()) if store.is_dir() and not words else ()
    return kept + [Kept(str(path), path.stat().st_size, (), "unneeded") for path in unneeded if str(path) not in found]


def put_away_later(context: Context, words: Sequence[str], how: str, tell: Callable[[str, PutAway], None]) -> None:
    """Move the archives of these holdings to the trash or the store; `tell` is called with the name of each.

    Without words: those of all holdings that are unchanged and of which more than a small part was placed.
    """
    with context.writing(f"archives --{how}") as resources:
        for holding in find_holdings(resources.ledger, words):
            volumes = volumes_of(resources.ledger, holding.number)
            if not words:
                if not all(os.path.exists(volume.path) for volume in volumes):
                    continue
                if why := _why_not(resources, holding):
                    tell(holding.name, PutAway(how, fault=why))
                    continue
            tell(holding.name, put_away(context, resources, holding.name, how))


def _why_not(resources: Resources, holding: Holding) -> str:
    """Say why an archive should stay unless it is named; empty if there is no reason."""
    as_placed = (Condition.FINE, Condition.COVERED)
    if any(one.condition not in as_placed for one in condition_of(resources.ledger, holding.number, deep=False)):
        return "It stays: something of what was placed is changed or missing, and `repair` would need it"
    if 2 * holding.size + _HEADERS < holding.archive_size:
        return "It stays: most of it was not placed; name the holding to let it go all the same"
    return ""


def _state(path: str, volume: Volume, store: str, *, is_trashed: bool) -> str:
    try:
        if os.path.isdir(path):
            return "there" if is_still(volume) else "changed"
        size = os.stat(path).st_size
    except (OSError, MachineError):
        return "trash" if is_trashed else "missing"
    if size != volume.size:
        return "changed"
    return "stored" if path.startswith(store + os.sep) else "there"
