"""Archives that are one stream of entries, plain or compressed as a whole: tar, cpio, rpm."""

from abc import ABC, abstractmethod
from array import array
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager
from itertools import count

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import damaged, damaged_entry
from usufruct.archives.members import Forward, MemberFault, StreamMember, VolumeFault
from usufruct.archives.names import encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.archives.spool import Spool
from usufruct.archives.streams.decompress import PACKING_ERRORS, Ended, plain_stream, until_broken
from usufruct.errors import ArchiveError, DamagedArchive, IncompleteArchive
from usufruct.files.ahead import ahead
from usufruct.files.sources import Source, as_file
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

_FAULTS: tuple[type[Exception], ...] = (MemberFault, *PACKING_ERRORS)
_KEPT = frozenset({"bz2", "xz", "lzma", "gz", "zst", "lz4", "lz", "Z"})
"""Packings that take longer to undo than to keep what they give, and to read that side by side."""
_ZEROS = bytes(BLOCK)
_HEAD = 512
"""Bytes by which an archive behind this one is recognised."""
_TAPE_RECORD = 10240
"""Bytes that a tar is written in multiples of; a download that breaks off hardly ever ends there."""
_AHEAD = 4
"""Blocks that are unpacked before they are looked at, at most."""
_WAITING = 300
"""Bytes that a member takes until its name is known."""


