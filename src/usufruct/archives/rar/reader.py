"""RAR archives: read the headers, and check every content by size and checksum."""

import zlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial

from usufruct.archives.allowance import Allowance
from usufruct.archives.bits import PackedFault
from usufruct.archives.damage import damaged, damaged_entry
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.rar import headers4, headers5
from usufruct.archives.rar.ciphers import LONGEST_PASSWORD
from usufruct.archives.rar.common import (
    BLOCK,
    HeaderLocked,
    Rar5Cipher,
    RarFault,
    RarMember,
    RarRefusal,
    VolumeMissing,
    WrongKey,
    blocks_of,
    checked,
    forget_keys,
    packed_source,
)
from usufruct.archives.rar.unpacking import LARGEST_DICTIONARY, Run, may_use_library
from usufruct.archives.reading import Access
from usufruct.archives.rows import Rows
from usufruct.errors import DamagedArchive, IncompleteArchive, UnreadableArchive, WrongPassword
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts
from usufruct.model.progress import Progress

_LONGEST_TARGET = 4096
"""Bytes of a link's text: PATH_MAX of Linux."""
_PASSING = "unpacking what is before it"


class RarArchive:
    """An open RAR archive of one or several volumes. See `Archive`."""

    def __init__(self, path: str, name: str, volumes: list[Source], access: Access, allowance: Allowance) -> None:
        self.path, self.name = path, name
        self.facts = Facts()
        self.size = sum(volume.size for volume in volumes)
        self._volumes = volumes
        self._access = access
        self._password: str | None = None
        self._is_rar5 = volumes[0].read_at(0, 8) == headers5.MARK
        self.format = "rar5" if self._is_rar5 else "rar4"
        self.allowance = allowance
        self._rows = Rows(allowance)
        self.listing = self._rows.listing
        self._members: dict[int, RarMember] = {}
        """Row → member."""
        try:
            self._headers = self._read_headers()
            self.extent = (0, self._headers.end if len(volumes) == 1 else self.size)
            self._enter_members()
        except BaseException:
            self.close()
            raise

    @property
    def is_divisible(self) -> bool:
        """See `Archive.is_divisible`."""
        return not self.facts.is_solid and not any(member.copy_of for member in self._members.values())

    def refuse_unreadable(self, rows: Iterable[int]) -> None:
        """See `Archive.refuse_unreadable`."""
        for row in rows:
            if member := self._members.get(row):
                self._refuse_unreadable(member)

    def close(self) -> None:
        """Close the files, and clear the keys."""
        for volume in self._volumes:
            volume.close()
        forget_keys()

    def unlock(self) -> None:
        """See `Archive.unlock`."""
        if self.facts.locked_entries and self._password is None:
            self._password = self._fitting(self._opens)

    # --- headers -----------------------------------------------------------------------------------------

    def _read_headers(self) -> "headers5.Rar5Reader | headers4.Rar4Reader":
        reader = headers5.Rar5Reader if self._is_rar5 else headers4.Rar4Reader
        try:
            try:
                headers = reader(self._volumes, None, self.allowance, rescues=self._access.rescues)
            except HeaderLocked:
                self.facts.hides_names = True
                self._password = self._fitting(self._opens_headers)
                headers = reader(self._volumes, self._password, self.allowance, rescues=self._access.rescues)
        except RarRefusal as refusal:
            raise UnreadableArchive(
                f"{self.name} is a RAR that cannot be read: {refusal}.",
                remedy="Unpack it with the program that made it, and pack its content as zip or 7z.",
                path=self.path,
            ) from refusal
        except VolumeMissing as fault:
            raise IncompleteArchive(
                f"{self.name} is a RAR, but {fault}.", remedy="Put it into the same folder.", path=self.path
            ) from fault
        except (RarFault, WrongKey) as fault:
            raise damaged(self, str(fault) or "a locked header does not match its checksum") from fault
        if headers.wants_more and not self._access.rescues:
            count = len(self._volumes)
            raise IncompleteArchive(
                f"part {count + 1} of {self.name} is missing: part {count} says that another follows.",
                remedy="Put it into the same folder with the others.",
                path=self.path,
            )
        return headers

    def _opens_headers(self, password: str) -> bool:
        reader = headers5.Rar5Reader if self._is_rar5 else headers4.Rar4Reader
        try:
            reader(self._volumes, password, self.allowance)
        except WrongKey:
            return False
        return True

    def _enter_members(self) -> None:
        members = self._headers.members
        unsaid = [member.raw for member in members if member.raw]
        if unsaid:
            encoding_for(unsaid, self._access.names, is_from_dos=True).tell(self.facts)
        by_name: dict[str, int] = {}
        for member in members:
            if member.raw:
                member.name = decoded(member.raw, self.facts.encoding).replace("\\", "/")
            if member.is_old:
                self.allowance.unpack(member.size)
                continue
            row = self._enter(member, by_name)
            if row is not None:
                member.row = row
                self._members[row] = member
                by_name[member.name] = row
        locked = [member for member in members if member.cipher]
        self.facts.locked_entries = len(locked)
        self.facts.is_solid = self._headers.is_solid
        if locked or self.facts.hides_names:
            self.facts.locks = ("AES-256" if self._is_rar5 else "AES-128",)
        packed = [member for member in members if member.size and not member.is_stored and not member.refusal]
        self.facts.is_slow = not self._is_rar5 and not all(may_use_library([member]) for member in packed)
        self._refuse_large_dictionaries()
        files = [member for member in members if member.kind is EntryKind.FILE]
        packing = {"stored" if member.is_stored else self.format for member in files}
        self.facts.packing = tuple(sorted(packing, reverse=True))
        for row, member in self._members.items():
            if member.kind is EntryKind.LINK and not member.target:
                self._read_target(row, member)

    def _refuse_large_dictionaries(self) -> None:
        """Refuse members whose dictionary is, or may be, larger than the library supports."""
        for run in self._runs():
            size = 0
            for member in run:
                size += member.size
                if size > LARGEST_DICTIONARY < member.dictionary and not member.is_stored:
                    member.refusal = member.refusal or (
                        f"its dictionary of {member.dictionary >> 20:,} MB is larger than the"
                        f" {LARGEST_DICTIONARY >> 20} MB that can be read"
                    )

    def _enter(self, member: RarMember, by_name: dict[str, int]) -> int | None:
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
        # A tweaked checksum does not describe the content, so nothing may be compared with it.
        is_plain = not (isinstance(member.cipher, Rar5Cipher) and member.cipher.is_tweaked) and not member.copy_of
        checksum = member.checksum if is_plain and not member.kind else None
        can_run = bool(member.mode & 0o111) and member.kind is EntryKind.FILE
        size = 0 if member.kind is EntryKind.LINK else member.size
        return self._rows.enter(
            member.name, member.kind, size, member.modified, checksum, can_run=can_run, target=member.target
        )

    def _read_target(self, row: int, member: RarMember) -> None:
        if member.size > _LONGEST_TARGET:
            raise damaged(self, f"the link {member.name} has a target of {member.size} bytes")
        target = b"".join(block for _, blocks in self.stream([row]) for block in blocks)
        self.listing.targets[row] = target.decode("utf-8", "replace")

    # --- content -----------------------------------------------------------------------------------------

    def stream(self, rows: Sequence[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        """See `Archive.stream`; in the archive's order, copies last."""
        by_name = {member.name: row for row, member in self._members.items() if not member.copy_of}
        wanted = {row for row in rows if not self._members[row].copy_of}
        if any(self._members[row].cipher for row in self._members):
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
            if not any(member.row in wanted for member in run):
                continue
            first = run[0]
            if first.is_stored or not first.size:
                yield first.row, self._stored(first)
            else:
                yield from self._unpacked(run, wanted)

    def _runs(self) -> Iterator[list[RarMember]]:
        """Yield members that must be unpacked together: a solid run, or a single member.

        Unsafe and old members, which have no row, are included: later ones depend on them.
        """
        run: list[RarMember] = []
        for member in self._headers.members:
            if (
                member.kind is EntryKind.DIRECTORY
                or member.copy_of
                or (member.kind is EntryKind.LINK and not member.pieces)
            ):
                continue
            if member.is_stored or not member.size:
                yield [member]
                continue
            if run and not member.is_solid:
                yield run
                run = []
            run.append(member)
        if run:
            yield run

    def _stored(self, member: RarMember) -> Iterator[bytes]:
        self._refuse_unreadable(member)
        source = self._plain(member)
        try:
            yield from checked(member, self._password, blocks_of(source, member.size), partial(self._broken, member))
        except EOFError as error:
            raise self._broken(member, str(error)) from error

    def _unpacked(self, members: list[RarMember], wanted: set[int]) -> Iterator[tuple[int, Iterator[bytes]]]:
        last = max(number for number, member in enumerate(members) if member.row in wanted)
        members = members[: last + 1]
        for member in members:
            self._refuse_unreadable(member)
        passing = [member.size for member in members if member.row not in wanted]
        files = size = 0
        run = Run(members, self._plain, is_rar5=self._is_rar5)
        try:
            for number, member in enumerate(members):
                blocks = self._told(run.content(number, self._is_right), member)
                content = checked(member, self._password, blocks, partial(self._broken, member))
                if member.row in wanted:
                    yield member.row, content
                # Each member of a solid run depends on the previous one, wanted or not.
                for block in content:
                    size += len(block)
                    self._access.watch(Progress(self.name, _PASSING, files, len(passing), size, sum(passing)))
                files += member.row not in wanted
        finally:
            run.close()

    def _told(self, blocks: Iterator[bytes], member: RarMember) -> Iterator[bytes]:
        """Yield the same blocks; errors name the member."""
        self._check_pieces(member)
        try:
            yield from blocks
        except (PackedFault, EOFError) as fault:
            raise self._broken(member, f"cannot be unpacked: {fault}") from fault
        except RarRefusal as refusal:
            raise self._unreadable(member, str(refusal)) from refusal

    def _is_right(self, member: RarMember, blocks: list[bytes]) -> bool:
        try:
            for _ in checked(member, self._password, iter(blocks), PackedFault):
                pass
        except PackedFault:
            return False
        return True

    def _plain(self, member: RarMember) -> Source:
        """Return a member's packed bytes, deciphered."""
        source = packed_source(self._volumes, member)
        if not member.cipher:
            return source
        assert self._password is not None, "unlock gives one or raises"
        return member.cipher.deciphered(source, self._password)

    def _check_pieces(self, member: RarMember) -> None:
        """Report a damaged piece, in volumes that state the checksum of their piece."""
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

    # --- passwords and errors ----------------------------------------------------------------------------

    def _fitting(self, fits: Callable[[str], bool]) -> str:
        """Return the password that `fits` accepts."""
        too_long = False

        def tried(password: str) -> bool:
            nonlocal too_long
            too_long = too_long or (not self._is_rar5 and len(password) > LONGEST_PASSWORD)
            return fits(password)

        try:
            return self._access.passwords.first_fitting(self.name, tried)
        except WrongPassword as error:
            if too_long:
                error.remedy += (
                    f" One of more than {LONGEST_PASSWORD} characters cannot be tried on a RAR of this generation:"
                    " unpack it with the program that made it."
                )
            raise

    def _opens(self, password: str) -> bool:
        """Whether a password is right: by the check value, or by the checksum of the smallest locked member."""
        locked = [row for row, member in self._members.items() if member.cipher and not member.refusal]
        if not locked:
            return True
        first = self._members[locked[0]]
        assert first.cipher
        if (fits := first.cipher.fits(password)) is not None:
            return fits
        row = locked[0] if self.facts.is_solid else min(locked, key=lambda row: self._members[row].packed)
        before, self._password = self._password, password
        try:
            for _, blocks in self._stream_members({row}):
                for _ in blocks:
                    pass
        except (DamagedArchive, UnreadableArchive):
            return False  # a wrong key produces garbage, perhaps an unknown method
        finally:
            self._password = before
        return True

    def _refuse_unreadable(self, member: RarMember) -> None:
        if member.refusal:
            raise self._unreadable(member, member.refusal)

    def _unreadable(self, member: RarMember, why: str) -> UnreadableArchive:
        return UnreadableArchive(
            f"{member.name} in {self.name} cannot be read: {why}.",
            remedy="Leave it out with --skip, or unpack it with the program that made it.",
            path=self.path,
        )

    def _broken(self, member: RarMember, what: str) -> DamagedArchive:
        return damaged_entry(self, member.name, what)
