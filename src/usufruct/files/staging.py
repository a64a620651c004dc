"""Staging directories: where content waits, complete and checked, beside its destination.

Others may write to the directory that contains one. So it is held by a descriptor from its creation, where the system
can, and at the end only what was to be staged there is removed from it.
"""

import os
import re
import stat
import zlib
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct
from msgspec.structs import replace

from usufruct.errors import StoreError
from usufruct.files.attributes import set_times
from usufruct.files.paths import is_below, nearest
from usufruct.files.platform import Platform

_IN, _OUT, _GROWING = "in", "out", ".growing"
_OPEN = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_NOFOLLOW", 0)
_PREFIX = ".usufruct-"
_NAME = re.compile(r"\.usufruct-[0-9a-f]{12}")
_TICK = 10_000_000
"""Nanoseconds by which a system's clock for files may lag behind itself."""


class Staging(Struct, frozen=True):
    """One staging directory, on the drive of the destinations below `base`."""

    base: str
    """Absolute path of the directory whose inside is mirrored."""
    path: str
    """Absolute path of the staging directory itself."""
    parent_before: int
    """Time of the directory that holds it before it was made, nanoseconds."""
    parent_after: int = 0
    """The same once it was made: if nothing else changed the parent, its time is given back at the end."""
    identity: str = ""
    """What tells its drive from all others; empty where the system knows nothing that does."""
    is_beside: bool = False
    """It is on the drive that Usufruct's own data are on."""
    time_left: int | None = None
    """The time that the parent gets once the directory is removed; None as long as that was not begun."""
    expected: bytes = b""
    """What may lie in it, as `expecting` writes it."""
    descriptor: int | None = None
    """It is held open by this."""
    held: str = ""
    """A path that leads into it through the descriptor, whatever becomes of its own; empty where there is none."""

    @property
    def top(self) -> str:
        """The path by which it is reached."""
        return self.held or self.path

    def incoming(self, destination: str) -> str:
        """Where files wait that will be moved to an absolute `destination`."""
        return f"{self.top}/{_IN}{destination[len(self.base) :]}"

    def outgoing(self, directory: int) -> str:
        """Where files from a directory wait until the change is done; `directory` is its ledger number."""
        return f"{self.top}/{_OUT}/{directory}"

    def growing(self, directory: int) -> str:
        """Where a file is written before it waits in `incoming`."""
        return self.outgoing(directory) + _GROWING


def staging_base(directory: str, destination: str) -> str:
    """The base to stage for `directory`: the outermost directory on its drive that is not above `destination`.

    That is `destination` itself, unless a drive is mounted inside it; if it does not exist yet, the nearest existing
    directory above.
    """
    here = nearest(directory)
    device = os.stat(here).st_dev
    while len(here) > len(destination) and os.stat(os.path.dirname(here)).st_dev == device:
        here = os.path.dirname(here)
    return here


def staging_for(base: str) -> Staging:
    """A staging directory for destinations below `base`, an existing directory; it is not created yet.

    It lies beside `base` and not in it, so that the application never sees unfinished content; in `base` only if the
    parent is another drive or not writable.
    """
    parent = os.path.dirname(base)
    is_one_drive = os.stat(parent).st_dev == os.stat(base).st_dev
    if not (is_one_drive and os.access(parent, os.W_OK | os.X_OK)):
        parent = base
    name = _PREFIX + os.urandom(6).hex()
    return Staging(base, os.path.join(parent, name), os.lstat(parent).st_mtime_ns)


def expecting(staging: Staging, names: Iterable[tuple[str, Iterable[str]]]) -> Staging:
    """The staging with the names that may lie in it, each with the absolute directory that they go to or come from."""
    below: dict[str, list[str]] = {}
    for directory, here in names:
        if is_below(directory, staging.base):
            below.setdefault(directory[len(staging.base) :].strip("/"), []).extend(here)
    parts = ("\0".join((directory, *here)) for directory, here in below.items())
    return replace(staging, expected=zlib.compress(os.fsencode("\0\0".join(parts)), 1))


def _expected(staging: Staging) -> dict[str, str]:
    """Directory below the base → names that may be staged for it, joined by NUL: one text takes little memory."""
    if not staging.expected:
        return {}
    try:
        parts = os.fsdecode(zlib.decompress(staging.expected)).split("\0\0")
    except zlib.error:
        return {}  # then nothing is ours, and everything stays
    return {directory: names for directory, _, names in (part.partition("\0") for part in parts)}


def make_staging(staging: Staging, platform: Platform) -> Staging:
    """Create the directory and return it, held open."""
    os.mkdir(staging.path, 0o700)
    staging = hold(staging, platform)
    os.mkdir(f"{staging.top}/{_IN}", 0o755)
    os.mkdir(f"{staging.top}/{_OUT}", 0o700)
    return staging


def hold(staging: Staging, platform: Platform) -> Staging:
    """Hold an existing staging directory open; raises StoreError if something else is in its place.

    Close its descriptor with `let_go`.
    """
    refuse_foreign(staging)
    if not platform.descriptors or not os.path.lexists(staging.path):
        return staging
    descriptor = os.open(staging.path, _OPEN)
    if os.fstat(descriptor).st_uid != os.geteuid():
        os.close(descriptor)
        raise _not_ours(staging)
    return replace(staging, descriptor=descriptor, held=f"{platform.descriptors}/{descriptor}")


def let_go(staging: Staging) -> None:
    """Close the descriptor that holds it open."""
    if staging.descriptor is not None:
        os.close(staging.descriptor)


