"""Make an archive of files on disk; it is read back and compared before it counts as made."""

import os
import posixpath
import shutil
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from itertools import accumulate
from pathlib import Path

from blake3 import blake3
from msgspec import Struct, field

from usufruct.actions.context import Context
from usufruct.actions.listing import find_holding
from usufruct.archives.allowance import Limits
from usufruct.archives.opening import open_archive
from usufruct.archives.passwords import Passwords
from usufruct.archives.reading import Access
from usufruct.archives.writing import FORMATS, USUAL_EFFORT, Changed, How, Member, format_of_name, pack_members
from usufruct.errors import ArchiveError, DamagedArchive, MachineError, WrongUsage
from usufruct.files.cutting import CutFile
from usufruct.files.looking import digest_of, state_at
from usufruct.files.paths import expanded
from usufruct.files.platform import this_platform
from usufruct.ledger.holdings import all_holdings
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Holding
from usufruct.model.progress import Progress
from usufruct.model.records import FileKind, FileState
from usufruct.planning.junk import is_junk
from usufruct.planning.names import folded, tidy_name
from usufruct.survey.holdings import destinations_of

LEAST_VOLUME = 64 << 10
"""Bytes: smaller volumes would be thousands of files."""
_MOST_VOLUMES = 999
_MUCH = 1 << 40
"""What this program packed itself may demand."""
_PREFIX = ".usufruct-pack-"


class Packing(Struct, frozen=True, kw_only=True):
    """What is to be packed, and how."""

    sources: tuple[str, ...]
    """Paths, or names of holdings."""
    out: Path | None = None
    """The archive; None: named after the first source, in the current folder."""
    format: str | None = None
    """None: as the name of `out` says, or zip."""
    effort: int = USUAL_EFFORT
    is_locked: bool = False
    password: str | None = None
    """Needed to pack what is locked, and not to plan it."""
    volume: int | None = None
    """Bytes of each volume; None: one file."""
    wrapper: str | None = None
    """The one folder that holds everything; None: named after the archive, empty: none."""
    with_junk: bool = False


class LeftOut(Struct, frozen=True):
    """Something that was found and is not packed."""

    path: str
    reason: str


class ToPack(Struct):
    """What would be packed: the plan that `--dry-run` shows."""

    out: Path
    format: str
    wrapper: str
    members: list[Member] = field(default_factory=list)
    left_out: list[LeftOut] = field(default_factory=list)

    @property
    def size(self) -> int:
        """Bytes before packing."""
        return sum(member.size for member in self.members)

    @property
    def files(self) -> int:
        """How many of the members are files or links."""
        return sum(member.kind is not EntryKind.DIRECTORY for member in self.members)


class Made(Struct, frozen=True):
    """The finished archive."""

    plan: ToPack
    volumes: tuple[Path, ...]
    """Its files, in order."""
    size: int
    """Bytes of them all."""


def plan_packing(context: Context, packing: Packing) -> ToPack:
    """Return everything that would be packed; nothing is written.

    Raises WrongUsage for sources that are neither a path nor a holding, or both, or that clash, and for an output that
    does not fit its format; MachineError if the output exists.
    """
    sources = [_source(context, word) for word in packing.sources]
    out, archive_format = _out(packing, sources[0].name)
    if packing.is_locked and not FORMATS[archive_format].can_lock:
        raise WrongUsage(f"{archive_format} archives cannot be locked.", remedy="Make a zip or 7z.")
    wrapper = packing.wrapper
    if wrapper is None:
        only_folder = len(sources) == 1 and sources[0].is_folder
        wrapper = sources[0].name if only_folder else out.name.removesuffix(FORMATS[archive_format].suffix)
    if wrapper in (".", "..") or "/" in wrapper or "\\" in wrapper:
        raise WrongUsage(f"{wrapper} cannot be the name of a folder.", remedy="Give one name without / or \\.")
    plan = ToPack(out, archive_format, wrapper)
    seen: dict[str, str] = {}
    for source in sources:
        # A single folder is the wrapper itself; several keep their own names.
        above = "" if source.is_folder and len(sources) == 1 else source.name if source.is_folder else ""
        for below, path, state in source.found:
            entry = "/".join(part for part in (wrapper, above, below) if part)
            _take(plan, seen, entry, path, state, packing.with_junk)
    if not plan.members:
        why = f": {plan.left_out[0].path}: {plan.left_out[0].reason}" if plan.left_out else ""
        raise WrongUsage(f"There is nothing to pack{why}.", remedy="Name files, a folder or a holding.")
    plan.members.sort(key=lambda member: member.entry)
    return plan


