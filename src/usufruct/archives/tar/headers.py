"""The headers of tar: classic, GNU and pax, with long names and sparse files.

The layouts are those of POSIX (pax, ustar) and of the manual of GNU tar, chapter "Tar Internals".

Our own parser, because the standard reader makes an object with dozens of fields for each member, and copies its whole
buffer for each header of a stream.
"""

from array import array
from collections.abc import Iterator

from msgspec import Struct, field

from usufruct.archives.allowance import Allowance
from usufruct.archives.members import Forward, MemberFault, StreamMember, VolumeFault

RECORD = 512
"""Bytes: POSIX, ustar Interchange Format."""
_LONGEST_NAME = 1 << 16
"""Bytes of a long name or of pax fields: more is no name."""
_LONGEST_PAX = 1 << 20
"""Bytes of a member's extended header: paths and times take a few hundred."""
_NO_CONTENT = b"VAEI"
"""Kinds that are no members: a volume's label, access lists and attributes of the next member."""
_MEANT = frozenset(
    {b"path", b"linkpath", b"mtime", b"size"}
    | {b"GNU.sparse." + word for word in (b"name", b"map", b"size", b"realsize", b"major")}
)
"""Fields of pax headers that are kept."""
_PIECES = 21
"""Pieces in each further block of an old sparse map."""


class _Said(Struct):
    """What preceding headers say about a member."""

    name: bytes | None = None
    target: bytes | None = None
    pax: dict[str, bytes] = field(default_factory=dict)


def begins_tar(block: bytes) -> bool:
    """Whether 512 bytes are the header of a member, by its checksum."""
    if len(block) < RECORD or not any(block):
        return False
    try:
        stated = int(block[148:156].strip(b"\0 ") or b"0", 8)
    except ValueError:
        return False
    return stated == sum(block[:148]) + 8 * 32 + sum(block[156:])


def members_of(data: Forward, allowance: Allowance) -> Iterator[StreamMember]:
    """Yield every member in order; read its data from `data` before the next is requested.

    Data in between is counted against the allowance before it is read or skipped. Raises MemberFault.
    """
    everywhere: dict[str, bytes] = {}
    said = _Said()
    while True:
        block = data.take(RECORD)
        if not block and data.offset:
            return  # some writers leave out the zeros at the end
        if len(block) < RECORD:
            raise MemberFault("it breaks off in the middle of a header")
        if not block.strip(b"\0"):
            return
        _check(block, data.offset - RECORD)
        size = number_in(block[124:136])
        kind = block[156:157]
        # A few kilobytes could unpack without end; the headers say how much is needed.
        allowance.may_read(data.offset + max(0, size))
        if size < 0:
            raise MemberFault(f"a header at byte {data.offset - RECORD} states a size of {size}")
        if kind in b"LK":
            text = _text(data, size, _LONGEST_NAME).rstrip(b"\0")
            said.name, said.target = (text, said.target) if kind == b"L" else (said.name, text)
        elif kind in b"xX":
            said.pax |= _pax(_text(data, size, _LONGEST_PAX), allowance)
        elif kind == b"g":
            text, is_first = _text(data, size, _LONGEST_PAX), data.offset <= 2 * RECORD
            if is_first and b" GNU.volume.offset=" in text:
                raise VolumeFault("it starts in the middle of a file")
            everywhere |= _pax(text, allowance)
        elif kind == b"M" and data.offset == RECORD:
            raise VolumeFault("it starts in the middle of a file")
        elif kind in _NO_CONTENT:
            data.skip(padded(size))
        else:
            # An incremental backup lists a directory's names after it; that is not content.
            member = _member(block, size, kind, said, everywhere | said.pax if everywhere or said.pax else said.pax)
            _find_pieces(data, block, kind, member, said.pax, allowance)
            said = _Said()
            end = member.offset + padded(member.stored)
            allowance.may_read(end)
            yield member
            data.skip(end - data.offset)


