"""Look at the destinations of a layout: what is there, how it is spelled, and what the ledger knows about it."""

import os
import stat
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set

from usufruct.errors import MachineError
from usufruct.files.listing import Listed, listed
from usufruct.files.looking import looked_at, state_of, with_digest
from usufruct.files.paths import is_below, real_path
from usufruct.ledger import Ledger
from usufruct.ledger.directories import directory_number
from usufruct.ledger.layers import names_in, stacks_in
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Home, Layout
from usufruct.model.records import ABSENT, FileKind, FileState
from usufruct.model.rulings import Move
from usufruct.model.snapshot import Found, Met, Snapshot, SurveyedHome
from usufruct.planning.conflicts import in_the_way
from usufruct.planning.names import free_name, spelling_key, unnumbered
from usufruct.planning.stacks import needs_digest
from usufruct.survey.going import Going


def survey(
    layout: Layout,
    root: str,
    ledger: Ledger | None,
    with_names: Set[int] = frozenset(),
    going: Going | None = None,
) -> Snapshot:
    """What is at the destinations of a layout below `root`; `with_names`: homes of which all that are taken are wanted.

    The root need not exist where there is no application. `going`: what the holding has that the layout takes the place
    of; where that makes way, nothing is met. Raises MachineError if a root is missing, a file stands where a directory
    is needed, or a directory is a link that leads out of the destination.
    """
    disk = _Disk(_real_root(root, layout), going)
    names = layout.names
    met = Met(names)
    homes: list[SurveyedHome | None] = []
    for number, (home, rows) in enumerate(zip(layout.homes, layout.rows_by_home(), strict=True)):
        if not rows:
            homes.append(None)
            continue
        wanted = {row: names[row] for row in rows}
        homes.append(_survey_home(disk, layout, home, wanted, ledger, met, with_names=number in with_names))
    if disk.in_the_way:
        raise in_the_way(disk.in_the_way)
    return Snapshot(disk.root, tuple(homes), met, frozenset(disk.kept))


def _real_root(root: str, layout: Layout) -> str:
    real = real_path(root)
    if os.path.isdir(real):
        return real
    if os.path.lexists(real):
        raise in_the_way([root])
    if layout.application and not layout.application.is_shipped:
        raise MachineError(
            f"The folder of {layout.application.title}, {root}, is not there.",
            remedy="Is its drive connected? Make the folder, or correct `root` in the definition.",
            path=root,
        )
    return real


class _Disk:
    """The directories that were read so far; each is read once."""

    def __init__(self, root: str, going: Going | None = None) -> None:
        self.root = root
        self.in_the_way: list[str] = []
        self.kept: set[str] = set()
        """Paths in the way at which the holding that goes leaves something: it stays, and what comes goes beside it."""
        self._going = going
        self._found: dict[tuple[str, str], tuple[str, bool]] = {}
        self._listed: dict[str, Listed] = {}

    def base_of(self, home: Home) -> tuple[str, list[str]]:
        """Return the destination that a home belongs to, and the path below it.

        A link that the user made at the path of a folder is followed; the folder is a destination of its own then.
        """
        folder = home.folder
        if folder is None or folder.is_root:
            return self.root, [part for part in home.path.split("/") if part not in ("", ".")]
        own = folder.path if folder.is_elsewhere else self._spelled(folder.path)
        below = [part for part in home.path[len(folder.path) :].split("/") if part]
        real = real_path(own)
        if real == own and not folder.is_elsewhere:
            return self.root, own[len(self.root) + 1 :].split("/") + below
        return real, below

    def _spelled(self, path: str) -> str:
        here = self.root
        for part in path.split("/"):
            here = f"{here.rstrip('/')}/{self.spelling(here, part)}"
        return here

    def directory(self, base: str, parts: Iterable[str]) -> tuple[str, bool]:
        """Return the absolute path of `parts` below `base`, as it is spelled on disk, and whether it is there."""
        here, exists = base, os.path.isdir(base)
        for part in parts:
            key = (here, spelling_key(part))
            if key not in self._found:
                self._found[key] = self._step(here, part, base) if exists else (f"{here}/{part}", False)
            here, exists = self._found[key]
        return here, exists

    def _step(self, here: str, part: str, base: str) -> tuple[str, bool]:
        path = f"{here.rstrip('/')}/{self.spelling(here, part)}"
        try:
            mode = os.lstat(path).st_mode
        except FileNotFoundError:
            return path, False
        if stat.S_ISLNK(mode):
            real = real_path(path)
            if not is_below(real, base):
                raise MachineError(
                    f"{path} is a link that leads out of {base}, to {real}.",
                    remedy="Nothing is written through such a link. Replace it by a folder, or give the folder its own "
                    "definition.",
                    path=path,
                )
            path = real
        if not os.path.isdir(path):
            if not self.makes_way(path):
                self.in_the_way.append(path)
            return path, False
        return path, True

    def makes_way(self, path: str) -> bool:
        """What stands at a path, a file for a directory or the reverse, goes with the holding, or keeps its name."""
        if self._going is None or not self._going.has(path):
            return False
        if not self._going.makes_way(path):
            self.kept.add(path)
        return True

    def spelling(self, directory: str, name: str) -> str:
        """Return how a directory spells a name, if only case or Unicode form differ."""
        there = self.listed(directory)
        return name if there.among((name,)) else there.spelled((name,)).get(name, name)

    def listed(self, directory: str) -> Listed:
        """Return the names in a directory; none if it is not there."""
        if directory not in self._listed:
            try:
                self._listed[directory] = listed(directory)
            except FileNotFoundError:
                self._listed[directory] = Listed([])
            except PermissionError as error:
                raise MachineError(
                    f"{directory} may not be read.", remedy="Check its permissions.", path=directory
                ) from error
        return self._listed[directory]


