"""Switch destinations from the state before a change to the state after it, and back."""

import os
from collections.abc import Mapping, Sequence, Set
from typing import NamedTuple

from usufruct.errors import DiffersFromRecord, PlanIsStale, UnsoundBackup
from usufruct.files.attributes import set_mode
from usufruct.files.copying import copy_whole
from usufruct.files.directories import Directory, Walk
from usufruct.files.looking import state_at, with_digest
from usufruct.files.paths import is_below
from usufruct.files.saved import free_path
from usufruct.files.staging import Staging
from usufruct.files.writing import write_link
from usufruct.ledger.altered import Difference, differences, going_files
from usufruct.ledger.directories import KnownDirectory, is_above_others, must_stay_on_record, touched_directories
from usufruct.ledger.layers import Fingerprint, backed_layers, stacks_in
from usufruct.model.records import ABSENT, FileKind, FileState
from usufruct.survey.holdings import untouched
from usufruct.transaction.work import Work


def switch_in(work: Work) -> None:
    """Carry out the intent, directory by directory; raises PlanIsStale if the disk is not as the intent expects."""
    ledger, checkpoint = work.resources.ledger, work.resources.checkpoint
    switched_whole: set[str] = set()
    touched = touched_directories(ledger, work.change)
    directories = {directory.path for directory, _ in touched}
    waiting: list[tuple[KnownDirectory, Difference]] = []
    with Walk(work.resources.platform) as walk:
        for directory, modified in touched:
            path = directory.path
            if path in switched_whole or os.path.dirname(path) in switched_whole:
                switched_whole.add(path)
                continue
            if modified is None and not walk.is_there(path):
                above = walk.reach(os.path.dirname(path))
                if work.is_staged(path):
                    # Nothing has this name, so the whole directory can be moved at once.
                    _bring_new(above, work.incoming(path), os.path.basename(path))
                    switched_whole.add(path)
                    checkpoint("switched-directory")
                    continue
                _make_new(above, os.path.basename(path))
            going = going_files(ledger, work.change, directory.number)
            if going and _is_taken_whole(work, walk, directory, going):
                checkpoint("switched-directory")
                continue
            here = walk.reach(path)
            gone = _set_out_plain(work, here, directory, going) if going else frozenset()
            staging = None
            for difference in differences(ledger, work.change, directory.number, gone):
                if not _before(difference).is_alike(_after(difference)):
                    if _takes_place(difference, path, directories):
                        if walk.is_there(f"{path}/{difference.name}"):
                            waiting.append((directory, difference))
                            here = walk.reach(path)
                            continue
                        switched_whole.add(f"{path}/{difference.name}")
                    staging = staging or work.staging_of(path)
                    _advance(work, staging, directory.number, here, difference)
                checkpoint("switched")
        for directory, difference in waiting:
            _drop_emptied(walk, f"{directory.path}/{difference.name}", directories)
            here = walk.reach(directory.path)
            _advance(work, work.staging_of(directory.path), directory.number, here, difference)
            checkpoint("switched")


def _takes_place(difference: Difference, path: str, directories: Set[str]) -> bool:
    """Whether a file takes the place of a directory whose files are removed in the same change."""
    comes = difference.before is None and _after(difference).kind in (FileKind.FILE, FileKind.LINK)
    return comes and f"{path}/{difference.name}" in directories


def _drop_emptied(walk: Walk, path: str, directories: Set[str]) -> None:
    """Remove a directory and those in it, deepest first; one that contains something of somebody else's stays."""
    for emptied in sorted((one for one in directories if is_below(one, path)), reverse=True):
        if walk.is_there(emptied):
            walk.reach(os.path.dirname(emptied)).drop(os.path.basename(emptied))


def _bring_new(above: Directory, path: str, name: str) -> None:
    """Move something to a free name; raises PlanIsStale if another program just took the name."""
    try:
        above.bring(path, name, replaces=False)
    except FileExistsError as error:
        raise _stale(f"{above.path}/{name}") from error


