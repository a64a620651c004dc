"""Switching destinations from their state before a change to the state after, and back."""

import os
from collections.abc import Sequence

from usufruct.errors import PlanIsStale
from usufruct.files.looking import state_at, with_digest
from usufruct.files.staging import Staging, set_time
from usufruct.files.writing import restore_attributes, write_link
from usufruct.ledger.layers import (
    Difference,
    KnownDirectory,
    Stamp,
    backed_layers,
    differences,
    going_files,
    is_above_others,
    must_stay_on_record,
    stacks_in,
    touched_directories,
)
from usufruct.model.records import ABSENT, FileKind, FileState
from usufruct.survey.holdings import untouched
from usufruct.transaction.work import Work


def switch_in(work: Work) -> None:
    """Carry out the intent, directory by directory; raises PlanIsStale if the disk is not as the intent expects."""
    ledger, checkpoint = work.edges.ledger, work.edges.checkpoint
    switched_whole: set[str] = set()
    for directory, modified in touched_directories(ledger, work.change):
        path = directory.path
        if os.path.dirname(path) in switched_whole:
            switched_whole.add(path)
            continue
        if modified is None and not os.path.isdir(path):
            if work.is_staged(path):
                # Nothing of this name is there, so all below it can come at once.
                os.rename(work.staging_of(path).incoming(path), path)
                switched_whole.add(path)
                checkpoint("switched-directory")
                continue
            os.mkdir(path)
        going = going_files(ledger, work.change, directory.number)
        if going and _is_taken_whole(work, directory, going):
            checkpoint("switched-directory")
            continue
        gone = _set_out_plain(work, directory, going) if going else frozenset()
        staging = None
        for difference in differences(ledger, work.change, directory.number, gone):
            if not _before(difference).is_alike(_after(difference)):
                staging = staging or work.staging_of(path)
                _advance(work, staging, directory.number, path, difference)
            checkpoint("switched")


def _is_taken_whole(work: Work, directory: KnownDirectory, going: Sequence[Stamp]) -> bool:
    """Take a directory out in one rename, where Usufruct made it and nothing but files that go is in it.

    It is looked at once more where no other program finds it: somebody may have written to it just before.
    """
    path, ledger = directory.path, work.edges.ledger
    stays = must_stay_on_record(ledger, work.change, directory.number) or is_above_others(ledger, directory.number)
    if stays or not directory.is_made:
        return False
    names = {name for name, *_ in going}
    outgoing = work.staging_of(path).outgoing(directory.number)
    try:
        if os.path.islink(path) or set(os.listdir(path)) != names:
            return False
        os.rename(path, outgoing)
    except OSError:
        # A program holds it open, perhaps, or a drive is mounted there.
        return False
    if set(os.listdir(outgoing)) != names:
        raise _stale(path)
    for name in untouched(outgoing, going)[1]:
        (stack,) = stacks_in(ledger, directory.number, [name]).values()
        found = f"{outgoing}/{name}"
        if not with_digest(state_at(found), found).has_same_content(stack[0].state):
            raise _stale(f"{path}/{name}")
    return True


def _set_out_plain(work: Work, directory: KnownDirectory, going: Sequence[Stamp]) -> frozenset[str]:
    """Take those of these files out that are what they were; gives their names."""
    path, checkpoint = directory.path, work.edges.checkpoint
    outgoing = work.staging_of(path).outgoing(directory.number)
    os.makedirs(outgoing, exist_ok=True)
    same, _ = untouched(path, going)
    for name in same:
        os.rename(f"{path}/{name}", f"{outgoing}/{name}")
        checkpoint("set-out")
    return frozenset(same)


def _stale(path: str) -> PlanIsStale:
    return PlanIsStale(
        f"{path} was changed by another program in this moment.",
        kept="What had begun was reversed; the other program's change was kept.",
        remedy="Try again once the other program is done.",
        path=path,
    )


def _before(difference: Difference) -> FileState:
    return difference.before.state if difference.before else ABSENT


def _after(difference: Difference) -> FileState:
    return difference.after.state if difference.after else ABSENT


