"""Find out what takes space: placed files, backups, archives."""

import os

from msgspec import Struct

from usufruct.actions.afterwards import kept_archives
from usufruct.actions.context import Context
from usufruct.model.holdings import Holding


class Sizes(Struct, frozen=True):
    """What takes space, in bytes."""

    placed: tuple[tuple[str, int], ...]
    """Each holding with its files, the largest first."""
    backups: int
    stored: int
    """Archives in the store."""
    archives: int
    """Archives that are still where they were added from: room to win."""


def sizes_of(context: Context, holdings: list[Holding]) -> Sizes:
    """Return the space taken by these holdings, the backups, and the archives that they came from."""
    placed = sorted(((one.name, one.size) for one in holdings), key=lambda pair: -pair[1])
    meant = {one.name for one in holdings}
    taken = {"stored": 0, "there": 0, "changed": 0, "missing": 0, "trash": 0, "unneeded": 0}
    for archive in kept_archives(context):
        if not meant.isdisjoint(archive.holdings):
            taken[archive.state] += archive.size
    backups = 0
    for directory, _, names in os.walk(context.paths.backups):
        backups += sum(os.lstat(f"{directory}/{name}").st_size for name in names)
    return Sizes(tuple(placed), backups, taken["stored"], taken["there"])
