"""Find out whether recorded files of one directory are in another one now."""

import os
from typing import NamedTuple

from usufruct.errors import MachineError
from usufruct.files.looking import state_at, with_digest
from usufruct.ledger import Ledger
from usufruct.ledger.moving import archives_below, files_below, stagings_below
from usufruct.model.records import FileKind, FileState

_COARSEST = 2_000_000_000
"""Nanoseconds: FAT keeps times to two seconds."""


class Moving(NamedTuple):
    """What of a recorded directory is in another one: absolute paths there."""

    archives: int
    missing: tuple[str, ...]
    changed: tuple[str, ...]


def looked_for(ledger: Ledger, old: str, new: str) -> Moving:
    """Look in one absolute directory for what is recorded in another.

    Raises MachineError if nothing of it is there: then another folder was surely meant.
    """
    missing, changed, there = [], [], 0
    for path, state in files_below(ledger, old):
        here = _moved(path, old, new)
        found = state_at(here)
        if found.kind is FileKind.ABSENT:
            missing.append(here)
        elif _is_it(found, state, here):
            there += 1
        else:
            changed.append(here)
    archives = [(_moved(path, old, new), size) for path, size in archives_below(ledger, old)]
    lying = sum(1 for path, size in archives if state_at(path).size == size)
    stagings = [_moved(path, old, new) for path in stagings_below(ledger, old)]
    if not (there or lying or any(map(os.path.isdir, stagings))) and (missing or changed or archives or stagings):
        example = next(iter((*missing, *changed, *(path for path, _ in archives), *stagings)))
        raise MachineError(
            f"Nothing of what is on record in {old} is in {new}: there is no {example} as it was recorded.",
            kept="The record is as it was.",
            remedy="Name the folder that holds what was in the old one.",
            path=new,
        )
    return Moving(lying, tuple(missing), tuple(changed))


def _moved(path: str, old: str, new: str) -> str:
    return new.rstrip("/") + path[len(old.rstrip("/")) :]


def _is_it(found: FileState, recorded: FileState, path: str) -> bool:
    """Whether a file or link is the recorded one; its content is read only if its time differs."""
    if found.kind is FileKind.FILE is recorded.kind and found.size == recorded.size:
        is_of_time = abs(found.modified - recorded.modified) <= _COARSEST
        return is_of_time or with_digest(found, path).has_same_content(recorded)
    return found.has_same_content(recorded)
