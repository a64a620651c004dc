"""Files encoded as text for mail: uuencode, and its base64 variant.

Source: IEEE Std 1003.1 (POSIX), the utility uuencode, "Outputs".
"""

import binascii
from collections.abc import Iterator

from msgspec import Struct

from usufruct.archives.allowance import Allowance
from usufruct.archives.damage import damaged
from usufruct.archives.marks import UUENCODED
from usufruct.archives.names import decoded, encoding_for
from usufruct.archives.opened import OpenedFile
from usufruct.archives.reading import BLOCK, Access
from usufruct.files.sources import Source
from usufruct.model.entries import EntryKind
from usufruct.model.facts import Facts

_LONGEST_LINE = 1024
_READ = 1 << 16


class _TextFault(Exception):
    """The text is invalid."""


class _Encoded(Struct, frozen=True):
    """One file in the text."""

    start: int
    """Where its first line of content is."""
    is_base64: bool


class UuencodedFile(OpenedFile):
    """One or several encoded files, open. See `Archive`.

    The text does not state sizes, so it is read once to learn them.
    """

    format = "uu"
    is_divisible = True

    def __init__(self, path: str, name: str, source: Source, access: Access, allowance: Allowance) -> None:
        super().__init__(path, name, source, access, allowance, Facts(packing=("uuencode",), has_checksums=False))
        self._encoded: dict[int, _Encoded] = {}
        """Row → where it is."""
        with self._closed_on_failure():
            self._read_listing()

    def _content_of(self, row: int) -> Iterator[bytes]:
        waiting: list[bytes] = []
        size = 0
        try:
            for _, piece in self._pieces(self._encoded[row]):
                waiting.append(piece)
                size += len(piece)
                if size >= BLOCK - _LONGEST_LINE:
                    yield b"".join(waiting)
                    waiting, size = [], 0
        except _TextFault as fault:
            raise damaged(self, fault) from fault
        if waiting:
            yield b"".join(waiting)

    def _read_listing(self) -> None:
        at = self._past_blanks(0)
        while begin := UUENCODED.match(self._source.read_at(at, _LONGEST_LINE)):
            encoded = _Encoded(at + begin.end(), begin[1] is not None)
            size, end = 0, encoded.start
            try:
                for end, piece in self._pieces(encoded):  # noqa: B007
                    size += len(piece)
            except _TextFault as fault:
                raise damaged(self, fault) from fault
            raw = begin[3].strip()
            encoding = "ascii" if raw.isascii() else encoding_for([raw], self._access.names).tell(self.facts)
            can_run = bool(int(begin[2], 8) & 0o111)
            # A path in the name is the sender's own directory.
            last = decoded(raw, encoding).replace("\\", "/").rpartition("/")[2]
            row = self._rows.enter(last, EntryKind.FILE, size, None, can_run=can_run)
            if row is not None:
                self._encoded[row] = encoded
            at = self._past_blanks(end)
        self.extent = (0, at)

    def _pieces(self, encoded: _Encoded) -> Iterator[tuple[int, bytes]]:
        """Yield the content of each line, and where the next begins; raises _TextFault if the end is missing."""
        is_base64 = encoded.is_base64
        for end, line in self._lines(encoded.start):
            text = line.rstrip(b"\r")
            if text == b"====" if is_base64 else text.rstrip() == b"end":
                yield end, b""
                return
            try:
                if is_base64:
                    piece = binascii.a2b_base64(text, strict_mode=True) if text.strip() else b""
                else:
                    piece = binascii.a2b_uu(text) if text else b""
            except binascii.Error as error:
                raise _TextFault(f"a line is damaged ({error})") from error
            yield end, piece
        raise _TextFault("it breaks off")

    def _lines(self, start: int) -> Iterator[tuple[int, bytes]]:
        """Yield each line from an offset on, and where it ends."""
        at, rest = start, b""
        while block := self._source.read_at(at + len(rest), _READ):
            *lines, rest = (rest + block).split(b"\n")
            for line in lines:
                at += len(line) + 1
                yield at, line
            if len(rest) > _LONGEST_LINE:
                raise _TextFault("a line has no end")
        if rest:
            yield at + len(rest), rest

    def _past_blanks(self, at: int) -> int:
        """Return where the next text begins after blank lines."""
        while block := self._source.read_at(at, _READ):
            left = block.lstrip(b"\r\n\t ")
            at += len(block) - len(left)
            if left:
                break
        return at
