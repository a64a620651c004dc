"""Read the image of a FAT file system as an archive.

Source: Microsoft's "FAT: General Overview of On-Disk Format", version 1.03.
"""

from collections.abc import Iterator, Sequence
from functools import lru_cache

from msgspec import Struct

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import damaged, damaged_entry
from usufruct.archives.fat.volume import FatFault, FatVolume
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.archives.times import of_dos
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

_ENTRY = 32
"""Bytes of an entry of a directory."""
_DELETED, _LABEL, _DIRECTORY, _LONG_NAME = 0xE5, 0x08, 0x10, 0x0F
_LOWER_NAME, _LOWER_SUFFIX = 0x08, 0x10
_LONG_PARTS = (slice(1, 11), slice(14, 26), slice(28, 32))
"""Where an entry holds characters of a long name, two bytes each."""


class _FatEntry(Struct, frozen=True):
    """One file or directory, as its directory entry describes it."""

    above: int
    """Number of the directory that it is in, in the order in which they were found."""
    long_name: str
    raw: bytes
    """The short name, in the encoding of the system that wrote it."""
    is_directory: bool
    cluster: int
    size: int
    modified: int | None


class FatImage(OpenedFile):
    """An open image of a FAT file system. See `Archive`."""

    format = "fat"
    is_divisible = True

    def __init__(self, path: str, name: str, source: Source, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance, Facts(packing=("stored",), has_checksums=False))
        self._clusters: dict[int, int] = {}
        """Row → first cluster of its content."""
        with self._closed_on_failure():
            try:
                self._volume = FatVolume(source)
                self.extent = (0, min(source.size, self._volume.size))
                self._read_listing()
            except FatFault as fault:
                raise damaged(self, fault) from fault

    def _content_of(self, row: int) -> Iterator[bytes]:
        try:
            yield from self._volume.content(self._clusters[row], self.listing.sizes[row], BLOCK)
        except FatFault as fault:
            raise damaged_entry(self, self.listing.path(row), f"cannot be read: {fault}") from fault

    def _read_listing(self) -> None:
        found: list[_FatEntry] = []
        directories = [(-1, self._volume.root)]
        seen = {self._volume.root}
        while directories:
            above, cluster = directories.pop()
            for entry in self._entries(above, cluster):
                found.append(entry)
                self.allowance.may_enter(len(found))
                if entry.is_directory:
                    if entry.cluster in seen:
                        raise FatFault("a directory lies in itself")
                    seen.add(entry.cluster)
                    directories.append((len(found) - 1, entry.cluster))
        raws = [entry.raw for entry in found if not entry.long_name and not entry.raw.isascii()]
        encoding = "ascii"
        if raws:
            encoding = encoding_for(raws, self._access.names, is_from_dos=True).tell(self.facts)
        paths: list[str] = []
        for entry in found:
            name = entry.long_name or decoded(entry.raw, encoding)
            path = f"{paths[entry.above]}/{name}" if entry.above >= 0 else name
            paths.append(path if entry.is_directory else "")
            kind = EntryKind.DIRECTORY if entry.is_directory else EntryKind.FILE
            row = self._rows.enter(path, kind, entry.size, entry.modified)
            if row is not None and not entry.is_directory:
                self._clusters[row] = entry.cluster
                if self.size < self._volume.size:
                    # Some images lack their empty end; missing content is reported before anything is placed.
                    self._volume.refuse_cut(entry.cluster, entry.size)

    def _entries(self, above: int, cluster: int) -> Iterator[_FatEntry]:
        """Yield the entries of the directory that begins at a cluster, or of the root if it has a fixed area."""
        pieces: list[bytes] = []
        for raw in self._raw_entries(cluster):
            if raw[0] == _DELETED:
                pieces = []
            elif raw[11] & 0x3F == _LONG_NAME:
                pieces = [*([] if raw[0] & 0x40 else pieces), raw]
            else:
                long_name, pieces = _long_name(pieces, raw), []
                if raw[11] & _LABEL or raw[:11] in (b".          ", b"..         "):
                    continue
                is_directory = bool(raw[11] & _DIRECTORY)
                yield _FatEntry(
                    above=above,
                    long_name=long_name,
                    raw=_short_name(raw),
                    is_directory=is_directory,
                    cluster=self._volume.first_cluster(raw),
                    size=0 if is_directory else int.from_bytes(raw[28:32], "little"),
                    modified=of_dos(int.from_bytes(raw[24:26], "little") << 16 | int.from_bytes(raw[22:24], "little")),
                )

    def _raw_entries(self, cluster: int) -> Iterator[bytes]:
        for block in self._volume.directory(cluster):
            for at in range(0, len(block) - _ENTRY + 1, _ENTRY):
                if not block[at]:
                    return
                self.allowance.fields(1)
                yield block[at : at + _ENTRY]


@lru_cache(maxsize=1024)
def _checksum(short: bytes) -> int:
    """Return the checksum by which the pieces of a long name refer to their entry."""
    total = 0
    for byte in short:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    return total


def _long_name(pieces: Sequence[bytes], short: bytes) -> str:
    """Return the name in these entries, the last piece first; empty if they do not belong to this entry."""
    numbers = [piece[0] & 0x1F for piece in pieces]
    if not pieces or numbers != list(range(len(pieces), 0, -1)):
        return ""
    if any(piece[13] != _checksum(short[:11]) for piece in pieces):
        return ""
    units = b"".join(piece[part] for piece in reversed(pieces) for part in _LONG_PARTS)
    return units.decode("utf-16-le", "replace").partition("\0")[0].rstrip("\uffff")


def _short_name(raw: bytes) -> bytes:
    """Return the name in 8.3 form."""
    name, suffix = raw[:8].rstrip(b" "), raw[8:11].rstrip(b" ")
    if name[:1] == b"\x05":
        name = bytes((_DELETED,)) + name[1:]
    name = name.lower() if raw[12] & _LOWER_NAME else name
    suffix = suffix.lower() if raw[12] & _LOWER_SUFFIX else suffix
    return name + b"." + suffix if suffix else name