def _make_new(above: Directory, name: str) -> None:
    """Make a directory of a free name; raises PlanIsStale if another program just took the name."""
    try:
        above.make(name)
    except FileExistsError as error:
        raise _stale(f"{above.path}/{name}") from error


def _is_taken_whole(work: Work, walk: Walk, directory: KnownDirectory, going: Sequence[Fingerprint]) -> bool:
    """Move a directory out in one rename, if Usufruct made it and it contains only files that are removed.

    Then check it once more, where no other program finds it: one may have written to it just before.
    """
    path, ledger = directory.path, work.resources.ledger
    stays = must_stay_on_record(ledger, work.change, directory.number) or is_above_others(ledger, directory.number)
    if stays or not directory.is_made:
        return False
    names = {name for name, *_ in going}
    outgoing = work.staging_of(path).outgoing(directory.number)
    try:
        if set(walk.reach(path).names()) != names:
            return False
        walk.reach(os.path.dirname(path)).move_out(os.path.basename(path), outgoing)
    except OSError:
        # Perhaps a program has it open, or a drive is mounted there.
        return False
    if set(os.listdir(outgoing)) != names:
        raise _stale(path)
    _insist_on(work, directory, outgoing, going)
    return True


def _insist_on(work: Work, directory: KnownDirectory, outgoing: str, going: Sequence[Fingerprint]) -> None:
    """Raise PlanIsStale if what was moved out is not what was to be removed, because somebody just wrote to it."""
    for name in untouched(outgoing, going)[1]:
        (stack,) = stacks_in(work.resources.ledger, directory.number, [name]).values()
        found = f"{outgoing}/{name}"
        if not with_digest(state_at(found), found).has_same_content(stack[0].state):
            raise _stale(f"{directory.path}/{name}")


def _set_out_plain(
    work: Work, here: Directory, directory: KnownDirectory, going: Sequence[Fingerprint]
) -> frozenset[str]:
    """Move out those of these files that are unchanged; return their names."""
    checkpoint, move_out = work.resources.checkpoint, here.move_out
    outgoing = work.staging_of(here.path).outgoing(directory.number)
    os.makedirs(outgoing, exist_ok=True)
    same = frozenset(untouched(here.path, going, here.at)[0])
    for name in same:
        move_out(name, f"{outgoing}/{name}")
        checkpoint("set-out")
    _insist_on(work, directory, outgoing, [fingerprint for fingerprint in going if fingerprint[0] in same])
    return same


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


def _advance(work: Work, staging: Staging, number: int, here: Directory, difference: Difference) -> None:
    """Bring one destination from its state before to its state after.

    It is not checked first: each step either fails on what it does not expect, or checks what it has moved to a place
    where no other program finds it.
    """
    before, after, name = _before(difference), _after(difference), difference.name
    path = f"{here.path}/{name}"
    try:
        match before.kind:
            case FileKind.FILE if difference.is_covered:
                work.resources.backups.keep(path, before, at=here.at)
                work.resources.checkpoint("backed-up")
            case FileKind.FILE | FileKind.LINK:
                outgoing = f"{staging.outgoing(number)}/{name}"
                _set_out(work, here, name, outgoing, is_replaced=after.kind is not FileKind.ABSENT)
                _insist_it_is(before, outgoing, path)
            case FileKind.DIRECTORY:
                here.drop(name)
    except (FileNotFoundError, NotADirectoryError, DiffersFromRecord) as error:
        raise _stale(path) from error
    if after.kind is FileKind.DIRECTORY:
        _make_new(here, name)
    elif after.kind is not FileKind.ABSENT:
        incoming = f"{staging.incoming(here.path)}/{name}"
        if before.kind in (FileKind.ABSENT, FileKind.DIRECTORY):
            _bring_new(here, incoming, name)
        else:
            here.bring(incoming, name, replaces=True)


def _insist_it_is(before: FileState, outgoing: str, path: str) -> None:
    """Raise PlanIsStale if what was moved out is not what was to be removed."""
    found = state_at(outgoing)
    if not found.is_same_file(before) and not with_digest(found, outgoing).has_same_content(before):
        raise _stale(path)