def pack_planned(context: Context, plan: ToPack, packing: Packing) -> Made:
    """Write the archive beside its place, read it back, compare, and only then give it its name.

    Raises MachineError if something cannot be read or written, and DamagedArchive if what was read back differs;
    nothing is left then.
    """
    out = plan.out
    beside = out.parent / f"{_PREFIX}{os.urandom(6).hex()}"
    try:
        beside.mkdir(mode=0o700)
    except OSError as error:
        raise MachineError(
            f"{out.parent} cannot be written to: {error.strerror}.", remedy="Name another folder with --out."
        ) from error
    try:
        volumes = _written(context, plan, packing, beside / out.name)
        (context.platform or this_platform()).make_durable(str(beside))
        _compare(context, plan, packing, volumes[0])
        return Made(plan, *_named(volumes, out))
    except Changed as error:
        raise MachineError(
            f"{error} was changed while it was packed.", kept="No archive was made.", remedy="Try again."
        ) from error
    except OSError as error:
        raise MachineError(
            f"{out.name} could not be made: {error.filename or out.parent}: {error.strerror}.",
            kept="No archive was made.",
            remedy="Is there enough room, and may everything be read?",
        ) from error
    finally:
        shutil.rmtree(beside, ignore_errors=True)


class _PackSource(Struct, frozen=True):
    name: str
    """What the archive would be called if this was all."""
    is_folder: bool
    found: tuple[tuple[str, str, FileState], ...]
    """Path below the source, absolute path and state of each thing in it."""


def _source(context: Context, word: str) -> _PackSource:
    path = os.path.abspath(os.path.expanduser(word))
    is_there = os.path.lexists(path)
    holding = None
    if os.sep not in word and "/" not in word:
        with context.reading() as ledger:
            if ledger and folded(word) in {folded(one.name) for one in all_holdings(ledger)}:
                holding = find_holding(ledger, word)
    if is_there and holding:
        raise WrongUsage(
            f"{word} is a holding and something in this folder.",
            remedy=f"Write ./{word} for the one in this folder; for the holding, go to another folder.",
        )
    if holding:
        return _PackSource(holding.name, True, tuple(_of_holding(context, holding)))
    if not is_there:
        raise WrongUsage(
            f"There is no file, folder or holding called {word}.",
            remedy="`usufruct list` shows the holdings.",
            path=path,
        )
    state = state_at(path)
    name = os.path.basename(path) or "archive"
    if state.kind is FileKind.DIRECTORY:
        return _PackSource(name, True, tuple(_walked(path)) or (("", path, state),))
    return _PackSource(name, False, ((name, path, state),))


def _walked(top: str, below: str = "") -> Iterator[tuple[str, str, FileState]]:
    """Yield everything in a folder; directories only if they are empty."""
    try:
        names = sorted(os.listdir(f"{top}/{below}" if below else top))
    except OSError as error:
        raise MachineError(
            f"{top}/{below} cannot be read: {error.strerror}.", remedy="Check its permissions.", path=f"{top}/{below}"
        ) from error
    for name in names:
        entry = f"{below}/{name}" if below else name
        state = state_at(f"{top}/{entry}")
        if state.kind is FileKind.DIRECTORY and os.listdir(f"{top}/{entry}"):
            yield from _walked(top, entry)
        else:
            yield entry, f"{top}/{entry}", state


