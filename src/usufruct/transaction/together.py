"""Remove several small holdings as one change, so that the disk is waited for once and not once for each."""

from collections.abc import Iterable, Sequence

from msgspec import Struct

from usufruct.errors import Interrupted, UnsoundBackup, UsufructError
from usufruct.ledger.holdings import is_there, mark_gone
from usufruct.model.changes import ChangeKind
from usufruct.model.holdings import Holding
from usufruct.transaction.detach import Removal, Removed, enter_removal, removal_of
from usufruct.transaction.finish import execute, seal_intent
from usufruct.transaction.recover import change_under_way
from usufruct.transaction.work import Resources

_MOST_FILES = 5000
"""Files of one change of several: with more, waiting for the disk is little beside the rest."""
_NAMED = 3


class Leaving(Struct, frozen=True):
    """A holding to be removed completely, and the change that this undoes or redoes, if there is one."""

    holding: Holding
    root: int = 0


def remove_together(resources: Resources, leaving: Iterable[Leaving]) -> list[Removed]:
    """Remove as many of these as possible as one change, in their order; return the result of each.

    Returns none if the first can only be removed by itself: because files of it stay, or it lies above or below the
    next one, or something failed. Then everything is as it was. The history gets a change for each.
    """
    together = _together(resources, leaving)
    if len(together) < 2:
        return []
    try:
        return _removed(resources, together)
    except Interrupted:
        raise
    except UsufructError:
        if not is_there(resources.ledger, together[0][0].holding.number):
            # All of them are removed; the failure came later.
            raise
        # Removing each by itself will report which one it was.
        return []


def _together(resources: Resources, leaving: Iterable[Leaving]) -> list[tuple[Leaving, Removal]]:
    """Return the first holdings, and what removing them does, up to one that shares files with them or leaves files."""
    together: list[tuple[Leaving, Removal]] = []
    numbers: set[int] = set()
    files = 0
    for one in leaving:
        number, files = one.holding.number, files + one.holding.files
        if files > _MOST_FILES:
            break
        removal = removal_of(resources.ledger, number)
        owners = {layer.holding for destination, _ in removal.takes for layer in destination.stack}
        if removal.leaves or owners & numbers:
            break
        together.append((one, removal))
        numbers.add(number)
    return together


def _removed(resources: Resources, together: Sequence[tuple[Leaving, Removal]]) -> list[Removed]:
    ledger = resources.ledger
    names = [one.holding.name for one, _ in together]
    about = ", ".join(names[:_NAMED]) + (f" and {len(names) - _NAMED} more" if len(names) > _NAMED else "")
    with change_under_way(resources, ChangeKind.REMOVE, about) as work:
        going = (destination for one, removal in together for destination in removal.destinations(ledger, one.holding))
        work.stage_for(going, (names for _, removal in together for names in removal.names()))
        with ledger.transaction():
            for one, removal in together:
                if enter_removal(work, removal).leaves:
                    raise UnsoundBackup(f"A backup under {one.holding.name} is missing or damaged.", remedy="")
                mark_gone(ledger, work.change, one.holding.number)
            work.several = [(one.holding.number, one.holding.name, one.root) for one, _ in together]
            seal_intent(work)
        execute(work)
    return [removal.told() for _, removal in together]
