"""Decode entry names whose encoding is not stated: one guess for the whole archive."""

from collections.abc import Sequence

from msgspec import Struct

from usufruct.model.facts import Facts

MET = (
    "utf-8", "cp437", "cp850", "cp852", "cp866", "cp932", "gb18030", "big5", "cp949", "cp1252", "cp1251", "koi8_r",
    "euc_jp", "cp1250", "cp1253", "cp1254",
)  # fmt: skip
"""Encodings that names in old archives are met in, those of DOS first."""
_OLD_ZIP = "cp437"
"""What old zips were meant to be in; every byte means something there."""


class Guess(Struct, frozen=True):
    """The encoding chosen for raw names."""

    encoding: str
    is_guessed: bool = True
    rival: str = ""
    """Another encoding that they may as well be in; empty where none is nearly as likely."""
    examples: tuple[tuple[str, str], ...] = ()
    """Some names as they are read in both."""

    def tell(self, facts: Facts) -> str:
        """Enter the guess into the facts of an archive; returns the encoding."""
        facts.encoding, facts.is_encoding_guessed = self.encoding, self.is_guessed
        facts.rival_encoding, facts.read_twice = self.rival, self.examples
        return self.encoding


def encoding_for(names: Sequence[bytes], wanted: str | None, *, is_from_dos: bool = False) -> Guess:
    """Return the encoding of these raw names, none of which is plain ASCII.

    Names that are all valid UTF-8 are UTF-8: other encodings do not look like it by chance. `is_from_dos`: a DOS or
    Windows program wrote them.
    """
    if wanted:
        return Guess(wanted, is_guessed=False)
    try:
        b"\n".join(names).decode("utf-8")
    except UnicodeDecodeError:
        pass
    else:
        return Guess("utf-8")
    # Only for names that need it.
    from usufruct.archives.readings import are_close, own_language, readings_of, told_apart

    found = readings_of(names, is_from_dos=is_from_dos, language=own_language())
    if not found:
        return Guess(_OLD_ZIP)
    best, *others = found
    if not others or not are_close(best, others[0]):
        return Guess(best.encoding)
    return Guess(best.encoding, rival=others[0].encoding, examples=told_apart(best, others[0]))


def decoded(raw: bytes, encoding: str) -> str:
    """Return a raw name as text; bytes that the encoding does not have become the replacement character."""
    return raw.decode("ascii") if raw.isascii() else raw.decode(encoding, "replace")
