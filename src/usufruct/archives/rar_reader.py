"""RAR archives: our own headers say what there is; libarchive only unpacks a plain stream of it."""

import zlib
from collections.abc import Iterator, Sequence
from functools import partial

from usufruct.archives import rar4_headers, rar5_headers
from usufruct.archives.allowance import Allowance
from usufruct.archives.library import LibraryFault, LibraryReader
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.rar_parts import (
    BLOCK,
    Deciphered,
    HeaderLocked,
    Member,
    Rar5Lock,
    RarFault,
    RarRefusal,
    WrongKey,
    blocks_of,
    checked,
    packed_source,
)
from usufruct.archives.reading import Access
from usufruct.archives.rows import Rows
from usufruct.errors import DamagedArchive, UnreadableArchive
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

_LONGEST_TARGET = 4096
_RIGHT_BEFORE = 4 << 20
"""Bytes up to which older libraries unpack RAR 4's text model rightly."""


class RarArchive:
    """A RAR archive of one or several volumes, opened. See `Archive`."""

    is_divisible = False

    def __init__(self, path: str, name: str, volumes: list[Source], access: Access, allowance: Allowance) -> None:
        self.path, self.name = path, name
        self.facts = Facts()
        self.size = sum(volume.size for volume in volumes)
        self._volumes = volumes
        self._access = access
        self._password: str | None = None
        self._is_rar5 = volumes[0].read_at(0, 8) == rar5_headers.MARK
        self.format = "rar5" if self._is_rar5 else "rar4"
        self.allowance = allowance
        self._rows = Rows(allowance)
        self.listing = self._rows.listing
        self._members: dict[int, Member] = {}
        """Row → member."""
        try:
            self._headers = self._read_headers()
            self._enter_members()
        except BaseException:
            self.close()
            raise

    def close(self) -> None:
        """Let go of the files."""
        for volume in self._volumes:
            volume.close()

    def unlock(self) -> None:
        """See `Archive.unlock`."""
        if self.facts.locked_entries and self._password is None:
            self._password = self._access.passwords.first_fitting(self.name, self._opens)

    # --- headers -----------------------------------------------------------------------------------------

    def _read_headers(self) -> "rar5_headers.Rar5Reader | rar4_headers.Rar4Reader":
        reader = rar5_headers.Rar5Reader if self._is_rar5 else rar4_headers.Rar4Reader
        try:
            try:
                headers = reader(self._volumes, None)
            except HeaderLocked:
                self.facts.hides_names = True
                self._password = self._access.passwords.first_fitting(self.name, self._opens_headers)
                headers = reader(self._volumes, self._password)
        except RarRefusal as refusal:
            raise UnreadableArchive(
                f"{self.name} is a RAR that cannot be read: {refusal}.",
                remedy="Unpack it with the program that made it, and pack its content as zip or 7z.",
                path=self.path,
            ) from refusal
        except (RarFault, WrongKey) as fault:
            raise self._damaged(str(fault) or "a locked header does not match its checksum") from fault
        if headers.wants_more:
            count = len(self._volumes)
            raise DamagedArchive(
                f"part {count + 1} of {self.name} is missing: part {count} says that another follows.",
                remedy="Put it into the same folder with the others.",
                path=self.path,
            )
        return headers

    def _opens_headers(self, password: str) -> bool:
        reader = rar5_headers.Rar5Reader if self._is_rar5 else rar4_headers.Rar4Reader
        try:
            reader(self._volumes, password)
        except WrongKey:
            return False
        return True

    def _enter_members(self) -> None:
        members = self._headers.members
        unsaid = [member.raw for member in members if member.raw]
        if unsaid:
            self.facts.encoding, self.facts.is_encoding_guessed = encoding_for(
                unsaid, self._access.names, is_from_dos=True
            )
        by_name: dict[str, int] = {}
        for member in members:
            if member.raw:
                member.name = decoded(member.raw, self.facts.encoding).replace("\\", "/")
            row = self._enter(member, by_name)
            if row is not None:
                self._members[row] = member
                by_name[member.name] = row
        locked = [member for member in members if member.lock]
        self.facts.locked_entries = len(locked)
        self.facts.is_solid = self._headers.is_solid
        if locked or self.facts.hides_names:
            self.facts.locks = ("AES-256",) if self._is_rar5 else ("AES-128",)
        files = [member for member in members if member.kind is EntryKind.FILE]
        packing = {"stored" if member.is_stored else self.format for member in files}
        self.facts.packing = tuple(sorted(packing, reverse=True))
        for row, member in self._members.items():
            if member.kind is EntryKind.LINK and not member.target:
                self._read_target(row, member)

    def _enter(self, member: Member, by_name: dict[str, int]) -> int | None:
        if member.is_junction or member.refusal.startswith("it is a device"):
            self._rows.refuse(member.name, member.refusal or "it is a junction, which leads out of the destination")
            return None
        if member.copy_of:
            source = by_name.get(member.copy_of.replace("\\", "/"))
            if source is None:
                self._rows.refuse(
                    member.name, f"it is a copy of {member.copy_of}, which is not in the archive before it"
                )
                return None
            member.size = self.listing.sizes[source]
        # A tweaked checksum tells nothing of the content, so nothing may be compared with it.
        is_plain = not (isinstance(member.lock, Rar5Lock) and member.lock.is_tweaked) and not member.copy_of
        checksum = member.checksum if is_plain and not member.kind else None
        can_run = bool(member.mode & 0o111) and member.kind is EntryKind.FILE
        size = 0 if member.kind is EntryKind.LINK else member.size
        return self._rows.enter(
            member.name, member.kind, size, member.modified, checksum, can_run=can_run, target=member.target
        )

    def _read_target(self, row: int, member: Member) -> None:
        if member.size > _LONGEST_TARGET:
            raise self._damaged(f"the link {member.name} has a target of {member.size} bytes")
        target = b"".join(block for _, blocks in self.stream([row]) for block in blocks)
        self.listing.targets[row] = target.decode("utf-8", "replace")

    # --- content -----------------------------------------------------------------------------------------

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; in the archive's order, copies last."""
        by_name = {member.name: row for row, member in self._members.items() if not member.copy_of}
        wanted = {row for row in rows if not self._members[row].copy_of}
        if any(self._members[row].lock for row in self._members):
            self.unlock()
        yield from self._stream_members(wanted)
        for row in rows:
            member = self._members[row]
            if member.copy_of:
                source = by_name.get(member.copy_of.replace("\\", "/"))
                if source is None:
                    raise self._broken(member, f"is a copy of {member.copy_of}, which is a copy itself")
                for _, blocks in self._stream_members({source}):
                    yield row, blocks

    def _stream_members(self, wanted: set[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        for run in self._runs():
            if wanted.isdisjoint(run):
                continue
            first = self._members[run[0]]
            if first.is_stored or not first.size:
                yield run[0], self._stored(first)
            else:
                yield from self._unpacked(run, wanted)

    def _runs(self) -> Iterator[list[int]]:
        """Rows that must be unpacked together, in order: a solid run, or one member alone."""
        run: list[int] = []
        for row, member in self._members.items():
            if (
                member.kind is EntryKind.DIRECTORY
                or member.copy_of
                or (member.kind is EntryKind.LINK and not member.pieces)
            ):
                continue
            if member.is_stored or not member.size:
                yield [row]
                continue
            if run and not (self._is_rar5 and member.is_solid):
                yield run
                run = []
            run.append(row)
        if run:
            yield run

    def _stored(self, member: Member) -> Iterator[bytes]:
        self._refuse_unreadable(member)
        source = self._plain(member)
        try:
            yield from checked(member, self._password, blocks_of(source, member.size), partial(self._broken, member))
        except EOFError as error:
            raise self._broken(member, str(error)) from error

    def _unpacked(self, run: list[int], wanted: set[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        last = max(number for number, row in enumerate(run) if row in wanted)
        run = run[: last + 1]
        for row in run:
            self._refuse_unreadable(self._members[row])
        fed = _Fed(self._feed([self._members[row] for row in run]))
        try:
            with LibraryReader(fed, ("rar5",) if self._is_rar5 else ("rar",), can_seek=False) as reader:
                for row, _ in zip(run, reader.entries(), strict=False):
                    member = self._members[row]
                    blocks = self._library_blocks(reader, member)
                    content = checked(member, self._password, blocks, partial(self._broken, member))
                    if row in wanted:
                        yield row, content
                    # A solid run goes on from where the member before ended, wanted or not.
                    for _ in content:
                        pass
        except LibraryFault as fault:
            raise self._broken(self._members[run[0]], f"cannot be unpacked: {fault}") from fault
        except UnreadableArchive as error:
            if error.path:
                raise
            raise UnreadableArchive(
                f"{self.name} is a RAR whose files are unpacked with libarchive, which is not installed.",
                remedy=error.remedy,
                path=self.path,
            ) from error

    def _library_blocks(self, reader: LibraryReader, member: Member) -> Iterator[bytes]:
        left = member.size
        try:
            # Exactly the bytes that are left: reading on would take the cipher's fill for data.
            while left > 0 and (block := reader.read(min(BLOCK, left))):
                left -= len(block)
                yield block
        except LibraryFault as fault:
            raise self._broken(member, f"cannot be unpacked: {fault}") from fault

    def _feed(self, members: list[Member]) -> Iterator[bytes]:
        """The plain single-volume stream that the library unpacks."""
        if not self._is_rar5:
            yield rar4_headers.stream_head()
            for number, member in enumerate(members):
                quiet = rar4_headers.quiet_start(member)
                source = self._plain(member)
                yield rar4_headers.stream_member(number, member, source.size + len(quiet)) + quiet
                yield from self._checked_pieces(member, source, source.size)
            yield rar4_headers.stream_end()
            return
        dictionary = min(rar5_headers.LARGEST_DICTIONARY, max(member.dictionary for member in members))
        yield rar5_headers.stream_head(is_solid=len(members) > 1)
        for number, member in enumerate(members):
            source = self._plain(member)
            size = rar5_headers.end_of_packed(source) if member.lock else source.size
            yield rar5_headers.stream_member(number, member, size, dictionary, is_solid=number > 0)
            yield from self._checked_pieces(member, source, size)
        yield rar5_headers.stream_end()

    def _plain(self, member: Member) -> Source:
        """A member's packed bytes, deciphered."""
        source = packed_source(self._volumes, member)
        if not member.lock:
            return source
        assert self._password is not None, "unlock gives one or raises"
        return Deciphered(source, *member.lock.cipher(self._password))

    def _checked_pieces(self, member: Member, source: Source, size: int) -> Iterator[bytes]:
        """The packed bytes; where a volume states the checksum of its piece, a broken one is named."""
        for piece in member.pieces[:-1]:
            if piece.checksum is None:
                continue
            checksum, offset = 0, 0
            while offset < piece.size:
                block = self._volumes[piece.volume].read_at(piece.offset + offset, min(BLOCK, piece.size - offset))
                if not block:
                    break
                checksum, offset = zlib.crc32(block, checksum), offset + len(block)
            if checksum != piece.checksum:
                raise self._broken(member, f"is damaged in part {piece.volume + 1} of {len(self._volumes)}")
        yield from blocks_of(source, size)

    # --- passwords and errors ----------------------------------------------------------------------------

    def _opens(self, password: str) -> bool:
        """By the check value where there is one, else by the checksum of the smallest locked member."""
        locked = [row for row, member in self._members.items() if member.lock and not member.refusal]
        if not locked:
            return True
        first = self._members[locked[0]]
        assert first.lock
        if (fits := first.lock.fits(password)) is not None:
            return fits
        row = min(locked, key=lambda row: self._members[row].packed)
        before, self._password = self._password, password
        try:
            for _, blocks in self._stream_members({row}):
                for _ in blocks:
                    pass
        except DamagedArchive:
            return False
        finally:
            self._password = before
        return True

    def _refuse_unreadable(self, member: Member) -> None:
        if member.refusal:
            raise UnreadableArchive(
                f"{member.name} in {self.name} cannot be read: {member.refusal}.",
                remedy="Leave it out with --skip, or unpack it with the program that made it.",
                path=self.path,
            )

    def _damaged(self, what: str) -> DamagedArchive:
        return DamagedArchive(f"{self.name} is a RAR, but {what}.", remedy="Download it again.", path=self.path)

    def _broken(self, member: Member, what: str) -> DamagedArchive:
        if what == "does not match its checksum" and member.dictionary > rar5_headers.LARGEST_DICTIONARY:
            what += "; it is packed with a dictionary larger than can be unpacked (64 MB)"
        elif what == "does not match its checksum" and not self._is_rar5 and member.size > _RIGHT_BEFORE:
            what += "; it may be packed by the text model, which libarchive unpacks rightly from 3.7.4 on"
        return DamagedArchive(
            f"{member.name} in {self.name} {what}.", remedy="The archive is damaged: download it again.", path=self.path
        )


class _Fed:
    """Blocks that are made as they are asked for, as a source that is read forwards."""

    def __init__(self, blocks: Iterator[bytes]) -> None:
        self._blocks = blocks
        self._rest = b""
        self.size = 0

    def read_at(self, offset: int, count: int) -> bytes:
        """The next bytes, wherever they are asked for."""
        while not self._rest:
            block = next(self._blocks, None)
            if block is None:
                return b""
            self._rest = block
        block, self._rest = self._rest[:count], self._rest[count:]
        return block

    def close(self) -> None:
        """Nothing to let go of."""
