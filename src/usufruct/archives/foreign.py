"""Archives of formats that are recognised and named, but not read.

Source: the magic database of `file`.
"""

from collections.abc import Callable

_ZOO_MARK_AT = 20
_ARJ_LARGEST_HEADER = 2600
_ARC_NAME = slice(2, 15)
"""Where arc keeps a name, which ends in a zero."""


def _is_arj(head: bytes) -> bool:
    return head.startswith(b"\x60\xea") and 0 < int.from_bytes(head[2:4], "little") <= _ARJ_LARGEST_HEADER


def _is_arc(head: bytes) -> bool:
    name, ended, _ = head[_ARC_NAME].partition(b"\0")
    return head[:1] == b"\x1a" and 1 <= head[1] <= 9 and bool(name and ended) and all(0x20 < c < 0x7F for c in name)


def _begins(mark: bytes, at: int = 0) -> Callable[[bytes], bool]:
    return lambda head: head[at : at + len(mark)] == mark


_KINDS: dict[str, Callable[[bytes], bool]] = {
    "a file packed with lzop": _begins(b"\x89LZO\0"),
    "an archive of the very first RAR, 1.4 or older": _begins(b"RE~^"),
    "an archive of an old Macintosh packer": _begins(b"SIT!"),
    "an ace archive": _begins(b"**ACE**", 7),
    "an arj archive": _is_arj,
    "a zoo archive": _begins(b"\xdc\xa7\xc4\xfd", _ZOO_MARK_AT),
    "an arc archive": _is_arc,
}
"""In words, with the article → whether a file's first 512 bytes are those of one."""


def foreign_kind(head: bytes) -> str | None:
    """What a file is by its first bytes, if it is of a format that is known by name only."""
    return next((what for what, fits in _KINDS.items() if fits(head)), None)
