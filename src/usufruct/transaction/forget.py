"""Forgetting a holding: its record is dropped, and its files stay as the user's."""

from typing import NamedTuple

from usufruct.ledger import Ledger
from usufruct.ledger.directories import enter_directories
from usufruct.ledger.holdings import mark_gone
from usufruct.ledger.layers import NewLayer, enter_layers, mark_layers_gone
from usufruct.model.changes import ChangeKind
from usufruct.model.holdings import Holding
from usufruct.model.records import FileKind, Layer
from usufruct.survey.holdings import Destination, destinations_of
from usufruct.transaction.finish import finish, refuse_waiting
from usufruct.transaction.recover import change_under_way
from usufruct.transaction.work import Resources, chain_to_make


def replaced_by(ledger: Ledger, holding: int) -> list[tuple[str, bytes]]:
    """Return what only this holding's record keeps: path and digest of the user's files underneath it."""
    found = []
    for destination in destinations_of(ledger, holding):
        if not _is_alone(destination, holding):
            continue
        for layer in destination.stack:
            if layer.holding is None and layer.is_backed:
                found.append((destination.file, layer.state.digest))
    return found


def _is_alone(destination: Destination, holding: int) -> bool:
    """Whether no other holding has a layer at the destination."""
    return all(layer.holding in (None, holding) for layer in destination.stack)


class Left(NamedTuple):
    """What stays on disk when a holding is forgotten."""

    files: int
    over_others: list[str]
    """Paths of files that lie over one of another holding: they count as that one, changed by the user."""


def forget_holding(resources: Resources, holding: Holding) -> Left:
    """Drop a holding's record. Nothing on disk is touched."""
    over_others = []
    destinations = list(destinations_of(resources.ledger, holding.number))
    with change_under_way(resources, ChangeKind.FORGET, holding.name) as work:
        ledger = resources.ledger
        with ledger.transaction():
            for path in dict.fromkeys(destination.path for destination in destinations):
                enter_directories(ledger, work.change, chain_to_make(work, path))
            for destination in destinations:
                index = destination.index_of(holding.number)
                mine = destination.stack[index]
                is_top = index == len(destination.stack) - 1
                mark_layers_gone(ledger, work.change, [(*destination.key, mine.level)])
                if is_top and not _is_alone(destination, holding.number):
                    # Without it, `finish` would take the layer below for the file on disk, and drop its backup.
                    own = NewLayer(*destination.key, _as_users(mine))
                    enter_layers(ledger, work.change, [own])
                    over_others.append(destination.file)
            mark_gone(ledger, work.change, holding.number)
            refuse_waiting(work)
        # No file is moved, so there is nothing to move back: all files stay.
        finish(work, touches_disk=False)
    is_file = [destination.disk.kind not in (FileKind.ABSENT, FileKind.DIRECTORY) for destination in destinations]
    return Left(sum(is_file), over_others)


def _as_users(layer: Layer) -> Layer:
    return layer._replace(holding=None, entry="")
