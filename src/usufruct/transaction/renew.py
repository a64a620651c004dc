"""Renew a layer at its level in a stack, and hand layers over from one holding to another."""

import os
import stat
from collections.abc import Iterable

from usufruct.ledger.directories import enter_directories, enter_holding_directories
from usufruct.ledger.layers import NewLayer, enter_layers, mark_layers_gone
from usufruct.model.plan import Leave
from usufruct.model.records import FileState
from usufruct.planning.stacks import Laid, Renewal, renewal
from usufruct.survey.holdings import Destination
from usufruct.transaction.work import Work, chain_to_make


def enter_renewal(
    work: Work, destination: Destination, level: int, holding: int, state: FileState, entry: str
) -> Renewal:
    """Record new, staged content at the level of a layer that is removed.

    `destination.disk` and `state` carry their digests. Content that is not switched in does not stay staged.
    """
    resources, change = work.resources, work.change
    directory, name = destination.directory, destination.name
    renewed = renewal(destination.stack, level, destination.disk, holding, state, entry)
    staged = f"{work.staging_of(destination.path).incoming(destination.path)}/{name}"
    mark_layers_gone(resources.ledger, change, [(directory, name, level)])
    if renewed.documented:
        enter_layers(resources.ledger, change, [NewLayer(directory, name, renewed.documented)], gone=True)
    if renewed.layer.is_backed and not renewed.is_same:
        resources.backups.keep(staged, renewed.layer.state, about=f"{destination.path}/{name}")
    if renewed.is_same or not renewed.is_on_top:
        drop_staged(work, staged)
    enter_layers(resources.ledger, change, [NewLayer(directory, name, renewed.layer)])
    return renewed


def hand_over(work: Work, leaves: Iterable[tuple[Destination, Leave]], former: int, holding: int) -> None:
    """Give one holding the layers of another that the user changed; the layers themselves stay unchanged."""
    ledger, change = work.resources.ledger, work.change
    for destination, _ in leaves:
        enter_directories(ledger, change, chain_to_make(work, destination.path))
        mine = destination.layer_of(former)
        mark_layers_gone(ledger, change, [(*destination.key, mine.level)])
        enter_layers(ledger, change, [NewLayer(*destination.key, mine._replace(holding=holding))])
        enter_holding_directories(ledger, holding, [destination.directory])


def claim_shared(work: Work, directory: int, name: str, laid: Laid) -> None:
    """Record a file of the user's as part of the holding. The user's own layer only says what was there before."""
    ledger, change = work.resources.ledger, work.change
    own, mine = laid.layers
    enter_layers(ledger, change, [NewLayer(directory, name, own._replace(is_backed=False))], gone=True)
    enter_layers(ledger, change, [NewLayer(directory, name, mine)])


def drop_staged(work: Work, path: str) -> None:
    """Remove one thing from a staging directory."""
    if stat.S_ISDIR(os.lstat(path).st_mode):
        os.rmdir(path)
    else:
        work.resources.platform.unlink(path)
