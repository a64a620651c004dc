"""Refuse destinations among Usufruct's own files."""

import os
import re
from collections.abc import Iterable

from usufruct.errors import MachineError
from usufruct.files.paths import is_below, real_path
from usufruct.model.plan import Plan

_STAGING = re.compile(r"\.usufruct-[0-9a-f]{12}", re.IGNORECASE)
"""A name that only a staging directory has."""


class _RealPaths:
    """The real paths of many directories, of which most are side by side: each level is looked at once."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[str, bool]] = {}

    def of(self, path: str) -> tuple[str, bool]:
        """Return the real path of an absolute one, and whether anything is there."""
        if path not in self._known:
            above, name = os.path.split(path)
            self._known[path] = self._step(path, above, name) if name and above != path else (path, True)
        return self._known[path]

    def _step(self, path: str, above: str, name: str) -> tuple[str, bool]:
        base, is_there = self.of(above)
        if is_there and os.path.islink(path):
            return real_path(path), True
        return f"{base.rstrip('/')}/{name}", is_there and os.path.lexists(path)


def refuse_own_folder(directory: str, own: Iterable[str]) -> None:
    """Raise MachineError if an absolute directory is one of Usufruct's own, or is inside one."""
    here = real_path(directory).casefold()
    if any(is_below(here, real_path(one).casefold()) for one in own):
        raise _own(directory)


def refuse_own(plan: Plan, own: Iterable[str]) -> None:
    """Raise MachineError if a plan places anything below these absolute directories, which are Usufruct's own.

    Real paths are compared, without case, because some file systems have no case.
    """
    ours = [real_path(path).casefold().rstrip("/") for path in own]
    real = _RealPaths()
    for number, rows in enumerate(plan.rows_by_home()):
        if not rows:
            continue
        path = plan.snapshot.surveyed(number).path
        here = real.of(path)[0].casefold()
        is_ours = any(here == one or here.startswith(f"{one}/") for one in ours)
        # A file with the name of one of our directories.
        takes_place = any(os.path.dirname(one) == here for one in ours) and any(
            f"{here}/{plan.name(row).casefold()}" in ours for row in rows
        )
        if is_ours or takes_place or any(map(_STAGING.fullmatch, path.split("/"))):
            raise _own(path)


def _own(path: str) -> MachineError:
    return MachineError(
        f"{path} is where Usufruct keeps its own files: nothing is placed there.",
        remedy="Name another folder.",
        path=path,
    )
