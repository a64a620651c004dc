"""Recognise a file by its content, and open it."""

import re
import stat
import time
from collections.abc import Callable
from pathlib import Path

from usufruct.archives.allowance import Allowance
from usufruct.archives.cpio.headers import begins_cpio
from usufruct.archives.fat.volume import begins_fat
from usufruct.archives.foreign import foreign_kind
from usufruct.archives.marks import (
    COMPRESSIONS,
    HEAD,
    LIBRARY_MARKS,
    RAR4_MARK,
    RAR5_MARK,
    RPM_MARK,
    SEVEN_MARK,
    XAR_MARK,
    begins_archive,
    begins_uuencoded,
    begins_with_header,
)
from usufruct.archives.reading import Access, Archive
from usufruct.archives.recognising import Recognised, packed_document, recognised
from usufruct.archives.split_sets import SplitSet, set_of_tar, split_set_of
from usufruct.errors import (
    ArchiveError,
    DamagedArchive,
    IncompleteArchive,
    MachineError,
    Misnamed,
    NotAnArchive,
    StillArriving,
    UnreadableArchive,
    WrongUsage,
)
from usufruct.files.sources import FileSource, JoinedSource, SliceSource, Source

_ZIP_END_SEARCH = 22 + 0xFFFF
_MOST_MARKS = 1000
"""Marks of an archive that a program may hold by chance."""
_CARRIED_SEARCH = 1 << 20
"""How deep in a self-extracting program the archive may begin."""
_ISO_MARK_AT = 0x8001
_ADDRESS = re.compile(r"(?i)\b(https?|ftp):/+(.+)")
_RECENT, _MOMENT = 10.0, 0.3
"""Seconds: a broken file that was written so lately is looked at again after a moment, for it may be growing."""
_ARRIVING = (".crdownload", ".part", ".partial", ".download", ".opdownload")
"""Suffixes that browsers give to what they are still downloading."""

_SAID = {
    "zip": "zip", "7z": "7z", "rar": "rar", "tar": "tar", "tgz": "tar.gz", "tbz": "tar.bz2", "tbz2": "tar.bz2",
    "txz": "tar.xz", "tzst": "tar.zst", "gz": "gz", "bz2": "bz2", "xz": "xz", "zst": "zst", "lz4": "lz4", "lz": "lz",
    "tlz": "tar.lz", "z": "Z", "taz": "tar.Z", "cab": "cab",
    "iso": "iso", "lha": "lha", "lzh": "lha", "deb": "ar", "ar": "ar", "cpio": "cpio", "rpm": "rpm",
    "xar": "xar", "arj": "arj", "zoo": "zoo", "arc": "arc",
}  # fmt: skip
"""Suffix → the format that a file of this name should be."""

FORMATS = (
    "zip", "7z", "rar", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst", "tar.lz4", "tar.lz", "tar.Z",
    "cpio", "rpm", "xar", "fat", "uu", "gz", "bz2", "xz", "zst", "lz", "Z",
)  # fmt: skip
LIBRARY_FORMATS = ("cab", "iso", "lha", "ar", "deb")
"""What can be read, in the words for people: by itself, and through libarchive."""


def open_archive(path: Path, access: Access | None = None, *, is_alone: bool = False) -> Archive:
    """Open the archive at a path, recognised by its content; any part of a split set may be given.

    `is_alone`: it belongs to no set, so the files beside it are not searched.

    Raises MachineError if nothing there can be opened; NotAnArchive, DamagedArchive or StillArriving for the content;
    PasswordNeeded or WrongPassword if even the listing is locked. A reader's libraries are imported only when its
    format is found.
    """
    refuse_arriving(path)
    parts = set_of_tar(path) or SplitSet((path,), path.name) if is_alone else split_set_of(path)
    sources = _open_files(parts.paths)
    access = access or Access()
    allowance = Allowance(access.limits, parts.name, str(parts.paths[0]), sum(source.size for source in sources))
    head = sources[0].read_at(0, HEAD)
    try:
        archive = _open_by_content(parts, sources, access, allowance)
        if access.rescues:
            from usufruct.archives.rescue import RescuedArchive

            archive = RescuedArchive(archive)
    except BaseException as error:
        may_rescue = isinstance(error, DamagedArchive) and not access.rescues and _may_rescue(head)
        for source in sources:
            source.close()
        if isinstance(error, DamagedArchive) and _is_growing(parts.paths[-1], sources[-1].size):
            raise _still_arriving(parts.paths[-1]) from error
        if isinstance(error, DamagedArchive) and parts.part:
            error = IncompleteArchive(
                f"{parts.name} is part {parts.part} of a split archive, and the other parts are missing.",
                kept=error.kept,
                remedy="Put all parts into one folder, then name any of them.",
                path=error.path,
            )
        elif isinstance(error, DamagedArchive) and parts.is_numbered:
            remedy = f"Is part {len(parts.paths) + 1} missing? Otherwise download the parts again."
            error = IncompleteArchive(error.message, kept=error.kept, remedy=remedy, path=error.path)
        if isinstance(error, DamagedArchive) and may_rescue:
            error.remedy += " If there is no other, `--rescue` takes the files that are intact."
        raise error
    archive.facts.volumes = tuple(map(str, parts.paths))
    archive.facts.said_format = _said_otherwise(path, archive.format)
    return archive


