"""After something went wrong: a change that was cut off, a drive with another place, backups without a record."""

import os
from pathlib import Path

from msgspec.structs import replace

from usufruct.actions.context import Context
from usufruct.errors import MachineError
from usufruct.files.copying import copy_whole
from usufruct.files.directories import reached
from usufruct.files.paths import real_path
from usufruct.files.saved import free_path
from usufruct.ledger.layers import needed_backups
from usufruct.ledger.moving import move_record
from usufruct.survey.drives import drives_of
from usufruct.transaction.recover import Recovered


def put_right(context: Context) -> Recovered:
    """Reverse every change that was cut off, where that can be done now; every writing command does so first."""
    found = Recovered()

    def keep(recovered: Recovered) -> None:
        nonlocal found
        found = recovered
        context.on_recovery(recovered)

    with replace(context, on_recovery=keep).writing("recover"):
        pass
    return found


def copy_out_backups(context: Context, folder: Path) -> list[str]:
    """Copy the backups that no layer on record needs into a folder, which is made; gives the paths of the copies.

    The store keeps its own. One that is damaged is copied as it is, and its name says so.
    """
    copied = []
    with context.writing(f"recover --backups {folder}") as resources:
        needed = needed_backups(resources.ledger)
        for digest in sorted(set(resources.backups.digests()) - needed):
            damaged = "" if resources.backups.is_sound(digest) else "-damaged"
            target = free_path(f"{digest.hex()[:16]}{damaged}", folder.expanduser().absolute(), resources.platform)
            copy_whole(resources.backups.path_of(digest), target, resources.platform)
            copied.append(target)
    return copied


def say_moved(context: Context, old: str, new: str) -> int:
    """Record that what was in one folder is in another now; gives how many holdings lie there.

    Only the record changes. Raises MachineError where the new folder is not there or nothing was recorded in the old.
    """
    before = os.path.abspath(os.path.expanduser(old))
    after = real_path(os.path.expanduser(new))
    if not os.path.isdir(after):
        raise MachineError(
            f"There is no folder {new}.", remedy="Connect its drive, or name the folder as it is now.", path=new
        )
    with context.writing(f"recover --moved {old} {new}", recovers=False) as resources:
        drives = drives_of(resources.ledger, resources.platform.identity_of_volume)
        with reached(after, resources.platform), resources.ledger.transaction():
            count, is_known = move_record(resources.ledger, before, after, drives.held(after))
        if not is_known:
            raise MachineError(
                f"Nothing on record lies in {before}.",
                remedy="`usufruct list` and `usufruct show` say where things lie.",
                path=str(Path(before)),
            )
    return count