def padded(size: int) -> int:
    """Return this number of bytes rounded up to whole records."""
    return -(-size // RECORD) * RECORD


def _check(block: bytes, offset: int) -> None:
    try:
        stated = int(block[148:156].strip(b"\0 ") or b"0", 8)
    except ValueError:
        stated = -1
    if stated != sum(block) - sum(block[148:156]) + 256:
        # Some old writers added signed bytes.
        signed = sum(byte - 256 if byte > 127 else byte for byte in block[:148] + block[156:]) + 256
        if stated != signed:
            raise MemberFault(f"a header at byte {offset} does not match its checksum")


def number_in(text: bytes) -> int:
    """Return the number in a header field; raises MemberFault if there is none."""
    if text[0] & 0x80:
        value = int.from_bytes(text, "big") & ((1 << (8 * len(text) - 1)) - 1)
        return value - (1 << (8 * len(text) - 1)) if text[0] == 0xFF else value
    try:
        return int(text.split(b"\0", 1)[0].strip() or b"0", 8)
    except ValueError as error:
        raise MemberFault("a header holds no number where one must be") from error


def _text(data: Forward, size: int, most: int) -> bytes:
    if size > most:
        raise MemberFault(f"a name or field of {size} bytes")
    text = data.take(size)
    if len(text) < size:
        raise MemberFault("it breaks off in the middle of a header")
    data.skip(padded(size) - size)
    return text


def _pax(text: bytes, allowance: Allowance) -> dict[str, bytes]:
    """Return the fields of a pax header that matter here.

    Pieces of the oldest sparse format are collected in the form of the next one.
    """
    fields: dict[str, bytes] = {}
    allowance.fields(text.count(b"\n"))
    pieces: list[bytes] = []
    at = 0
    while at < len(text) and text[at : at + 1] != b"\0":
        space = text.find(b" ", at)
        try:
            length = int(text[at:space])
        except ValueError as error:
            raise MemberFault("a pax field has no length") from error
        record = text[space + 1 : at + length - 1]
        if length < 5 or space < 0 or at + length > len(text) or b"=" not in record:
            raise MemberFault("a pax field is broken")
        key, _, value = record.partition(b"=")
        if key in (b"GNU.sparse.offset", b"GNU.sparse.numbytes"):
            pieces.append(value)
        elif key in _MEANT:
            fields[key.decode("ascii")] = value
        at += length
    if pieces:
        fields["GNU.sparse.map"] = b",".join(pieces)
    return fields


def _member(block: bytes, size: int, kind: bytes, said: _Said, pax: dict[str, bytes]) -> StreamMember:
    name = said.name or block[:100].split(b"\0", 1)[0]
    if not said.name and block[257:262] == b"ustar" and block[257:265] != b"ustar  \0":
        prefix = block[345:500].split(b"\0", 1)[0]
        name = prefix + b"/" + name if prefix else name
    target = said.target or block[157:257].split(b"\0", 1)[0]
    modified = _time(block[136:148])
    is_text = False
    if pax:
        is_text = "path" in pax or "GNU.sparse.name" in pax
        name = pax.get("GNU.sparse.name") or pax.get("path") or name
        target = pax.get("linkpath") or target
        modified = _pax_time(pax["mtime"]) if "mtime" in pax else modified
        size = _decimal(pax["size"]) if "size" in pax else size
    word = {b"1": "hard link", b"2": "link", b"5": "directory", b"D": "directory", b"S": "file"}.get(kind)
    if word is None:
        # Unknown types are files, says the standard; devices, pipes and continued volumes are known.
        word = "other" if kind in b"346M" else "file"
    if word == "file" and kind == b"\0" and name.endswith(b"/"):
        word = "directory"
    stored = 0 if word in ("link", "directory", "other") and kind not in b"MD" else size
    if word == "hard link":
        # Its content is that of the named file. Old writers state that file's size, but store nothing.
        return StreamMember(name, word, 0, modified, number_in(block[100:108]), target, is_text=is_text)
    return StreamMember(name, word, stored, modified, number_in(block[100:108]), target, stored=stored, is_text=is_text)


def _decimal(text: bytes) -> int:
    try:
        value = int(text)
    except ValueError as error:
        raise MemberFault("a pax field holds no number where one must be") from error
    if value < 0:
        raise MemberFault("a pax field states a negative size")
    return value


def _time(text: bytes) -> int | None:
    """Return nanoseconds; None for an invalid number: the file matters more than its time."""
    try:
        return number_in(text) * 1_000_000_000
    except MemberFault:
        return None


def _pax_time(text: bytes) -> int | None:
    """Return nanoseconds likewise; exact, unlike a float."""
    seconds, _, fraction = text.decode("ascii", "replace").partition(".")
    try:
        nanoseconds = int((fraction + "000000000")[:9])
        return int(seconds) * 1_000_000_000 + (-nanoseconds if seconds.startswith("-") else nanoseconds)
    except ValueError:
        return None


def _find_pieces(
    data: Forward, block: bytes, kind: bytes, member: StreamMember, pax: dict[str, bytes], allowance: Allowance
) -> None:
    """Find where the member's data begins, and which pieces of a sparse file are stored."""
    pieces: array[int] | None = None
    real = member.size
    try:
        if kind == b"S":
            pieces, real = _old_map(data, block, allowance), number_in(block[483:495])
        elif "GNU.sparse.map" in pax:
            text = pax["GNU.sparse.map"]
            allowance.fields(text.count(b",") // 2)
            pieces = array("Q", [_decimal(number) for number in text.split(b",") if number])
            real = _decimal(pax.get("GNU.sparse.size") or pax.get("GNU.sparse.realsize") or b"0")
        elif pax.get("GNU.sparse.major") == b"1":
            before = data.offset
            pieces = _listed_map(data, allowance)
            real = _decimal(pax.get("GNU.sparse.realsize") or b"0")
            member.stored -= data.offset - before
    except OverflowError as error:
        raise MemberFault("the map of a sparse file is broken") from error
    member.offset = data.offset
    if pieces is None:
        return
    allowance.keep(pieces.itemsize * len(pieces))
    if len(pieces) % 2:
        pieces.pop()
    end = 0
    for offset, length in zip(pieces[::2], pieces[1::2], strict=True):
        if offset < end or offset + length > real:
            raise MemberFault("the map of a sparse file is broken")
        end = offset + length
    if sum(pieces[1::2]) != member.stored:
        raise MemberFault("the map of a sparse file is not as large as its data")
    member.size, member.pieces = real, pieces


def _old_map(data: Forward, block: bytes, allowance: Allowance) -> "array[int]":
    """Return the map that begins in the header and continues in the following blocks."""
    pieces = _old_pieces(block[386:482], 4)
    is_more = bool(block[482])
    while is_more:
        allowance.fields(_PIECES)
        more = data.take(RECORD)
        if len(more) < RECORD:
            raise MemberFault("it breaks off in the middle of a header")
        pieces += _old_pieces(more[: 24 * _PIECES], _PIECES)
        is_more = bool(more[504])
    return pieces


def _old_pieces(text: bytes, count: int) -> "array[int]":
    found = array("Q")
    for at in range(0, 24 * count, 24):
        if not text[at : at + 24].strip(b"\0"):
            break
        found.append(number_in(text[at : at + 12]))
        found.append(number_in(text[at + 12 : at + 24]))
    return found


def _listed_map(data: Forward, allowance: Allowance) -> "array[int]":
    """Return the map before the data: decimal numbers on lines, their count first, padded to whole records."""
    numbers = array("Q")
    rest, size = b"", 0
    while not numbers or len(numbers) <= 2 * numbers[0]:
        more = data.take(RECORD)
        size += len(more)
        if len(more) < RECORD or size > _LONGEST_PAX:
            raise MemberFault("the map of a sparse file breaks off")
        *lines, rest = (rest + more).split(b"\n")
        allowance.fields(len(lines) // 2)
        numbers.extend(_decimal(line) for line in lines if line.strip(b"\0"))
    return numbers[1 : 2 * numbers[0] + 1]