def _may_rescue(head: bytes) -> bool:
    """Whether the format of a damaged file describes each entry right before it."""
    return begins_archive(head) and not head.startswith((SEVEN_MARK, XAR_MARK, *LIBRARY_MARKS))


def open_nested(path: str, name: str, source: Source, access: Access, allowance: Allowance) -> Archive:
    """Open an archive inside another, whose bytes are in `source`; raises what `open_archive` does.

    Its demands count towards the limits of the outermost one.
    """
    parts = SplitSet((Path(path) / name,), name)
    return _open_by_content(parts, [source], access, allowance, path=path)


def _open_files(paths: tuple[Path, ...]) -> list[Source]:
    sources: list[Source] = []
    for path in paths:
        try:
            mode = path.stat().st_mode
            if stat.S_ISDIR(mode):
                raise MachineError(f"{path} is a folder.", remedy="Name an archive in it.", path=str(path))
            if not stat.S_ISREG(mode):
                # Opening a pipe would block until somebody writes to it.
                kinds = ((stat.S_ISFIFO, "pipe"), (stat.S_ISSOCK, "socket"))
                kind = next((word for is_kind, word in kinds if is_kind(mode)), "device")
                raise MachineError(f"{path} is a {kind}, not a file.", remedy="Name a file.", path=str(path))
            sources.append(FileSource(path))
        except FileNotFoundError as error:
            if address := _ADDRESS.search(str(path)):
                raise WrongUsage(
                    f"{address[1]}://{address[2]} is an address; Usufruct does not download anything.",
                    remedy="Download it with your browser, and name the file.",
                ) from error
            raise MachineError(
                f"There is no file {path}.", remedy="Check its name; `ls` lists the folder.", path=str(path)
            ) from error
        except OSError as error:
            raise MachineError(
                f"{path} cannot be opened: {error.strerror}.", remedy="Check its permissions.", path=str(path)
            ) from error
    return sources


def _open_by_content(
    parts: SplitSet, sources: list[Source], access: Access, allowance: Allowance, path: str = ""
) -> Archive:
    """Open the archive, together with what precedes or follows it in the same file."""
    first = _open_one(parts, sources, access, allowance, path)
    if access.rescues or first.extent == (0, first.size):
        return first
    from usufruct.archives.glued import with_what_is_beside

    def open_part(source: Source, name: str) -> Archive:
        part = SplitSet(parts.paths[:1], name)
        return _open_one(part, [source], access, allowance, path or str(parts.paths[0]))

    whole = sources[0] if len(sources) == 1 else JoinedSource(sources)
    return with_what_is_beside(first, whole, open_part, allowance)


