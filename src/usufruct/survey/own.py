"""Usufruct's own files are nobody's destination."""

import os
import re
from collections.abc import Iterable

from usufruct.errors import MachineError
from usufruct.model.plan import Plan

_STAGING = re.compile(r"\.usufruct-[0-9a-f]{12}", re.IGNORECASE)
"""A name that only a staging directory has."""


def refuse_own(plan: Plan, own: Iterable[str]) -> None:
    """Raise MachineError if a plan places anything where Usufruct keeps its own: below these absolute directories.

    Real paths are compared, and without regard to case: a file system may not tell the one from the other.
    """
    ours = [os.path.realpath(path).casefold().rstrip("/") for path in own]
    for number, rows in enumerate(plan.rows_by_home()):
        if not rows:
            continue
        path = plan.snapshot.surveyed(number).path
        here = os.path.realpath(path).casefold()
        is_ours = any(here == one or here.startswith(f"{one}/") for one in ours)
        # A file of the very name that one of our directories has, or would have.
        takes_place = any(os.path.dirname(one) == here for one in ours) and any(
            f"{here}/{plan.name(row).casefold()}" in ours for row in rows
        )
        if is_ours or takes_place or any(map(_STAGING.fullmatch, path.split("/"))):
            raise MachineError(
                f"{path} is where Usufruct keeps its own files: nothing is placed there.",
                remedy="Name another folder.",
                path=path,
            )