def _advance(work: Work, staging: Staging, number: int, directory: str, difference: Difference) -> None:
    """Bring one destination from before to after."""
    before, after = _before(difference), _after(difference)
    name = difference.name
    path = f"{directory}/{name}"
    disk = state_at(path)
    if not disk.is_same_file(before) and not with_digest(disk, path).has_same_content(before):
        raise _stale(path)
    is_kept = difference.is_covered and before.kind is FileKind.FILE
    if is_kept:
        work.edges.backups.keep(path, before.digest)
        work.edges.checkpoint("backed-up")
    elif before.kind in (FileKind.FILE, FileKind.LINK):
        _set_out(work, f"{staging.outgoing(number)}/{name}", path, is_replaced=after.kind is not FileKind.ABSENT)
    elif before.kind is FileKind.DIRECTORY:
        drop_directory(path)
    if after.kind is FileKind.DIRECTORY:
        os.mkdir(path)
    elif after.kind is not FileKind.ABSENT:
        os.replace(f"{staging.incoming(directory)}/{name}", path)


def _set_out(work: Work, outgoing: str, path: str, *, is_replaced: bool) -> None:
    """Let a file that goes keep a name in the staging directory until the change is done."""
    for is_ready in (False, True):
        try:
            # With a second name, the old file stays in place until the new one is renamed over it.
            if not (is_replaced and work.edges.platform.link(path, outgoing)):
                os.rename(path, outgoing)
            break
        except FileNotFoundError:
            if is_ready:
                raise
            os.makedirs(os.path.dirname(outgoing), exist_ok=True)
    work.edges.checkpoint("set-out")


def drop_directory(path: str) -> None:
    """Remove a directory if it is empty; one in which the user put something stays."""
    try:
        os.rmdir(path)
    except OSError:
        if not os.listdir(path):
            raise


def switch_back(work: Work) -> list[str]:
    """Undo whatever part of the intent has happened; gives the paths that somebody else changed, left as they are.

    May be repeated after an interruption at any point.
    """
    ledger, checkpoint = work.edges.ledger, work.edges.checkpoint
    touched = touched_directories(ledger, work.change)
    for directory, modified in touched:
        if modified is not None and not os.path.isdir(directory.path):
            outgoing = work.staging_of(directory.path).outgoing(directory.number)
            if os.path.isdir(outgoing):
                os.rename(outgoing, directory.path)
            else:
                os.makedirs(directory.path, exist_ok=True)
    strangers = []
    for directory, _ in reversed(touched):
        for difference in differences(ledger, work.change, directory.number):
            if not _retreat(work, directory, difference):
                strangers.append(f"{directory.path}/{difference.name}")
            checkpoint("retreated")
    for directory, modified in reversed(touched):
        if modified is None:
            if os.path.isdir(directory.path):
                drop_directory(directory.path)
        elif os.path.isdir(directory.path):
            set_time(directory.path, modified)
    return strangers


def _retreat(work: Work, directory: KnownDirectory, difference: Difference) -> bool:
    """Bring one destination back to before; False if it is in neither state."""
    before, after = _before(difference), _after(difference)
    path = f"{directory.path}/{difference.name}"
    disk = state_at(path)
    if before.is_alike(after) or disk.is_same_file(before):
        return True
    outgoing = f"{work.staging_of(directory.path).outgoing(directory.number)}/{difference.name}"
    if disk.kind is not FileKind.ABSENT and not disk.is_same_file(after):
        return with_digest(disk, path).has_same_content(before)
    if before.kind is FileKind.ABSENT:
        if disk.kind is FileKind.DIRECTORY:
            drop_directory(path)
        elif disk.kind is not FileKind.ABSENT:
            os.unlink(path)
        return True
    if before.kind is FileKind.DIRECTORY:
        os.mkdir(path)
        return True
    if not os.path.lexists(outgoing):
        os.makedirs(os.path.dirname(outgoing), exist_ok=True)
        if before.kind is FileKind.LINK:
            write_link(outgoing, before.target, before.modified)
        elif work.edges.backups.holds(before.digest):
            is_last = backed_layers(work.edges.ledger, before.digest) <= 1
            work.edges.backups.give(before.digest, outgoing, is_last=is_last)
            restore_attributes(outgoing, before)
        else:
            return False
    os.replace(outgoing, path)
    return True
