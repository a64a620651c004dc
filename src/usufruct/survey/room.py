"""Check before anything is done that a plan can be carried out: permissions, space, sizes."""

import os
import shutil
from collections.abc import Callable

from usufruct.errors import MachineError
from usufruct.files.file_systems import FileSystem
from usufruct.files.mounts import is_read_only
from usufruct.files.paths import nearest
from usufruct.files.refused import read_only
from usufruct.files.reserve import spare_on
from usufruct.model.plan import Plan
from usufruct.model.records import TOO_LATE


def check_room(plan: Plan, file_system: Callable[[str], FileSystem], backups: str) -> None:
    """Raise MachineError if the change would fail: for permissions, space, or files too large for the file system."""
    listing = plan.layout.listing
    for row, found in plan.snapshot.found.others():
        _refuse_late(f"{plan.snapshot.surveyed(plan.layout.home_of[row]).path}/{found.name}", found.state.modified)
    wanted: dict[int, int] = {}
    """Device → bytes."""
    paths: dict[int, str] = {}
    store = _device(backups)
    bounds: dict[str, int | None] = {}
    """Nearest directory that is there → bytes of the largest file that its file system can hold."""
    for number, rows in enumerate(plan.rows_by_home()):
        if not rows:
            continue
        path = plan.snapshot.surveyed(number).path
        there = nearest(path)
        if there not in bounds:
            if not os.access(there, os.W_OK | os.X_OK):
                if is_read_only(there):
                    raise read_only(there)
                raise MachineError(
                    f"{there} may not be written.",
                    remedy="Check its permissions, then try again.",
                    path=there,
                )
            _refuse_late(there, os.stat(there).st_mtime_ns)
            bounds[there] = file_system(there).largest
        size, largest = max((listing.sizes[row], row) for row in rows)
        bound = bounds[there]
        if bound is not None and size > bound:
            raise MachineError(
                f"{listing.path(largest)} has {size:,} bytes, more than one file can have on the drive of {path}.",
                remedy="Leave it out with --skip, or use a drive that is not FAT.",
                path=path,
            )
        device = os.stat(there).st_dev
        holes = sum(listing.holes.get(row, 0) for row in rows) if listing.holes and file_system(there).has_holes else 0
        wanted[device] = wanted.get(device, 0) + sum(map(listing.sizes.__getitem__, rows)) - holes
        paths.setdefault(device, path)
        if device != store and (replaced := sum(map(plan.size_replaced, rows))):
            wanted[store] = wanted.get(store, 0) + replaced
            paths.setdefault(store, backups)
    _demand(wanted, paths)


def _refuse_late(path: str, modified: int) -> None:
    if modified >= TOO_LATE:
        raise MachineError(
            f"{path} has a time after the year 2262, which cannot be recorded or restored.",
            remedy="Set its time to now, for example with `touch`.",
            path=path,
        )


def _demand(wanted: dict[int, int], paths: dict[int, str]) -> None:
    for device, size in wanted.items():
        free, spare = shutil.disk_usage(nearest(paths[device])).free, spare_on(paths[device])
        if size + spare > free:
            raise MachineError(
                f"There is not enough room on the drive of {paths[device]}:"
                f" {free:,} bytes are free, and {size:,} are needed."
                + f" Another {spare:,} must stay free for the record and for other programs."
                * bool(spare),
                remedy="Make room there, or place less with --only and --skip.",
                path=paths[device],
            )


def _device(path: str) -> int:
    return os.stat(nearest(path)).st_dev
