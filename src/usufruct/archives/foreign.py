"""Name the formats of archives and disk images that are recognised but not read.

Source: the magic database of `file`.
"""

import re
from collections.abc import Callable

from msgspec import Struct

from usufruct.files.sources import Source

_PACK_ANEW = "Unpack it with the program that made it, and pack its content as zip or 7z."
_OPEN_IT = "Mount it, then add the folder that you need: `usufruct add FOLDER --unpacked`."
_DECODE = "Decode it (for example with `uudecode`), then add the decoded file."
_RUN_IT = (
    "It is a script that unpacks itself, and Usufruct never runs one. If you trust it, run it in an empty folder,"
    " then add that folder: `usufruct add FOLDER --unpacked`."
)
_REPAIR = "It only repairs a damaged download. Download the archive itself."

_HEAD = 2048
"""Bytes by which most are told."""
_ARJ_LARGEST_HEADER = 2600
_ARC_NAME = slice(2, 15)
"""Where arc keeps a name, which ends in a zero."""
_EXT_MARK_AT, _APPLE_MARK_AT, _BLOCK_MARK_AT = 0x438, 0x400, 510
"""In the superblock, the volume header, and the first block of a disk or a FAT volume."""
_VOLUMES_AT, _SECTOR, _SECTORS = 0x8000, 2048, 16
"""ECMA-167, chapter 2/8.3: where a volume says by what standards it is recorded, one in each sector."""
_TRAILER = 512
_SHELL_ARCHIVE = re.compile(rb"#!.{0,40}\n(#.{0,100}\n){0,3}# This is a shell archive|# This is a shell archive")


class Foreign(Struct, frozen=True):
    """A file in a format that is not read."""

    what: str
    """In words, with its article."""
    remedy: str = _PACK_ANEW


def _is_arj(head: bytes) -> bool:
    return head.startswith(b"\x60\xea") and 0 < int.from_bytes(head[2:4], "little") <= _ARJ_LARGEST_HEADER


def _is_arc(head: bytes) -> bool:
    name, ended, _ = head[_ARC_NAME].partition(b"\0")
    return head[:1] == b"\x1a" and 1 <= head[1] <= 9 and bool(name and ended) and all(0x20 < c < 0x7F for c in name)


def _is_disk(head: bytes) -> bool:
    """Whether it is a disk with a partition table."""
    types = head[450:510:16]
    return head[_BLOCK_MARK_AT : _BLOCK_MARK_AT + 2] == b"\x55\xaa" and (
        head[512:520] == b"EFI PART" or (any(types) and all(flag in (0, 0x80) for flag in head[446:510:16]))
    )


def _begins(*marks: bytes, at: int = 0) -> Callable[[bytes], bool]:
    return lambda head: head[at:].startswith(marks)


_BY_HEAD: dict[Foreign, Callable[[bytes], bool]] = {
    Foreign("a file packed with lzop"): _begins(b"\x89LZO\0"),
    Foreign("a file packed with lrzip"): _begins(b"LRZI"),
    Foreign("an archive of the very first RAR, 1.4 or older"): _begins(b"RE~^"),
    Foreign("an archive of an old Macintosh packer"): _begins(b"SIT!", b"\x53tuffIt "),
    Foreign("a BinHex file", _DECODE): _begins(b"(This file must be converted with BinHex"),
    Foreign("an ace archive"): _begins(b"**ACE**", at=7),
    Foreign("an arj archive"): _is_arj,
    Foreign("a zoo archive"): _begins(b"\xdc\xa7\xc4\xfd", at=20),
    Foreign("an arc archive"): _is_arc,
    Foreign("a Windows image (wim)"): _begins(b"MSWIM\0\0\0"),
    Foreign("a cabinet of an installer"): _begins(b"ISc("),
    Foreign("a set of repair blocks (par2)", _REPAIR): _begins(b"PAR2\0PKT"),
    Foreign("a shell archive (shar)", _RUN_IT): lambda h: bool(_SHELL_ARCHIVE.match(h)),
    Foreign("a compressed file system (squashfs)", _OPEN_IT): _begins(b"hsqs", b"sqsh"),
    Foreign("a compressed file system (cramfs)", _OPEN_IT): _begins(b"\x45\x3d\xcd\x28", b"\x28\xcd\x3d\x45"),
    Foreign("the disk of a virtual machine", _OPEN_IT): _begins(b"KDMV", b"QFI\xfb", b"conectix", b"vhdxfile"),
    Foreign("the image of an exFAT volume", _OPEN_IT): _begins(b"EXFAT   ", at=3),
    Foreign("the image of an NTFS volume", _OPEN_IT): _begins(b"NTFS    ", at=3),
    Foreign("the image of a Linux volume (ext)", _OPEN_IT): _begins(b"\x53\xef", at=_EXT_MARK_AT),
    Foreign("the image of a Macintosh volume (HFS)", _OPEN_IT): _begins(b"BD", b"H+\0", b"HX\0", at=_APPLE_MARK_AT),
    Foreign("the image of a disk", _OPEN_IT): _is_disk,
}
"""What it is → whether a file's first bytes are those of one."""


def is_udf(source: Source) -> bool:
    """Whether a disc image uses UDF, perhaps beside ISO 9660."""
    sectors = (source.read_at(_VOLUMES_AT + number * _SECTOR + 1, 5) for number in range(_SECTORS))
    return any(sector in (b"NSR02", b"NSR03") for sector in sectors)


def foreign_kind(source: Source) -> Foreign | None:
    """Return the format of a file that is recognised but not read, or None."""
    head = source.read_at(0, _HEAD)
    if found := next((what for what, fits in _BY_HEAD.items() if fits(head)), None):
        return found
    if is_udf(source):
        return Foreign("the image of a UDF disc", _OPEN_IT)
    if source.read_at(max(0, source.size - _TRAILER), 4) == b"koly":
        return Foreign("an Apple disk image (dmg)", _OPEN_IT)
    return None
