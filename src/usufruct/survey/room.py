"""Whether the machine has room for a plan, and lets it be carried out, before anything is begun."""

import os
import shutil
from collections.abc import Callable

from usufruct.errors import MachineError
from usufruct.files.volumes import Volume
from usufruct.model.entries import EntryKind
from usufruct.model.plan import Plan, Renew, Replace
from usufruct.model.records import FileKind

_SPARE = 16 << 20
"""Bytes that a volume must keep free beside what is placed: the record, directories, other programs."""


def check_room(plan: Plan, volume: Callable[[str], Volume], backups: str) -> None:
    """Raise MachineError for what would make the change fail: permission, space, files that the volume cannot hold."""
    listing, snapshot = plan.layout.listing, plan.snapshot
    wanted: dict[int, int] = {}
    """Device → bytes."""
    places: dict[int, str] = {}
    for number in {step.home for step in plan.steps}:
        home = snapshot.homes[number]
        assert home is not None, "a home with placements was surveyed"
        there = nearest(home.path)
        if not os.access(there, os.W_OK | os.X_OK):
            raise MachineError(
                f"{there} may not be written.",
                remedy="Check its permissions and whether its drive is read-only.",
                path=there,
            )
    largest: dict[int, int | None] = {}
    devices: dict[int, int] = {}
    store = _device(backups)
    for step in plan.steps:
        home = snapshot.homes[step.home]
        assert home is not None, "a home with placements was surveyed"
        if step.home not in largest:
            devices[step.home] = _device(home.path)
            largest[step.home] = volume(home.path).largest
        size = listing.sizes[step.row] if listing.kinds[step.row] == EntryKind.FILE else 0
        bound = largest[step.home]
        if bound is not None and size > bound:
            raise MachineError(
                f"{listing.path(step.row)} has {size:,} bytes, more than one file can have on the volume of "
                f"{home.path}.",
                remedy="Leave it out with --skip, or use a volume that is not FAT.",
                path=home.path,
            )
        device = devices[step.home]
        wanted[device] = wanted.get(device, 0) + size
        places.setdefault(device, home.path)
        replaced = step.found.state if isinstance(step, Replace | Renew) else None
        if replaced and replaced.kind is FileKind.FILE and device != store:
            wanted[store] = wanted.get(store, 0) + replaced.size
            places.setdefault(store, backups)
    _demand(wanted, places)


def _demand(wanted: dict[int, int], places: dict[int, str]) -> None:
    for device, size in wanted.items():
        free = shutil.disk_usage(nearest(places[device])).free
        if size + _SPARE > free:
            raise MachineError(
                f"There is not enough room on the volume of {places[device]}: {size:,} bytes are needed, {free:,} are "
                "free.",
                remedy="Make room there, or place less with --only and --skip.",
                path=places[device],
            )


def _device(path: str) -> int:
    return os.stat(nearest(path)).st_dev


def nearest(path: str) -> str:
    """The path, or the nearest directory above it that is there."""
    while not os.path.exists(path):
        path = os.path.dirname(path)
    return path