def _of_holding(context: Context, holding: Holding) -> Iterator[tuple[str, str, FileState]]:
    """Yield the holding's files that are on disk now, by their places below its root."""
    with context.reading() as ledger:
        assert ledger, "the holding was found in it"
        paths = [destination.file for destination in destinations_of(ledger, holding.number)]
    elsewhere = [path for path in paths if not path.startswith(holding.root + "/")]
    common = os.path.dirname(os.path.commonpath([os.path.dirname(path) for path in elsewhere])) if elsewhere else ""
    for path in paths:
        state = state_at(path)
        top = holding.root if path.startswith(holding.root + "/") else common
        below = os.path.normpath(path[len(top) :].lstrip("/")).replace(os.sep, "/")
        if state.kind is not FileKind.DIRECTORY or not os.listdir(path):
            yield below, path, state


def _out(packing: Packing, name: str) -> tuple[Path, str]:
    archive_format = packing.format
    if packing.out is None:
        archive_format = archive_format or "zip"
        stem = name if os.path.splitext(name)[1] == "" else tidy_name(name)
        out = Path.cwd() / f"{stem}{FORMATS[archive_format].suffix}"
    else:
        said = format_of_name(packing.out.name)
        if archive_format is None and said is None:
            raise WrongUsage(
                f"{packing.out.name} does not say which format it should have.",
                remedy=f"End it with one of {', '.join(one.suffix for one in FORMATS.values())}, or add --format.",
            )
        if archive_format and said and archive_format != said:
            raise WrongUsage(
                f"{packing.out.name} is called {said}, but --format says {archive_format}.",
                remedy="Change one of them.",
            )
        archive_format = archive_format or said or "zip"
        out = expanded(packing.out).absolute()
        if not said:
            out = out.with_name(out.name + FORMATS[archive_format].suffix)
    refuse_taken(out)
    return out, archive_format


def refuse_taken(out: Path) -> None:
    """Raise MachineError if an archive cannot be made at this path: there is no folder, or something exists there."""
    if not out.parent.is_dir():
        raise MachineError(
            f"There is no folder {out.parent}.", remedy="Make it, or name another.", path=str(out.parent)
        )
    for taken in (out, out.with_name(out.name + ".001")):
        if os.path.lexists(taken):
            raise _taken(taken)


def _taken(path: Path) -> MachineError:
    return MachineError(
        f"{path} is there already.", remedy="Give another name, or move that file away.", path=str(path)
    )


def _take(plan: ToPack, seen: dict[str, str], entry: str, path: str, state: FileState, with_junk: bool) -> None:
    """Enter one thing as a member, or as left out."""
    parts = entry.split("/")
    if not with_junk and (junk := next((part for part in parts if is_junk(part)), None)):
        plan.left_out.append(LeftOut(path, f"{junk} is left behind by a system or editor"))
        return
    if any(part.startswith(".usufruct-") for part in parts):
        return
    if other := seen.get(entry):
        raise WrongUsage(
            f"{other} and {path} would both be {entry}.", remedy="Pack the folder that holds both, or rename one."
        )
    seen[entry] = path
    match state.kind:
        case FileKind.FILE:
            can_run = bool(state.mode & 0o100)
            plan.members.append(Member(entry, path, EntryKind.FILE, state.size, state.modified, can_run))
        case FileKind.DIRECTORY:
            plan.members.append(Member(entry, path, EntryKind.DIRECTORY, 0, state.modified))
        case FileKind.LINK if _stays_inside(plan.wrapper, entry, state.target):
            plan.members.append(Member(entry, path, EntryKind.LINK, 0, state.modified, False, state.target))
        case FileKind.LINK:
            plan.left_out.append(LeftOut(path, f"the link leads out of what is packed, to {state.target}"))
        case FileKind.ABSENT:
            plan.left_out.append(LeftOut(path, "it is not there any more"))
        case _:
            plan.left_out.append(LeftOut(path, "it is neither file, folder nor link"))


