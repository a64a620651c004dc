"""The first bytes by which archives are recognised."""

import re

from usufruct.archives.cpio.headers import begins_cpio
from usufruct.archives.streams.zstd import MARKS as ZST_MARKS

HEAD = 512
"""Bytes by which a file is told."""
_TAR_SUM = slice(148, 156)
"""Where a tar's header has its checksum, in octal digits."""

XAR_MARK = b"xar!"
RPM_MARK = b"\xed\xab\xee\xdb"
SEVEN_MARK = b"7z\xbc\xaf\x27\x1c"
RAR5_MARK, RAR4_MARK = b"Rar!\x1a\x07\x01\x00", b"Rar!\x1a\x07\x00"
UUENCODED = re.compile(rb"begin(-base64)? ([0-7]{3,4}) ([^\r\n]+)\r?\n")
COMPRESSIONS = {
    b"\x1f\x8b\x08": "gz",
    b"BZh": "bz2",
    b"\xfd7zXZ\0": "xz",
    # Multi-threaded packers begin with a skippable frame.
    **dict.fromkeys(ZST_MARKS, "zst"),
    b"\x04\x22\x4d\x18": "lz4",
    b"\x5d\0\0": "lzma",
    b"LZIP": "lz",
    # Two bytes alone would match too many files, so include the possible code widths.
    **{bytes((0x1F, 0x9D, flag | width)): "Z" for flag in (0x80, 0) for width in range(9, 17)},
}
LIBRARY_MARKS = {
    b"MSCF\0\0\0\0": "cab",
    b"!<arch>\n": "ar",
}
"""Marks of what libarchive reads → the format."""


def begins_uuencoded(head: bytes) -> bool:
    """Whether a file with these first bytes is uuencoded text."""
    return UUENCODED.match(head.lstrip(b"\r\n\t ")) is not None


def begins_archive(head: bytes) -> bool:
    """Whether these 512 first bytes are those of an archive; a single compressed file counts as one."""
    marks = (
        RAR5_MARK,
        RAR4_MARK,
        SEVEN_MARK,
        RPM_MARK,
        XAR_MARK,
        b"PK\x03\x04",
        b"PK\x05\x06",
        *COMPRESSIONS,
        *LIBRARY_MARKS,
    )
    return head.startswith(marks) or begins_cpio(head) or begins_with_header(head)


def begins_with_header(block: bytes) -> bool:
    """Whether these 512 bytes are the header of a tar member, by its checksum."""
    if not block[_TAR_SUM].strip(b"\0 ").isdigit():
        return False
    # Only for what looks like one.
    from usufruct.archives.tar.headers import begins_tar

    return begins_tar(block)