def _set_out(work: Work, here: Directory, name: str, outgoing: str, *, is_replaced: bool) -> None:
    """Let a file that is removed keep a name in the staging directory until the change is done."""
    for is_ready in (False, True):
        try:
            # Thanks to a second link, the old file stays in place until the new one is renamed over it.
            if not (is_replaced and here.link_out(name, outgoing)):
                here.move_out(name, outgoing)
            break
        except FileNotFoundError:
            if is_ready:
                raise
            os.makedirs(os.path.dirname(outgoing), exist_ok=True)
    work.resources.checkpoint("set-out")


class Stranger(NamedTuple):
    """A file that somebody else changed while a change was interrupted; it stays as it is."""

    path: str
    saved: str = ""
    """Where the user's file is that it came in the place of, if there was one: a path of our own."""
    lacking: str = ""
    """Where that file should be, if it is not there or not what it should be; then what the change brought was left."""


def switch_back(work: Work) -> list[Stranger]:
    """Undo everything of the intent that has happened; return what somebody else changed, which stays as it is.

    May be repeated after an interruption at any point. Raises LeadsElsewhere or OSError if a directory cannot be
    reached any more; the rest may be undone by then.
    """
    ledger, checkpoint = work.resources.ledger, work.resources.checkpoint
    touched = touched_directories(ledger, work.change)
    directories = {directory.path for directory, modified in touched if modified is not None}
    numbers = {directory.path: directory.number for directory, _ in touched}
    strangers = []
    with Walk(work.resources.platform) as walk:
        for directory, modified in touched:
            if modified is not None and not walk.is_there(directory.path):
                _take_back(work, walk, directory.path, numbers)
                _make_again(work, walk, directory)
        for directory, modified in reversed(touched):
            for difference in differences(ledger, work.change, directory.number):
                if _before(difference).is_alike(_after(difference)):
                    continue
                if _takes_place(difference, directory.path, directories):
                    # It was moved back before the directory was made again.
                    continue
                if modified is None and not walk.is_there(directory.path):
                    # Nothing was moved here yet, or it was moved back.
                    break
                if stranger := _retreat(work, walk.reach(directory.path), directory, difference):
                    strangers.append(stranger)
                checkpoint("retreated")
            if modified is None and walk.is_there(directory.path):
                # Immediately, because a file may have been here before.
                walk.reach(os.path.dirname(directory.path)).drop(os.path.basename(directory.path))
        for directory, modified in reversed(touched):
            if modified is not None and walk.is_there(directory.path):
                walk.reach(directory.path).set_time(modified)
    return strangers


def _take_back(work: Work, walk: Walk, path: str, numbers: Mapping[str, int]) -> None:
    """Remove the file that the change put in the place of a directory that is restored.

    Raises PlanIsStale if something else is there.
    """
    above, name = os.path.split(path)
    if above not in numbers or not walk.is_there(above):
        return
    here = walk.reach(above)
    disk = here.state(name)
    if disk.kind is FileKind.ABSENT:
        return
    brought = next(
        (one for one in differences(work.resources.ledger, work.change, numbers[above]) if one.name == name), None
    )
    if brought is None or not with_digest(disk, here.named(name), here.at).has_same_content(_after(brought)):
        raise PlanIsStale(
            f"{path} was put there by another program, in the place of a folder.",
            kept="The interrupted change stays as it is, to be undone later.",
            remedy="Move it away; then `usufruct recover` goes on.",
            path=path,
        )
    here.unlink(name)


def _make_again(work: Work, walk: Walk, directory: KnownDirectory) -> None:
    """Restore a directory that was there before the change: the same one, if the change moved it out whole."""
    path = directory.path
    outgoing = work.outgoing(path, directory.number)
    missing = [os.path.dirname(path)]
    while not walk.is_there(missing[-1]):
        missing.append(os.path.dirname(missing[-1]))
    for deeper in missing[-2::-1]:
        # Somebody removed more than the directory; restored files need it all the same.
        walk.reach(os.path.dirname(deeper)).make(os.path.basename(deeper))
    above = walk.reach(os.path.dirname(path))
    if outgoing and os.path.isdir(outgoing):
        above.bring(outgoing, os.path.basename(path), replaces=False)
    else:
        above.make(os.path.basename(path))


