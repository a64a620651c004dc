"""Names of entries that do not say their encoding: one guess for the archive as a whole."""

from collections.abc import Sequence

_SAMPLE = 1 << 16
"""Bytes of names that the guess is made on."""
_FROM_DOS = ["cp437", "cp850", "cp852", "cp866", "cp932", "gb18030", "big5", "cp949"]
"""Code pages that DOS and Windows packers wrote names in."""
_FROM_ELSEWHERE = ["cp1252", "cp1251", "koi8_r", "euc_jp", "cp1250", "cp1253", "cp1254", *_FROM_DOS]
"""And what other systems had. Any further encoding would fit a few bytes only by chance."""
MET = tuple(dict.fromkeys(["utf-8", *_FROM_DOS, *_FROM_ELSEWHERE]))
"""Encodings that names in old archives are met in, those of DOS first."""
_OLD_ZIP = "cp437"
"""What old zips were meant to be in; every byte means something there."""


def encoding_for(names: Sequence[bytes], wanted: str | None, *, is_from_dos: bool = False) -> tuple[str, bool]:
    """The encoding of these raw names, none of which is plain ASCII, and whether it is a guess.

    Names that are all valid UTF-8 are that: no other encoding looks like it by chance. `is_from_dos`: a packer of
    DOS or Windows wrote them.
    """
    if wanted:
        return wanted, False
    sample = b"\n".join(names)[:_SAMPLE]
    try:
        sample.decode("utf-8")
    except UnicodeDecodeError:
        pass
    else:
        return "utf-8", True
    # Only for names that need it: the library takes as long to import as a small archive to place.
    from charset_normalizer import from_bytes

    met = _FROM_DOS if is_from_dos else _FROM_ELSEWHERE
    best = from_bytes(sample, cp_isolation=met, threshold=0.5, enable_fallback=False).best()
    return (best.encoding if best else _OLD_ZIP), True


def decoded(raw: bytes, encoding: str) -> str:
    """A raw name as text; bytes that the encoding does not know become the replacement character."""
    return raw.decode("ascii") if raw.isascii() else raw.decode(encoding, "replace")