def move_pieces(layout: Layout, snapshot: Snapshot, pieces: Set[str], kept: Mapping[str, str]) -> Iterator[Move]:
    """Give other names to pieces that would meet others: those in `kept`, by the piece's path, or free ones."""
    disk = _Disk(snapshot.root)
    free: dict[str, str] = {}
    taken: dict[str, set[str]] = {}
    pieces_here = {spelling_key(piece.rpartition("/")[2]) for piece in {one.piece for one in layout.homes} if piece}
    for home, rows in zip(layout.homes, layout.rows_by_home(), strict=True):
        if home.piece not in pieces or not rows:
            continue
        if home.piece not in free:
            base, parts = disk.base_of(home)
            depth = len(home.path.split("/")) - len(home.piece.split("/"))
            above = parts[: len(parts) - depth - 1]
            directory, _ = disk.directory(base, above)
            if directory not in taken:
                taken[directory] = {spelling_key(name) for name in disk.listed(directory).names} | pieces_here
            parent, _, name = home.piece.rpartition("/")
            called = kept.get(home.piece) or free_name(unnumbered(name), taken[directory])
            taken[directory].add(spelling_key(called))
            free[home.piece] = f"{parent}/{called}" if parent else called
        yield Move(rows, free[home.piece] + home.path[len(home.piece) :], free[home.piece])


def move_beside(layout: Layout, snapshot: Snapshot) -> Iterator[Move]:
    """Give other paths to homes that would be inside a file that stays."""
    disk = _Disk(snapshot.root)
    free: dict[str, str] = {}
    for home, rows in zip(layout.homes, layout.rows_by_home(), strict=True):
        if not rows:
            continue
        base, parts = disk.base_of(home)
        for depth in range(len(parts)):
            path = "/".join((base.rstrip("/"), *parts[: depth + 1]))
            if path not in snapshot.kept or os.path.isdir(path):
                continue
            above, name = os.path.split(path)
            if path not in free:
                free[path] = free_name(name, {spelling_key(one) for one in disk.listed(above).names})
            # Counted from the end, because a folder elsewhere is a separate destination.
            at = depth - len(parts)
            steps = home.path.split("/")
            steps[at] = free[path]
            in_piece = len(home.piece.split("/")) > len(steps) + at
            piece = "/".join(steps[: len(home.piece.split("/"))]) if in_piece else home.piece
            yield Move(rows, "/".join(steps), piece)
            break


def add_digests_of(layout: Layout, snapshot: Snapshot, holding: int) -> None:
    """Add the digests that are needed to know whether a holding's files were changed."""
    for row, one in list(snapshot.found.others()):
        if one.stack and needs_digest(one.stack, holding, one.state):
            path = f"{snapshot.surveyed(layout.home_of[row]).path}/{one.name}"
            snapshot.found.add(row, one._replace(state=with_digest(one.state, path)))


def _makes_way(disk: _Disk, layout: Layout, row: int, path: str, found: FileState) -> bool:
    is_file = layout.listing.kinds[row] != EntryKind.DIRECTORY
    return found.kind is FileKind.DIRECTORY and is_file and disk.makes_way(path) and path not in disk.kept


def _survey_home(
    disk: _Disk,
    layout: Layout,
    home: Home,
    wanted: Mapping[int, str],
    ledger: Ledger | None,
    met: Met,
    *,
    with_names: bool,
) -> SurveyedHome:
    """Look at one home, and enter what is at the destinations of these rows, each with the name that it would have."""
    base, parts = disk.base_of(home)
    path, exists = disk.directory(base, parts)
    number = directory_number(ledger, path) if ledger else None
    listing = disk.listed(path) if exists else Listed([])
    names: Sequence[str] = list(wanted.values())
    present = listing.among(names)
    if missing := [name for name in names if name not in present] if len(listing) else []:
        spelled = listing.spelled(missing)
        names = [spelled.get(name, name) for name in names]
        present = {*present, *spelled.values()}
    stacks = stacks_in(ledger, number, names) if ledger and number is not None else {}
    if present or stacks:
        there = looked_at(path, (name for name in names if name in present))
        for (row, own), name in zip(wanted.items(), names, strict=True):
            found = next(there) if name in present else ABSENT
            stack = stacks.get(name, ())
            if isinstance(found, FileState):
                if stack or (found is not ABSENT and not _makes_way(disk, layout, row, f"{path}/{name}", found)):
                    met.add(row, Found(name, found, stack))
            elif stack or name != own:
                met.add(row, Found(name, state_of(found), stack))
            else:
                met.add_plain(row, found.st_size, found.st_mtime_ns, found.st_mode & 0o7777, found.st_ino)
    taken: frozenset[str] | None = None
    if with_names:
        recorded = names_in(ledger, number) if ledger and number is not None else []
        taken = frozenset(map(spelling_key, (*listing.names, *recorded)))
    return SurveyedHome(path, base, exists, taken)