def _open_one(parts: SplitSet, sources: list[Source], access: Access, allowance: Allowance, path: str = "") -> Archive:
    name = parts.name
    is_nested, path = bool(path), path or str(parts.paths[0])
    head = sources[0].read_at(0, HEAD)
    if head.startswith((RAR5_MARK, RAR4_MARK)):
        from usufruct.archives.rar.reader import RarArchive

        return RarArchive(path, name, sources, access, allowance)
    if parts.is_taped:
        from usufruct.archives.tar.volumes import TarVolumes

        return TarVolumes(path, name, sources, access, allowance)
    whole = sources[0] if len(sources) == 1 else JoinedSource(sources)
    for mark, compression in COMPRESSIONS.items():
        if head.startswith(mark):
            return _open_compressed(path, name, whole, compression, access, allowance)
    if head.startswith(SEVEN_MARK):
        from usufruct.archives.seven.reader import SevenArchive

        return SevenArchive(path, name, whole, access, allowance)
    if is_tar_block(head, name):
        from usufruct.archives.tar.reader import TarArchive

        return TarArchive(path, name, whole, "", access, allowance)
    if begins_cpio(head):
        from usufruct.archives.cpio.reader import CpioArchive

        return CpioArchive(path, name, whole, "", access, allowance)
    if head.startswith(XAR_MARK):
        from usufruct.archives.xar.reader import XarArchive

        return XarArchive(path, name, whole, access, allowance)
    if head.startswith(RPM_MARK):
        return _open_rpm(path, name, whole, access, allowance)
    is_zip = head.startswith((b"PK\x03\x04", b"PK\x05\x06", b"PK\x07\x08"))
    if not is_zip and (kind := _library_kind(head, whole)):
        from usufruct.archives.library.reader import LibraryArchive

        return LibraryArchive(path, name, whole, kind, access, allowance)
    if not is_zip and begins_fat(head):
        from usufruct.archives.fat.reader import FatImage

        return FatImage(path, name, whole, access, allowance)
    if begins_uuencoded(head):
        from usufruct.archives.uuencoded import UuencodedFile

        return UuencodedFile(path, name, whole, access, allowance)
    if is_zip and not is_nested and (document := packed_document(whole)):
        raise _no_archive(name, path, document)
    if is_zip or b"PK\x05\x06" in whole.read_at(max(0, whole.size - _ZIP_END_SEARCH), _ZIP_END_SEARCH):
        return _open_zip(path, name, whole, access, allowance)
    if head.startswith((b"MZ", b"\x7fELF", b"#!")) and (
        carried := _open_carried(path, name, sources, access, allowance)
    ):
        return carried
    raise _fault_of(name, path, whole)


def _fault_of(name: str, path: str, whole: Source) -> ArchiveError:
    """Return why a file in no readable format cannot be opened."""
    if foreign := foreign_kind(whole):
        return UnreadableArchive(f"{name} is {foreign.what}, which cannot be read.", remedy=foreign.remedy, path=path)
    if found := recognised(whole, expects_archive=bool(_said_format(name))):
        return _no_archive(name, path, found)
    if _said_format(name):
        return DamagedArchive(
            f"{name} is called an archive, but nothing in it is one: it is damaged or not completely downloaded.",
            remedy="Download it again.",
            path=path,
        )
    return NotAnArchive(
        f"{name} is not an archive that can be read.",
        remedy="`usufruct --version` lists the formats that can be read here.",
        path=path,
    )


def _no_archive(name: str, path: str, found: Recognised) -> ArchiveError:
    """Return the error for a file that is something else; detailed if its name promises an archive."""
    if _said_format(name):
        message = f"{name} is called an archive, but is {found.what}."
        return Misnamed(f"{message} {found.meaning}".strip(), remedy=found.remedy, path=path)
    error = NotAnArchive(f"{name} is {found.what}, not an archive.", remedy=found.remedy, path=path)
    error.what = found.what
    return error


def _library_kind(head: bytes, source: Source) -> str | None:
    for mark, kind in LIBRARY_MARKS.items():
        if head.startswith(mark):
            return kind
    if head[2:3] == b"-" and head[3:5] in (b"lh", b"lz", b"pm") and head[6:7] == b"-":
        return "lha"
    return "iso" if source.read_at(_ISO_MARK_AT, 5) == b"CD001" else None


def _open_compressed(
    path: str, name: str, source: Source, compression: str, access: Access, allowance: Allowance
) -> Archive:
    from usufruct.archives.streams.decompress import PACKING_ERRORS, plain_stream, until_broken
    from usufruct.files.sources import as_file

    try:
        with as_file(source) as file, plain_stream(file, compression, allowance) as plain:
            read = until_broken(plain) if access.rescues else plain.read
            block = b""
            while len(block) < HEAD and (more := read(HEAD - len(block))):
                block += more
    except ImportError as error:
        raise UnreadableArchive(
            f"{name} is compressed with {compression}, for which a library is missing.",
            remedy=f"`pip install 'usufruct[{compression}]'` adds it; then try again.",
            path=path,
        ) from error
    except PACKING_ERRORS as error:
        raise DamagedArchive(
            f"{name} is compressed with {compression}, but is damaged at its start: {error}.",
            remedy="Download it again.",
            path=path,
        ) from error
    if is_tar_block(block, name):
        from usufruct.archives.tar.reader import TarArchive

        return TarArchive(path, name, source, compression, access, allowance)
    if begins_cpio(block):
        from usufruct.archives.cpio.reader import CpioArchive

        return CpioArchive(path, name, source, compression, access, allowance)
    from usufruct.archives.single_reader import SingleFile

    return SingleFile(path, name, source, compression, access, allowance)