def refuse_foreign(staging: Staging) -> None:
    """Raise StoreError if the path cannot be a staging directory's, or is a link or another user's by now.

    A forged record could name any directory, and anybody who may write beside it could put another one there.
    """
    if not _NAME.fullmatch(os.path.basename(staging.path)):
        raise _not_ours(staging)
    try:
        found = os.lstat(staging.path)
    except OSError:
        return
    is_mine = not hasattr(os, "geteuid") or found.st_uid == os.geteuid()
    if not stat.S_ISDIR(found.st_mode) or not is_mine or os.path.islink(staging.path):
        raise _not_ours(staging)


def _not_ours(staging: Staging) -> StoreError:
    return StoreError(
        f"{staging.path} is on record as a staging directory, and what is there now is none of Usufruct's.",
        remedy="It is left as it is. Move it away, then run `usufruct recover`.",
        path=staging.path,
    )


def made(staging: Staging) -> Staging:
    """The staging as it is recorded once all directories of its change are created."""
    return replace(staging, parent_after=os.lstat(os.path.dirname(staging.path)).st_mtime_ns)


def with_time_left(staging: Staging) -> Staging:
    """The staging with the time its parent gets once it is removed; recorded before the removal begins.

    A parent that nothing else touched gets the time it had before the staging directory was created.
    """
    parent = os.path.dirname(staging.path)
    if staging.time_left is not None and not os.path.lexists(staging.path):
        # Removed already, by a removal that was interrupted before it was recorded.
        return staging
    try:
        modified = os.lstat(parent).st_mtime_ns
    except OSError:
        return staging
    return replace(staging, time_left=staging.parent_before if _is_ours(staging, modified) else modified)


def _is_ours(staging: Staging, modified: int) -> bool:
    """Whether the parent's time comes only from creating the staging directory."""
    if staging.parent_after:
        return modified == staging.parent_after
    # It was made, but not recorded: its inner directories were made right after it.
    try:
        return modified <= os.lstat(staging.path).st_mtime_ns + _TICK
    except OSError:
        return False


def drop_staging(staging: Staging, platform: Platform) -> list[str]:
    """Remove the directory with what was staged in it, and set its parent's time; may be repeated.

    Returns the paths of other programs' files: they stay, and so does the directory. No link is followed, and nothing
    on another drive is touched. Raises OSError if it cannot be removed.
    """
    refuse_foreign(staging)
    parent = os.path.dirname(staging.path)
    if os.path.lexists(staging.path):
        held = hold(staging, platform)
        try:
            strangers = list(_drop_expected(held, platform))
        finally:
            let_go(held)
        if strangers:
            return strangers
        os.rmdir(staging.path)
    elif not os.path.isdir(parent):
        return []
    if staging.time_left is not None:
        set_time(parent, staging.time_left)
    return []


def _drop_expected(staging: Staging, platform: Platform) -> Iterator[str]:
    """Remove what was staged; return the paths of everything else."""
    below = _expected(staging)
    directories = {""}
    for directory in below:
        while directory not in directories:
            directories.add(directory)
            directory = os.path.dirname(directory)
    emptying = _Emptying(staging, platform)
    yield from emptying.emptied(_IN, {f"{_IN}/{one}".rstrip("/"): below.get(one, "") for one in directories})
    numbers = [name for name in emptying.names(_OUT) if name.removesuffix(_GROWING).isdigit()]
    taken = "\0".join(below.values()) if numbers else ""
    yield from emptying.emptied(_OUT, {_OUT: "\0".join(numbers), **{f"{_OUT}/{number}": taken for number in numbers}})
    for name in emptying.names(""):
        if name not in (_IN, _OUT):
            yield f"{staging.path}/{name}"


class _Emptying:
    """Removes known names from a staging directory, and nothing on another drive."""

    def __init__(self, staging: Staging, platform: Platform) -> None:
        self._staging, self._platform = staging, platform
        self._device = os.stat(staging.top).st_dev

    def names(self, directory: str) -> list[str]:
        """All names in one of its directories; none if that does not exist."""
        try:
            return os.listdir(f"{self._staging.top}/{directory}")
        except FileNotFoundError:
            return []

    def emptied(self, directory: str, known: Mapping[str, str]) -> Iterator[str]:
        """Remove the known names below a directory, and the directory; return the paths of everything that stays.

        `known`: directory → names in it, joined by NUL.
        """
        top = self._staging.top
        is_left = False
        try:
            entries = list(os.scandir(f"{top}/{directory}"))
        except FileNotFoundError:
            return
        names = frozenset(known.get(directory, "").split("\0") if entries else ())
        for entry in entries:
            below, is_link = f"{directory}/{entry.name}", entry.is_symlink()
            if not is_link and entry.is_dir(follow_symlinks=False):
                is_known = below in known or entry.name in names
                if not is_known or entry.stat(follow_symlinks=False).st_dev != self._device:
                    is_left = True
                    yield f"{self._staging.path}/{below}"
                else:
                    for stranger in self.emptied(below, known):
                        is_left = True
                        yield stranger
            elif entry.name in names:
                self._platform.unlink(entry.path)
            else:
                is_left = True
                yield f"{self._staging.path}/{below}"
        if not is_left:
            os.rmdir(f"{top}/{directory}")


def set_time(path: str, modified: int) -> None:
    """Set the modification time of a file or directory in nanoseconds; its access time stays."""
    set_times(path, os.stat(path).st_atime_ns, modified)