def _stays_inside(wrapper: str, entry: str, target: str) -> bool:
    """Whether a link stays among what is packed: on another machine nothing else is there."""
    if not target or os.path.isabs(target) or target.startswith(("/", "\\")):
        return False
    reached = posixpath.normpath(posixpath.join(posixpath.dirname(entry), target.replace("\\", "/")))
    return reached.split("/")[0] == wrapper if wrapper else reached.split("/")[0] != ".."


def _written(context: Context, plan: ToPack, packing: Packing, path: Path) -> list[Path]:
    done = 0
    ends = list(accumulate(member.size for member in plan.members))

    def tell(size: int) -> None:
        nonlocal done
        done += size
        if isinstance(out, CutFile) and len(out.paths) > _MOST_VOLUMES:
            raise MachineError(
                f"{plan.out.name} would be more than {_MOST_VOLUMES} volumes.", kept="No archive was made.",
                remedy="Give a larger --volume.",
            )  # fmt: skip
        # A file counts once all of its bytes are read.
        files = bisect_right(ends, done)
        context.watch(Progress(plan.out.name, "packing", files, len(ends), done, plan.size))

    with CutFile(path, packing.volume) if packing.volume else path.open("xb") as out:
        how = How(plan.format, packing.effort, packing.password, tell)
        pack_members(out, plan.members, how)  # type: ignore[arg-type]
        volumes = out.paths if isinstance(out, CutFile) else [path]
        tell(0)
    return volumes


def _compare(context: Context, plan: ToPack, packing: Packing, first: Path) -> None:
    """Open the written archive as anyone would, and compare every entry with the disk."""
    words = (packing.password,) if packing.password is not None else ()
    access = Access(
        passwords=Passwords(words, given=bool(words)),
        limits=Limits(entries=_MUCH, ratio=_MUCH, header=_MUCH, kept=_MUCH),
    )
    expected = {member.entry: member for member in plan.members}
    done = 0
    try:
        archive = open_archive(first, access)
    except ArchiveError as error:
        raise _differs(plan, str(error)) from error
    try:
        archive.unlock()
        listing = archive.listing
        found = {listing.path(row): row for row in range(len(listing))}
        members = {entry: EntryKind(listing.kinds[row]) for entry, row in found.items()}
        if members != {entry: member.kind for entry, member in expected.items()} or listing.refused:
            raise DamagedArchive("it has other entries", remedy="")
        rows = [row for row in found.values() if listing.kinds[row] == EntryKind.FILE]
        for number, (row, blocks) in enumerate(archive.stream(rows), start=1):
            digest = blake3()
            for block in blocks:
                digest.update(block)
                done += len(block)
            member = expected[listing.path(row)]
            if digest.digest() != digest_of(member.path):
                raise Changed(member.path)
            context.watch(Progress(plan.out.name, "reading back", number, len(rows), done, plan.size))
    except ArchiveError as error:
        raise _differs(plan, str(error)) from error
    finally:
        archive.close()


def _differs(plan: ToPack, how: str) -> DamagedArchive:
    return DamagedArchive(
        f"{plan.out.name} was written, but reads back otherwise: {how}.",
        kept="It was taken away again.",
        remedy="Try again; if it happens twice, the disk or the memory may be failing.",
    )


def _named(written: Sequence[Path], out: Path) -> tuple[tuple[Path, ...], int]:
    """Give the files their names, an only volume the name of the archive; return them and their size."""
    names = [out] if len(written) == 1 else [out.with_name(path.name) for path in written]
    named: list[Path] = []
    try:
        for path, name in zip(written, names, strict=True):
            if os.path.lexists(name):
                raise _taken(name)
            os.rename(path, name)
            named.append(name)
    except BaseException:
        for name in named:
            name.unlink()
        raise
    return tuple(named), sum(name.stat().st_size for name in named)
