"""Read archives without placing anything: one entry, or all of them to check that they are whole."""

import codecs
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct

from usufruct.actions import refusals
from usufruct.actions.context import Context
from usufruct.actions.volumes import Untouched
from usufruct.archives.names import encoding_for
from usufruct.archives.nested import opened_inside
from usufruct.archives.opening import open_archive
from usufruct.archives.reading import Access, Archive, read_through
from usufruct.errors import UsufructError, WrongUsage
from usufruct.files.private import make_private
from usufruct.files.shells import quoted
from usufruct.model.entries import EntryKind
from usufruct.model.name_rules import NameRules
from usufruct.planning.everyday import VIEWED, suffix_of
from usufruct.planning.junk import HEAD, begins_program, can_run
from usufruct.planning.names import folded_path

_MARKED = {codecs.BOM_UTF8: "utf-8-sig", codecs.BOM_UTF16_LE: "utf-16", codecs.BOM_UTF16_BE: "utf-16"}
_MOST_TEXT = 1 << 20
"""Bytes of an entry that are shown."""
_A_DAY = 24 * 3600 * 10**9
"""Nanoseconds."""


class Verified(Struct, frozen=True):
    """The result of reading an archive completely."""

    path: str
    files: int
    size: int
    """Bytes that came out."""
    is_checked: bool
    """The format has checksums, so that reading it shows more than that it can be read."""
    unsafe: int = 0
    """Entries that are refused, and so were not read."""
    error: UsufructError | None = None
    unread: tuple[tuple[int, int], ...] = ()
    """As `Facts.unread`."""


class EntryText(Struct, frozen=True):
    """The beginning of an entry."""

    entry: str
    text: str
    shown: int
    """Bytes of the entry that the text is."""
    is_cut: bool
    """There is more of it."""


def verify(path: Path, access: Access) -> Verified:
    """Read every entry to its end, so that every checksum is compared; nothing is written."""
    files = size = unsafe = 0
    is_checked = True
    unread: tuple[tuple[int, int], ...] = ()

    def tell(_: int, count: int) -> None:
        nonlocal files, size
        files, size = files + 1, size + count

    untouched = Untouched([str(path)])
    try:
        archive = open_archive(path.absolute(), access)
        try:
            untouched.add(archive.facts.volumes)
            is_checked, unsafe = archive.facts.has_checksums, len(archive.listing.refused)
            unread = archive.facts.unread
            archive.unlock()
            read_through(archive, _files_of(archive), tell)
            untouched.refuse_written()
            if unsafe:
                raise refusals.unsafe(archive, archive.listing.refused, has_rest=files > 0)
        finally:
            archive.close()
    except UsufructError as error:
        return Verified(str(path.absolute()), files, size, is_checked, unsafe, error)
    return Verified(str(path.absolute()), files, size, is_checked, unsafe, unread=unread)


def _files_of(archive: Archive) -> list[int]:
    return [row for row, kind in enumerate(archive.listing.kinds) if kind == EntryKind.FILE]


def read_entry(path: Path, entry: str, access: Access) -> EntryText:
    """Return the beginning of the entry at this path, or with this file name if only one has it."""
    with _entry_of(path, entry, access) as (archive, row):
        return _beginning_of(archive, row)


@contextmanager
def _entry_of(path: Path, entry: str, access: Access) -> Iterator[tuple[Archive, int]]:
    """Return the archive that an entry is in, perhaps inside of another, and its row there."""
    with ExitStack() as opened:
        archive: Archive = open_archive(path.absolute(), access)
        opened.callback(archive.close)
        for _ in range(access.limits.levels):
            inner = _archive_above(archive, entry)
            if inner is None or (found := opened_inside(archive, [inner], access, insist=True)) is None:
                break
            archive = found
            opened.callback(archive.close)
        yield archive, _row_of(archive, entry)


class Viewed(NamedTuple):
    """A copy of an entry for another program."""

    path: str
    """Absolute."""
    may_be_opened: bool
    """It is of a type that nothing in is run: a picture, a text, a document, sound or video."""