def _open_zip(path: str, name: str, source: Source, access: Access, allowance: Allowance) -> Archive:
    from usufruct.archives.zip.reader import ZipArchive

    if not access.rescues:
        return ZipArchive(path, name, source, access, allowance)
    from usufruct.archives.zip.repair import directory_of

    try:
        # Closed with the archive, but not if it turns out to have no directory.
        part = SliceSource(source, 0)
        archive = ZipArchive(path, name, part, access, allowance)
        part.owns_whole = True
    except DamagedArchive:
        directory, lost = directory_of(source, allowance.keep)
        archive = ZipArchive(path, name, JoinedSource([source, directory]), access, allowance)
        archive.facts.lost, archive.size = lost, source.size
    return archive


def _open_rpm(path: str, name: str, source: Source, access: Access, allowance: Allowance) -> Archive:
    from usufruct.archives.cpio.reader import RpmArchive, content_of_rpm

    content = content_of_rpm(path, name, source)
    head = content.read_at(0, HEAD)
    packings = [compression for mark, compression in COMPRESSIONS.items() if head.startswith(mark)]
    if not packings and not begins_cpio(head):
        raise UnreadableArchive(
            f"{name} is an rpm package, whose content is packed in a way that cannot be read.",
            remedy="Unpack it with the program that made it, and pack its content as zip or 7z.",
            path=path,
        )
    return RpmArchive(path, name, source, content, packings[0] if packings else "", access, allowance)


def _open_carried(path: str, name: str, sources: list[Source], access: Access, allowance: Allowance) -> Archive | None:
    """Open the archive in a self-extracting program; a zip in it is found by its end like any other."""
    start = sources[0].read_at(0, _CARRIED_SEARCH + 8)
    openers: dict[bytes, Callable[[list[Source]], Archive]] = {}

    def open_rar(carried: list[Source]) -> Archive:
        from usufruct.archives.rar.reader import RarArchive

        return RarArchive(path, name, carried, access, allowance)

    def open_seven(carried: list[Source]) -> Archive:
        from usufruct.archives.seven.reader import SevenArchive

        return SevenArchive(path, name, carried[0] if len(carried) == 1 else JoinedSource(carried), access, allowance)

    openers = {RAR5_MARK: open_rar, RAR4_MARK: open_rar, SEVEN_MARK: open_seven}
    for mark, opener in openers.items():
        at, tried = start.find(mark), 0
        while at > 0 and (tried := tried + 1) <= _MOST_MARKS:
            try:
                part = SliceSource(sources[0], at)
                archive = opener([part, *sources[1:]])
            except DamagedArchive:
                # The program's own code may contain the signature as well.
                at = start.find(mark, at + 1)
                continue
            archive.facts.is_program = part.owns_whole = True
            archive.extent = (at + archive.extent[0], at + archive.extent[1])
            return archive
    return None


def is_tar_block(block: bytes, name: str) -> bool:
    """Whether a file with these first 512 bytes is a tar.

    An empty tar is all zeros, as many other files are, so its name decides.
    """
    if len(block) == HEAD and not any(block):
        return _said_format(name).startswith("tar")
    return begins_with_header(block)


def _said_format(name: str) -> str:
    """Return the format that a file's name promises; empty if none."""
    *rest, suffix = name.lower().split(".")
    said = _SAID.get(suffix, "")
    is_stream = bool(rest[1:]) and rest[-1] in ("tar", "cpio") and said in COMPRESSIONS.values()
    return f"{rest[-1]}.{said}" if is_stream else said


def _said_otherwise(path: Path, found: str) -> str:
    said = _said_format(path.name)
    found = "rar" if found.startswith("rar") else found
    return said if said and said != found else ""


def is_arriving(path: Path) -> bool:
    """Whether a file's name says that a browser is still writing it."""
    return path.name.lower().endswith(_ARRIVING)


def refuse_arriving(path: Path) -> None:
    """Raise StillArriving for a browser's temporary file, and for the name it reserves for the finished one."""
    if is_arriving(path) and path.is_file():
        raise _still_arriving(path)
    # One browser reserves the final name with an empty file and fills another beside it.
    if path.is_file() and not path.stat().st_size and any(path.with_name(path.name + s).exists() for s in _ARRIVING):
        raise _still_arriving(path)


def _is_growing(path: Path, size: int) -> bool:
    try:
        found = path.stat()
    except OSError:
        return False
    if found.st_size == size and 0 <= time.time() - found.st_mtime < _RECENT:
        time.sleep(_MOMENT)
        found = path.stat()
    return found.st_size != size


def _still_arriving(path: Path) -> StillArriving:
    return StillArriving(
        f"{path.name} is still arriving: its download is not complete.",
        remedy="Wait until the download is finished, then try again.",
        path=str(path),
    )