def _retreat(work: Work, here: Directory, directory: KnownDirectory, difference: Difference) -> Stranger | None:
    """Bring one destination back to its state before; report one that is in neither state."""
    before, after, name = _before(difference), _after(difference), difference.name
    path = f"{here.path}/{name}"
    disk = here.state(name)
    if disk.is_same_file(before):
        _guard_again(work, here, name, before, disk)
        return None
    if disk.kind is not FileKind.ABSENT and not disk.is_same_file(after):
        # Size, time and inode are unreliable if a drive was copied or used by another system; content is not.
        disk = with_digest(disk, here.named(name), here.at)
        if disk.has_same_content(before):
            return None
        if not disk.has_same_content(after) or work.waits(path):
            return Stranger(path, _rescued(work, directory, difference))
    if before.kind is FileKind.ABSENT:
        if disk.kind is FileKind.DIRECTORY:
            here.drop(name)
        elif disk.kind is not FileKind.ABSENT:
            here.unlink(name)
        return None
    if before.kind is FileKind.DIRECTORY:
        if disk.kind is not FileKind.ABSENT:
            here.unlink(name)
        here.make(name)
        return None
    try:
        waiting = _original(work, directory, difference)
    except UnsoundBackup as error:
        return Stranger(path, lacking=error.path)
    try:
        here.bring(waiting, name, replaces=disk.kind is not FileKind.ABSENT)
    except FileExistsError:
        return Stranger(path, _rescued(work, directory, difference))
    _guard_again(work, here, name, before, here.state(name))
    return None


def _guard_again(work: Work, here: Directory, name: str, before: FileState, disk: FileState) -> None:
    """Restore a file's mode that had to be changed so that the file could be replaced."""
    if work.resources.platform.mode_guards_names and before.kind is FileKind.FILE and disk.mode != before.mode:
        set_mode(f"{here.path}/{name}", before.mode)


def _original(work: Work, directory: KnownDirectory, difference: Difference) -> str:
    """Return where the earlier file or link of a destination waits, complete and durable; raises UnsoundBackup."""
    before = _before(difference)
    above = work.outgoing(directory.path, directory.number)
    assert above, "a change that switches files has a staging directory for them"
    waiting = f"{above}/{difference.name}"
    if os.path.lexists(waiting):
        return waiting
    os.makedirs(above, exist_ok=True)
    # A later recovery trusts the name, so it must never name an incomplete file.
    growing = work.staging_of(directory.path).growing(directory.number)
    if os.path.lexists(growing):
        work.resources.platform.unlink(growing)
    if before.kind is FileKind.LINK:
        write_link(growing, before.target, before.modified)
    else:
        if not work.resources.backups.holds(before.digest):
            # It was moved out, not backed up, and somebody removed the staging directory with the folder.
            raise UnsoundBackup(
                f"{waiting} is not there any more.", remedy="Look where the folder is now.", path=waiting
            )
        is_last = backed_layers(work.resources.ledger, before.digest) <= 1
        work.resources.backups.give(before, growing, is_last=is_last)
        work.resources.platform.sync_file(growing)
    work.resources.checkpoint("original-back")
    os.rename(growing, waiting)
    return waiting


def _rescued(work: Work, directory: KnownDirectory, difference: Difference) -> str:
    """Save the user's file that somebody else's has replaced; return its path, or nothing if none is lost.

    If nothing was switched in yet, the other program overwrote the file itself, which was its own decision.
    """
    before = difference.before
    if before is None or before.holding is not None or before.state.kind not in (FileKind.FILE, FileKind.LINK):
        return ""
    path = f"{directory.path}/{difference.name}"
    above = work.outgoing(directory.path, directory.number)
    if work.waits(path) and not (above and os.path.lexists(f"{above}/{difference.name}")):
        return ""
    try:
        source = _original(work, directory, difference)
    except UnsoundBackup:
        return ""
    saved = free_path(difference.name, work.resources.saved, work.resources.platform)
    copy_whole(source, saved, work.resources.platform)
    return saved