def copy_entry(context: Context, path: Path, entry: str, access: Access) -> Viewed:
    """Copy an entry into a directory of its own, to be opened by another program.

    Nobody knows how long it is looked at: a copy is removed when it is a day old and another one is made. Raises
    WrongUsage for a file that could run.
    """
    top = _viewing_directory(context)
    with _entry_of(path, entry, access) as (archive, row):
        name = archive.listing.names[row]
        if can_run(name, is_marked=row in archive.listing.programs):
            raise _runs(name)
        copy = top / NameRules(is_windows=True).safe(name)
        try:
            with copy.open("xb") as file:
                for _, blocks in archive.stream([row]):
                    file.writelines(blocks)
            with copy.open("rb") as file:
                if begins_program(file.read(HEAD)):
                    raise _runs(name)
        except BaseException:
            shutil.rmtree(top, ignore_errors=True)
            raise
    return Viewed(str(copy), suffix_of(name) in VIEWED)


def _viewing_directory(context: Context) -> Path:
    """Make a directory for a copy; those of yesterday are removed."""
    above = context.paths.data / "viewed"
    try:
        make_private(above)
    except OSError:
        # A read-only home must not prevent looking.
        return Path(tempfile.mkdtemp(prefix="usufruct-view-"))
    for old in above.iterdir():
        with suppress(OSError):
            if context.now() - old.stat().st_mtime_ns > _A_DAY and old.is_dir() and not old.is_symlink():
                shutil.rmtree(old)
    return Path(tempfile.mkdtemp(dir=above))


def _runs(name: str) -> WrongUsage:
    return WrongUsage(
        f"{name} is a program file; Usufruct opens none.",
        remedy="`usufruct add --to DIR` places it where you can examine it.",
        path=name,
    )


def _beginning_of(archive: Archive, row: int) -> EntryText:
    content = bytearray()
    is_cut = False
    for _, blocks in archive.stream([row]):
        for block in blocks:
            room = _MOST_TEXT - len(content)
            is_cut = is_cut or len(block) > room
            content += block[: max(0, room)]
    entry = archive.listing.path(row)
    return EntryText(entry, _as_text(entry, bytes(content)), len(content), is_cut)


def _as_text(entry: str, content: bytes) -> str:
    """Return the text in the encoding that its first bytes tell or that is guessed; WrongUsage if it is no text."""
    for mark, encoding in _MARKED.items():
        if content.startswith(mark):
            return content.decode(encoding, "replace")
    if b"\0" in content:
        raise WrongUsage(
            f"{entry} is not a text.", remedy="Add the archive with --to to have it as a file.", path=entry
        )
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError as error:
        if error.end >= len(content) - 3:
            return content.decode("utf-8", "ignore")  # cut in the middle of a character
        return content.decode(encoding_for(content.splitlines(), None).encoding, "replace")


def _archive_above(archive: Archive, entry: str) -> int | None:
    """Return the file that the entry's path leads through, if it is in an archive inside."""
    wanted = _wanted(entry) + "/"
    return next(
        (
            row
            for row in _files_of(archive)
            if wanted.startswith(folded_path(archive.listing.path(row)) + "/")
            and wanted != folded_path(archive.listing.path(row)) + "/"
        ),
        None,
    )


def _wanted(entry: str) -> str:
    return folded_path(entry.replace("\\", "/").strip("/"))


def _row_of(archive: Archive, entry: str) -> int:
    wanted = _wanted(entry)
    rows = _files_of(archive)
    paths = {row: folded_path(archive.listing.path(row)) for row in rows}
    exact = [row for row in rows if archive.listing.path(row) == entry]
    found = exact or [row for row in rows if paths[row] == wanted]
    found = found or [row for row in rows if paths[row].endswith("/" + wanted)]
    if len(found) == 1:
        return found[0]
    if not found:
        raise WrongUsage(
            f"{archive.name} has no file {entry}.",
            remedy=f"`usufruct look {quoted(archive.path)} --content` lists its entries.",
        )
    raise WrongUsage(
        f"{archive.name} has {len(found)} files {entry}.",
        remedy=f"Give the whole path: {', '.join(archive.listing.path(row) for row in found[:4])}.",
    )
