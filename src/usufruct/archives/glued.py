"""Find what precedes or follows an archive in one file: padding, a program, a signature, another archive."""

from collections.abc import Callable, Sequence

from usufruct.archives.allowance import Allowance
from usufruct.archives.compound import Compound, facts_together
from usufruct.archives.reading import BLOCK, Archive
from usufruct.errors import ArchiveError, UnsafeArchive
from usufruct.files.sources import SliceSource, Source

_MOST = 100
"""Archives in one file, one behind the other; of what follows only the place and size are told."""
_SIGNED_DATA = bytes.fromhex("06092a864886f70d010702")
"""RFC 5652, chapter 5: the name of the type that a signature is of, near its beginning."""
_SIGNATURES = (b"-----BEGIN PGP SIGNATURE-----", b"Cr24")
"""First bytes of a signature in text, and of the signed head before a browser's extension."""

Opener = Callable[[Source, str], Archive]
"""Opens the archive that some bytes are, called by a name; raises as `open_archive` does."""


def with_what_is_beside(first: Archive, source: Source, open_part: Opener, allowance: Allowance) -> Archive:
    """Return the archive, with those before and after it in the file as archives inside, called `NAME#2` and so on.

    Bytes that are neither an archive nor recognised otherwise are reported in its facts.
    """
    begin, end = first.extent
    members, unread = [(begin, first)], list(first.facts.unread)
    left = [(0, begin), (end, source.size)]
    try:
        while left:
            start, stop = left.pop()
            start = _past_zeros(source, start, stop)
            if start >= stop or (not start and first.facts.is_program) or _is_signature(source, start):
                continue
            part = _opened(source, start, stop, open_part, f"{first.name}#{len(members) + 1}", len(members))
            if part is None:
                unread.append((start, stop - start))
                continue
            members.append((start, part))
            unread += part.facts.unread
            left += [(start, start + part.extent[0]), (start + part.extent[1], stop)]
    except BaseException:
        for _, archive in members:
            archive.close()
        raise
    if len(members) > 1:
        in_order = [archive for _, archive in sorted(members, key=lambda member: member[0])]
        first = _together(first.name, in_order, source, allowance)
    first.facts.unread = tuple(sorted(unread))
    return first


def _opened(source: Source, start: int, stop: int, open_part: Opener, name: str, count: int) -> Archive | None:
    if count >= _MOST:
        return None
    try:
        return open_part(SliceSource(source, start, stop - start), name)
    except UnsafeArchive:
        raise
    except ArchiveError:
        return None


def _together(name: str, archives: Sequence[Archive], source: Source, allowance: Allowance) -> Compound:
    together = Compound(archives[0], size=source.size, facts=facts_together(archives), allowance=allowance)
    together.name = name
    together.facts.behind += len(archives) - 1
    number = 1
    for archive in archives:
        together.take(archive, f"{name}#{number}" if number > 1 else "")
        # A tar after a tar was read with the first one, and has a number already.
        number += 1 + archive.facts.behind
    return together


def _past_zeros(source: Source, start: int, stop: int) -> int:
    """Return the offset of the first byte that is not zero."""
    while start < stop:
        block = source.read_at(start, min(BLOCK, stop - start))
        count = len(block) - len(block.lstrip(b"\0"))
        start += count
        if count < len(block) or not block:
            break
    return start


def _is_signature(source: Source, start: int) -> bool:
    head = source.read_at(start, 64)
    return head.startswith(_SIGNATURES) or _SIGNED_DATA in head