class StreamedArchive(OpenedFile, ABC):
    """An open archive of this kind. See `Archive`.

    A compressed one must be read to its end to list it. The plain bytes of slow compressions are kept if `Access` names
    a directory for them; otherwise the content is unpacked a second time.
    """

    def __init__(
        self, path: str, name: str, source: Source, compression: str, access: Access, allowance: Allowance
    ) -> None:
        facts = Facts(
            packing=(compression,) if compression else ("stored",),
            is_solid=bool(compression),
            has_checksums=compression not in ("", "Z"),
        )
        super().__init__(path, name, source, access, allowance, facts)
        self.format = self._format_with(compression)
        self._compression = compression
        self._offsets = array("Q")
        """Row → where its data begins in the plain tar."""
        self._pieces: dict[int, array[int]] = {}
        """Row of a sparse file → offset and length of each stored piece, one behind the other."""
        self._copies: dict[int, int] = {}
        """Row of a hard link → row of the file whose content it has."""
        self._encoding: str | None = None
        self._part = 1
        """Which of several archives, one behind the other, is being entered."""
        self._paths: dict[bytes, int] = {}
        """Path of a file in it → row."""
        self._plain: Source | None = None if compression else source
        """The plain tar, to be read at any offset; None: it must be unpacked again."""
        try:
            self._read_listing()
        except DamagedArchive:
            if not access.rescues or not len(self.listing):
                self.close()
                raise
        except BaseException:
            self.close()
            raise

    @property
    def is_divisible(self) -> bool:
        """See `Archive.is_divisible`."""
        return self._plain is not None

    def close(self) -> None:
        """Close the file, and discard its kept bytes."""
        super().close()
        if self._plain:
            self._plain.close()

    def unlock(self) -> None:
        """These formats are never locked."""

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; in the archive's order."""
        wanted = sorted(((self._copies.get(row, row), row) for row in rows), key=lambda pair: self._offsets[pair[0]])
        if self._plain:
            for original, row in wanted:
                yield row, self._read(original)
            return
        # Reading is forwards only: a hard link needs the content of an earlier file, so each gets its own pass.
        yield from self._pass([pair for pair in wanted if pair[0] == pair[1]])
        for pair in wanted:
            if pair[0] != pair[1]:
                yield from self._pass([pair])

    def _pass(self, wanted: Sequence[tuple[int, int]]) -> Iterator[tuple[int, Iterator[bytes]]]:
        if not wanted:
            return
        with self._forward() as data:
            for original, row in wanted:
                data.skip(self._offsets[original] - data.offset)
                yield row, self._telling_faults(original, self._expanded(original, self._taken(data)))

    def _taken(self, data: Forward) -> Callable[[int], bytes]:
        def take(count: int) -> bytes:
            block = data.take(count)
            if len(block) < count:
                raise MemberFault("the archive ends too early")
            return block

        return take

    def _read(self, row: int) -> Iterator[bytes]:
        plain, offset = self._plain, self._offsets[row]
        assert plain, "only plain bytes are read at offsets"

        def take(count: int) -> bytes:
            nonlocal offset
            block = plain.read_at(offset, count)
            if len(block) < count:
                raise MemberFault("the archive ends too early")
            offset += count
            return block

        return self._telling_faults(row, self._expanded(row, take))

    def _expanded(self, row: int, take: Callable[[int], bytes]) -> Iterator[bytes]:
        """Yield the content of a row: stored bytes from `take`, and zeros for the holes of a sparse file."""
        size = self.listing.sizes[row]
        at = 0
        pieces = self._pieces.get(row, array("Q", (0, size)))
        for offset, length in zip(pieces[::2], pieces[1::2], strict=True):
            while at < offset:
                gap = min(BLOCK, offset - at)
                yield _ZEROS[:gap]
                at += gap
            while length:
                block = take(min(BLOCK, length))
                yield block
                at, length = at + len(block), length - len(block)
        while at < size:
            gap = min(BLOCK, size - at)
            yield _ZEROS[:gap]
            at += gap

    def _telling_faults(self, row: int, blocks: Iterator[bytes]) -> Iterator[bytes]:
        try:
            yield from blocks
        except _FAULTS as error:
            raise damaged_entry(self, self.listing.path(row), f"cannot be read: {error}") from error

    @contextmanager
    def _forward(self, spool: Spool | None = None, ended: Ended | None = None) -> Iterator[Forward]:
        """Yield the plain bytes from the start, unpacked by a thread; faults are raised as damage."""
        try:
            if not self._compression:
                yield Forward(*_reading(self._source))
                return
            with (
                as_file(self._source, BLOCK) as file,
                plain_stream(file, self._compression, self.allowance, ended) as plain,
                _read_ahead(until_broken(plain) if self._access.rescues else plain.read) as read,
            ):
                yield Forward(spool.through(read) if spool else read)
        except ArchiveError:
            raise
        except VolumeFault as error:
            raise IncompleteArchive(
                f"{self.name} is a later volume of a multi-volume tar: {error}.",
                remedy="Put all volumes into one folder, with names that differ only by their numbers.",
                path=self.path,
            ) from error
        except _FAULTS as error:
            if isinstance(error, MemberFault) and not self._compression and not self.size % _TAPE_RECORD:
                raise IncompleteArchive(
                    f"{self.name} ends in the middle of a file, as the first volume of a multi-volume tar does.",
                    remedy="If it is one of several, put all volumes into one folder, with names that differ only by"
                    " their numbers; otherwise download it again.",
                    path=self.path,
                ) from error
            raise damaged(self, error) from error

    @abstractmethod
    def _format_with(self, compression: str) -> str:
        """Return what users call the format with this compression; empty for none."""

    @abstractmethod
    def _members(self, data: Forward) -> Iterator[StreamMember]:
        """Yield the members as they are read from the plain bytes."""

    @abstractmethod
    def _begins(self, head: bytes) -> bool:
        """Whether another archive of this kind begins with these bytes (512, if there are so many)."""

    # --- listing -----------------------------------------------------------------------------------------

    def _read_listing(self) -> None:
        allowance, ended = self.allowance, Ended()
        waiting: list[tuple[int, StreamMember]] = []
        spool = Spool(self._access.spool if self._compression in _KEPT else None)
        try:
            with self._forward(spool, ended) as data:
                for part in count(1):
                    for member in self._members(data):
                        if waiting or (not member.is_text and not (_is_utf8(member.name) and _is_utf8(member.target))):
                            allowance.keep(_WAITING + len(member.name) + len(member.target))
                            waiting.append((part, member))
                        else:
                            self._enter(part, member)
                    if not self._is_another_behind(data):
                        break
            self._plain = self._plain or spool.source()
            if ended.at is not None:
                self.extent = (0, ended.at)
        finally:
            spool.close()
        if waiting:
            raw = [name for _, one in waiting for name in (one.name, one.target) if not _is_utf8(name)]
            self._encoding = encoding_for(raw, self._access.names).tell(self.facts)
            for part, member in waiting:
                self._enter(part, member)

    def _is_another_behind(self, data: Forward) -> bool:
        """Whether another archive of this kind follows, as when two were concatenated; it is next.

        A compressed stream checks its own checksum only at its very end. Bytes that are neither zeros nor another
        archive are reported; in a plain file, the caller looks at the rest.
        """
        for _ in data.zeros():
            self.allowance.may_read(data.offset)
        head, begin = data.peek(_HEAD), data.offset
        if head and self._begins(head):
            return True
        if head and not self._compression:
            self.extent = (0, begin)
        elif head:
            for _ in data.rest():
                self.allowance.may_read(data.offset)
            self.facts.unread = ((begin, data.offset - begin),)
        self.allowance.read(data.offset)
        return False

    def _text(self, raw: bytes) -> str:
        return raw.decode("utf-8") if _is_utf8(raw) else raw.decode(self._encoding or "latin-1", "replace")

    def _enter(self, part: int, member: StreamMember) -> None:
        name = self._text(member.name)
        rows, modified = self._rows, member.modified
        if part > self._part:
            self._part = part
            self._paths.clear()
            self.facts.behind = part - 1
            rows.begin_part(f"{self.name}#{part}")
        paths = self._paths
        row: int | None
        match member.kind:
            case "directory":
                row = rows.enter(name, EntryKind.DIRECTORY, 0, modified)
            case "link":
                row = rows.enter(name, EntryKind.LINK, 0, modified, target=self._text(member.target))
            case "hard link":
                source = paths.get(member.target)
                if source is None:
                    linked = self._text(member.target)
                    rows.refuse(name, f"it is a hard link to {linked}, which is not in the archive before it")
                    return
                size, can_run = self.listing.sizes[source], source in self.listing.runnable
                row = rows.enter(name, EntryKind.FILE, size, modified, can_run=can_run)
                if row is not None:
                    self._copies[row] = self._copies.get(source, source)
            case "file":
                holes = member.size - sum(member.pieces[1::2]) if member.pieces is not None else 0
                can_run = bool(member.mode & 0o111)
                row = rows.enter(name, EntryKind.FILE, member.size, modified, can_run=can_run, holes=max(0, holes))
                if row is not None and member.pieces is not None:
                    self._pieces[row] = member.pieces
            case _:
                rows.refuse(name, "it is a device, pipe or of a kind that cannot be placed")
                return
        if row is None:
            return
        self._offsets.append(member.offset)
        if member.kind in ("file", "hard link"):
            paths[member.name] = row


def _is_utf8(raw: bytes) -> bool:
    if raw.isascii():
        return True
    try:
        raw.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _reading(source: Source) -> tuple[Callable[[int], bytes], Callable[[int], bool]]:
    """Return functions that read a source forwards, and skip bytes of it."""
    offset = 0

    def read(count: int) -> bytes:
        nonlocal offset
        block = source.read_at(offset, count)
        offset += len(block)
        return block

    def jump(count: int) -> bool:
        nonlocal offset
        offset += count
        return offset <= source.size

    return read, jump


@contextmanager
def _read_ahead(read: Callable[[int], bytes]) -> Iterator[Callable[[int], bytes]]:
    """Return the same reading function, a few blocks ahead."""
    with closing(ahead(iter(lambda: read(BLOCK), b""), _AHEAD)) as blocks:
        yield lambda _: next(blocks, b"")
