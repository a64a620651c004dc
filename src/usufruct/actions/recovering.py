"""Help after something went wrong: interrupted changes, drives with another path, backups without a record."""

import os
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from usufruct.actions.applications import known_applications
from usufruct.actions.context import Context, ignore_lost
from usufruct.errors import MachineError
from usufruct.files.copying import copy_whole
from usufruct.files.directories import reached
from usufruct.files.noted import newest_change
from usufruct.files.paths import expanded, is_below, real_path
from usufruct.files.saved import free_path
from usufruct.ledger import Ledger
from usufruct.ledger.changes import last_change
from usufruct.ledger.layers import needed_backups
from usufruct.ledger.moving import cut_off_above, is_destination, move_record
from usufruct.model.applications import Application
from usufruct.model.settings import PATHS
from usufruct.survey.drives import drives_of
from usufruct.survey.moved import looked_for
from usufruct.survey.own import refuse_own_folder
from usufruct.transaction.recover import Recovered


def put_right(context: Context) -> Recovered:
    """Reverse every interrupted change, if that is possible now. Every writing command does this first."""
    found = Recovered()

    def keep(recovered: Recovered) -> None:
        nonlocal found
        found = recovered
        context.on_recovery(recovered)

    with replace(context, on_recovery=keep).writing("recover"):
        pass
    return found


def copy_out_backups(context: Context, folder: Path) -> list[str]:
    """Copy the backups that no recorded layer needs into a new folder; return the paths of the copies.

    Each is put below the folder as it was on the disk, if that is known. The store keeps its own. The copy of a damaged
    one says so in its name. After this, it is no longer told that the record does not know them.
    """
    copied = []
    top = expanded(folder).absolute()
    with replace(context, on_lost=ignore_lost).writing(f"recover --backups {folder}") as resources:
        backups, ledger = resources.backups, resources.ledger
        needed, paths = needed_backups(ledger), backups.origins.paths()
        for digest in sorted(set(backups.digests()) - needed):
            path = os.path.normpath(os.path.join("/", paths.get(digest, digest.hex()[:16])))
            stem, suffix = os.path.splitext(os.path.basename(path))
            name = stem + suffix if backups.is_sound(digest) else f"{stem}-damaged{suffix}"
            above = top / os.path.relpath(os.path.dirname(path), Path(path).anchor)
            target = free_path(name, above, resources.platform)
            copy_whole(backups.path_of(digest), target, resources.platform)
            copied.append(target)
        is_older = newest_change(backups.top, ledger.identity) > last_change(ledger)
        backups.origins.settle(is_older=is_older)
    return copied


class Moved(Struct, frozen=True):
    """What is recorded in another place now."""

    holdings: int
    archives: int
    missing: tuple[str, ...]
    """Files that should be there by the record and are not: absolute paths in the new place."""
    changed: tuple[str, ...]
    """Files there that are not what the record says."""
    applications: tuple[str, ...]
    """Names of definitions that still name the old place."""
    settings: tuple[tuple[str, str], ...]
    """Settings that still name it, each with the value that would name the new one."""


def say_moved(context: Context, old: str, new: str) -> Moved:
    """Record that everything in one folder, destinations and archives, is in another now.

    Only the record changes, and only if at least one of the recorded things is in the new folder. Raises MachineError
    otherwise, also if the new folder does not exist or nothing was recorded in the old one.
    """
    after = real_path(os.path.expanduser(new))
    if not os.path.isdir(after):
        raise MachineError(
            f"There is no folder {new}.", remedy="Connect its drive, or name the folder as it is now.", path=new
        )
    with context.writing(f"recover --moved {old} {new}", recovers=False) as resources:
        ledger = resources.ledger
        before = _as_recorded(ledger, os.path.expanduser(old))
        if is_destination(ledger, before):
            refuse_own_folder(after, context.paths.own())
        _refuse_cut_off(ledger, before, after)
        found = looked_for(ledger, before, after)
        drives = drives_of(ledger, resources.platform.identity_of_drive)
        with reached(after, resources.platform), ledger.transaction():
            count, is_known = move_record(ledger, before, after, drives.held(after))
        if not is_known:
            raise MachineError(
                f"No recorded file is in {before}.",
                remedy="`usufruct list` and `usufruct show` say where files are.",
                path=str(Path(before)),
            )
    applications = [one.name for one in known_applications(context) if _names(one, before)]
    settings = [(key, value) for key, value in _moved_settings(context, before, after)]
    return Moved(
        holdings=count,
        archives=found.archives,
        missing=found.missing,
        changed=found.changed,
        applications=tuple(applications),
        settings=tuple(settings),
    )


def _as_recorded(ledger: Ledger, old: str) -> str:
    """Return the recorded absolute path of a directory that is gone or leads elsewhere now."""
    here = os.path.abspath(old).replace(os.sep, "/")
    real = real_path(old)
    return real if is_destination(ledger, real) and not is_destination(ledger, here) else here


def _refuse_cut_off(ledger: Ledger, before: str, after: str) -> None:
    """Raise if a change was interrupted: it must be reversed where it began, for its files are there."""
    if about := cut_off_above(ledger, before):
        raise MachineError(
            f"A change of {about} was interrupted while {before} was there, and can only be undone there.",
            kept="The record is as it was.",
            remedy=f"Move the folder back to {before} and run `usufruct recover`. Once that is done, move it to {after}"
            " again and run this command again.",
            path=before,
        )


def _names(application: Application, directory: str) -> bool:
    """Whether a definition of the user's has its root or a folder in an absolute directory."""
    if application.is_shipped:
        return False
    outside = (folder.path for folder in application.folders if folder.is_elsewhere)
    return any(is_below(real_path(os.path.expanduser(path)), directory) for path in (application.root, *outside))


def _moved_settings(context: Context, before: str, after: str) -> Iterator[tuple[str, str]]:
    for key in sorted(PATHS):
        value = getattr(context.settings(), key)
        parts = [os.path.abspath(os.path.expanduser(part)) for part in value.split(os.pathsep) if part]
        moved = [after + part[len(before) :] if is_below(part, before) else part for part in parts]
        if moved != parts:
            yield key, os.pathsep.join(moved)
