"""Check whether placed files are still there, and whether the backups are sound."""

from collections.abc import Iterator, Sequence

from msgspec import Struct, field

from usufruct.actions.context import Context
from usufruct.actions.listing import find_holdings
from usufruct.errors import DriveAway
from usufruct.files.looking import digest_of
from usufruct.ledger import Ledger
from usufruct.ledger.layers import needed_backups
from usufruct.model.holdings import Holding
from usufruct.model.records import FileKind
from usufruct.survey.condition import Condition, condition_of, untouched_of
from usufruct.survey.drives import Presence, presences, refuse_away


class Checked(Struct):
    """The condition of one holding."""

    holding: Holding
    fine: int = 0
    found: dict[Condition, list[str]] = field(default_factory=dict)
    """Paths of files that are not fine, by condition."""
    away: DriveAway | None = None
    """What is to be told of its drive, if that is away: nothing was compared then."""

    @property
    def is_fine(self) -> bool:
        """Every file is as it was placed, or covered by another holding's, as far as its drive is there."""
        return not self.found


def check_holdings(context: Context, names: Sequence[str], *, deep: bool) -> Iterator[Checked]:
    """Compare each of these holdings, or all, with the disk; nothing is changed."""
    with context.reading() as ledger:
        holdings = find_holdings(ledger, names)
        away = presences(ledger, context.identity_of_drive) if ledger else {}
        for holding in dict.fromkeys(holdings):
            assert ledger, "a holding was found in it"
            try:
                if away.get(holding.number) is Presence.AWAY:
                    refuse_away(ledger, context.identity_of_drive, holding)
            except DriveAway as error:
                yield Checked(holding, away=error)
            else:
                yield _checked(ledger, holding, deep=deep)


def _checked(ledger: Ledger, holding: Holding, *, deep: bool) -> Checked:
    fine, examined = (
        (0, condition_of(ledger, holding.number, deep=True)) if deep else untouched_of(ledger, holding.number)
    )
    result = Checked(holding, fine)
    for one in examined:
        match one.condition:
            case Condition.FINE:
                result.fine += one.layer.state.kind is not FileKind.DIRECTORY
            case Condition.COVERED:
                continue
            case _:
                result.found.setdefault(one.condition, []).append(one.path)
    return result


class StoreCheck(Struct, frozen=True):
    """The condition of the backups."""

    kept: int
    size: int
    """Bytes of all that is kept."""
    missing: tuple[str, ...]
    """Digests that layers need and the store has not."""
    damaged: tuple[str, ...]
    """Digests whose content is another now."""
    unneeded: tuple[str, ...]
    """Digests that no layer on record needs: kept all the same, for nobody knows why they are there."""
    aside: tuple[str, ...] = ()
    """Paths of damaged content that made room for its like and is kept."""

    @property
    def is_fine(self) -> bool:
        """Everything needed is there, and is what it should be."""
        return not self.missing and not self.damaged


def check_store(context: Context) -> StoreCheck:
    """Read every backup and compare it with its digest; nothing is changed."""
    # Imported here: comparing files with the ledger needs no writing code.
    from usufruct.backups import Backups

    backups = Backups(context.paths.backups, context.system())
    with context.reading() as ledger:
        needed = needed_backups(ledger) if ledger else set()
    kept = {digest: backups.size_of(digest) for digest in backups.digests()}
    damaged = tuple(d.hex() for d in sorted(kept) if d in needed and digest_of(backups.path_of(d)) != d)
    return StoreCheck(
        len(kept),
        sum(kept.values()),
        tuple(digest.hex() for digest in sorted(needed - kept.keys())),
        damaged,
        tuple(digest.hex() for digest in sorted(kept.keys() - needed)),
        tuple(backups.set_aside()),
    )
