"""Recording that a drive or a folder has another place now."""

import os
from pathlib import Path

from usufruct.actions.surroundings import Surroundings
from usufruct.errors import MachineError
from usufruct.files.directories import reached
from usufruct.ledger.moving import move_record
from usufruct.survey.drives import drives_of


def say_moved(surroundings: Surroundings, old: str, new: str) -> int:
    """Record that what was in one folder is in another now; gives how many holdings lie there.

    Only the record changes. Raises MachineError where the new folder is not there or nothing was recorded in the old.
    """
    before = os.path.abspath(os.path.expanduser(old))
    after = os.path.realpath(os.path.expanduser(new))
    if not os.path.isdir(after):
        raise MachineError(
            f"There is no folder {new}.", remedy="Connect its drive, or name the folder as it is now.", path=new
        )
    with surroundings.writing(f"recover --moved {old} {new}", recovers=False) as edges:
        drives = drives_of(edges.ledger, edges.platform.identity_of_volume)
        with reached(after, edges.platform), edges.ledger.transaction():
            count, is_known = move_record(edges.ledger, before, after, drives.held(after))
        if not is_known:
            raise MachineError(
                f"Nothing on record lies in {before}.",
                remedy="`usufruct list` and `usufruct show` say where things lie.",
                path=str(Path(before)),
            )
    return count
