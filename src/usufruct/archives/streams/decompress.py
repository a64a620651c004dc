"""Decompress streams of blocks in constant memory, with the fastest common library."""

import bz2
import lzma
from collections.abc import Callable, Iterable, Iterator
from functools import partial
from itertools import chain
from typing import IO, Protocol, cast

from deflate import DeflateError, deflate_decompress

from usufruct.archives.allowance import SHORT, Allowance
from usufruct.archives.reading import BLOCK
from usufruct.archives.streams import zlib_engine
from usufruct.archives.streams.zstd import MARKS, zstd

_STEP = 1 << 18
"""Packed bytes of a whole file that are read at once."""
_BITE = 1 << 17
"""Packed bytes given at once to a library that bounds its output."""
_BESIDE = 1 << 20
"""Bytes that a library takes besides the dictionary."""
_LARGEST_WINDOW = 1 << 31
"""Bytes of a dictionary that the library for Zstandard can be told to accept."""
_MOST_OF_ENTRY = 128 << 20
"""Bytes that the dictionary of one entry may take."""
_SMALL = 512
"""Bytes that are unpacked at once of what is known to be broken somewhere."""
_PIECE = 1024
"""Packed bytes given at once to a library that does not bound its output; they unpack to about a megabyte at most."""

Decompressor = Callable[[Iterable[bytes]], Iterator[bytes]]

PACKING_ERRORS: tuple[type[Exception], ...] = (
    *zlib_engine.errors,
    lzma.LZMAError,
    zstd.ZstdError,
    OSError,
    EOFError,
    ValueError,
    RuntimeError,
)
"""What the libraries raise when packed bytes do not hold together."""


class Ended:
    """Where in the packed file the last stream ended; None until it was read to there, or if at the end."""

    at: int | None = None

    def tell(self, at: int) -> None:
        """Record that something else follows."""
        self.at = at


def plain_stream(file: IO[bytes], compression: str, allowance: Allowance, ended: Ended | None = None) -> IO[bytes]:
    """Return the decompressed bytes of a whole compressed file, as a file to read forwards.

    Reading raises UnsafeArchive if unpacking would take more memory than allowed. Data after the last stream is not
    read; `ended` says where it begins.
    """
    ended = ended or Ended()
    most = allowance.most_dictionary
    match compression:
        case "gz":
            return _as_stream(_all_streams(file, _GzipMember, b"\x1f\x8b", allowance, b"\0", ended, _BITE))
        case "bz2":
            return _as_stream(_all_streams(file, bz2.BZ2Decompressor, b"BZh", allowance, b"\0", ended))
        case "xz":
            engine = partial(lzma.LZMADecompressor, lzma.FORMAT_XZ, most + _BESIDE)
            return _as_stream(_within(allowance, _all_streams(file, engine, b"\xfd7zXZ", allowance, b"\0", ended)))
        case "lzma":
            engine = partial(lzma.LZMADecompressor, lzma.FORMAT_AUTO, most + _BESIDE)
            return _as_stream(_within(allowance, _all_streams(file, engine, b"\x5d\0\0", allowance, b"\0", ended)))
        case "lz":
            from usufruct.archives.streams.lzip import unlzip

            return _as_stream(unlzip(file, allowance, ended.tell))
        case "Z":
            return _as_stream(_uncompressed(file))
        case "zst":
            largest = min(most, _LARGEST_WINDOW).bit_length() - 1
            bounds: dict[int, int] = {zstd.DecompressionParameter.window_log_max: largest}
            decoder = partial(zstd.ZstdDecompressor, options=bounds)
            return _as_stream(_within(allowance, _all_streams(file, decoder, MARKS, allowance, b"\0", ended)))
        case "lz4":
            import lz4.frame

            return cast(IO[bytes], lz4.frame.LZ4FrameFile(file))
        case _:
            return file


def _all_streams(
    file: IO[bytes],
    engine: "Callable[[], _Bounded]",
    marks: bytes | tuple[bytes, ...],
    allowance: Allowance | None = None,
    fill: bytes = b"",
    ended: Ended | None = None,
    step: int = _STEP,
) -> Iterator[bytes]:
    """Yield the unpacked bytes of all streams of a file, one after the other.

    Each begins with one of `marks`; `fill` may stand between and after them. `allowance` counts nearly empty ones.
    `ended` learns where the last one ends, if something else follows. The steps are larger than those of the standard
    file objects, which let no other thread run.
    """
    longest = len(marks) if isinstance(marks, bytes) else max(map(len, marks))
    taken = 0

    def more() -> bytes:
        nonlocal taken
        block = file.read(step)
        taken += len(block)
        return block

    packed = more()
    if not packed:
        raise EOFError("the packed bytes end too early")
    while packed:
        one, size = engine(), 0
        while not one.eof:
            if one.needs_input:
                packed = packed or more()
                if not packed:
                    raise EOFError("the packed bytes end too early")
                given, packed = packed, b""
                plain = one.decompress(given, BLOCK)
            else:
                plain = one.decompress(b"", BLOCK)
            size += len(plain)
            yield plain
        if size < SHORT and allowance:
            allowance.short_stream()
        packed = one.unused_data or more()
        while fill and packed and not packed.strip(fill):
            packed = more()
        packed = packed.lstrip(fill) if fill else packed
        # The signature may lie across two of our steps.
        while len(packed) < longest and (further := more()):
            packed += further
        if not packed.startswith(marks):
            if packed and ended:
                ended.at = taken - len(packed)
            return


def _uncompressed(file: IO[bytes]) -> Iterator[bytes]:
    """Yield the bytes of a compress file: with libarchive if possible, which is thirty times as fast as Python."""
    from usufruct.archives.archive_library import LibraryFault, LibraryReader, library_version
    from usufruct.archives.streams.lzw import unlzw

    if library_version() is None:
        yield from unlzw(file)
        return
    try:
        with LibraryReader(_Forwards(file), ("raw",), can_seek=False, packing="compress") as reader:
            for _ in reader.entries():
                yield from reader.blocks(BLOCK)
    except LibraryFault as fault:
        raise ValueError(str(fault)) from fault


class _Forwards:
    """A file that is read forwards, as a source. See `Source`."""

    size = 1 << 62

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file

    def read_at(self, _: int, count: int) -> bytes:
        return self._file.read(count)

    def close(self) -> None:
        """It is its owner's."""


class _GzipMember:
    """Unpacks a member of a gzip file, with the interface of the standard decompressors. See `_Bounded`."""

    def __init__(self) -> None:
        self._engine = zlib_engine.inflater_of_member()
        self._is_full = False

    @property
    def eof(self) -> bool:
        return self._engine.eof

    @property
    def unused_data(self) -> bytes:
        return self._engine.unused_data

    @property
    def needs_input(self) -> bool:
        # After a full block, the engine may hold bytes although it consumed all its input.
        return not self._engine.unconsumed_tail and not self._is_full

    def decompress(self, data: bytes, max_length: int = -1) -> bytes:
        plain = self._engine.decompress(self._engine.unconsumed_tail or data, max_length)
        self._is_full = len(plain) == max_length
        return plain


def _within(allowance: Allowance, blocks: Iterator[bytes]) -> Iterator[bytes]:
    """Yield the same blocks; if the library refuses because of memory, the error says so."""
    try:
        yield from blocks
    except (lzma.LZMAError, zstd.ZstdError) as error:
        if "memory" in str(error).lower():
            allowance.dictionary(allowance.most_dictionary + 1)
        raise


def _as_stream(blocks: Iterator[bytes]) -> IO[bytes]:
    """Return blocks as a file to read forwards, for `with`."""
    return cast(IO[bytes], _Stream(blocks))


class _Bounded(Protocol):
    """The part of the standard decompressors that yields bounded output."""

    @property
    def needs_input(self) -> bool: ...
    @property
    def eof(self) -> bool: ...
    @property
    def unused_data(self) -> bytes: ...

    def decompress(self, data: bytes, max_length: int = -1) -> bytes: ...


def stored(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Yield bytes that are not packed."""
    yield from blocks


def inflate(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack raw deflate."""
    return _inflated(zlib_engine.inflater(), blocks)


def unzlib(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack deflate with the header and checksum of zlib."""
    return _inflated(zlib_engine.inflater(has_header=True), blocks)


def _inflated(engine: "zlib_engine.Inflater", blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack with a bound on each call: without one, a few kilobytes could fill the memory."""
    for whole in blocks:
        # The library copies its unconsumed input each time, so feed it a little at once.
        for at in range(0, len(whole), _BITE):
            block, plain = whole[at : at + _BITE], b""
            # After a full block, the engine may hold bytes although it consumed all its input.
            while block or (len(plain) == BLOCK and not engine.eof):
                plain = engine.decompress(block, BLOCK)
                yield plain
                block = engine.unconsumed_tail
            if engine.eof:
                return
    raise EOFError("the packed bytes end too early")


def until_broken(plain: IO[bytes]) -> Callable[[int], bytes]:
    """Return a reading function that ends at the damage, as if the stream ended there."""
    read = getattr(plain, "read1", plain.read)
    is_over = False

    def some(count: int) -> bytes:
        nonlocal is_over
        try:
            # In small pieces: damage loses all that was unpacked of its piece.
            block = b"" if is_over else read(min(count, _SMALL))
        except PACKING_ERRORS:
            block = b""
        is_over = not block
        return block

    return some


def inflate_whole(data: memoryview, size: int) -> bytes | None:
    """Unpack raw deflate at once; None if the result does not have `size` bytes, for any reason.

    Fifty percent faster than by blocks.
    """
    try:
        # A bytearray that nobody changes.
        plain = cast(bytes, deflate_decompress(data, size))
    except DeflateError:
        return None
    return plain if len(plain) == size else None


def inflate64(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack Deflate64 with its own library. Its output is bounded only by its input, so that comes in small pieces."""
    from inflate64 import Inflater

    engine = Inflater()
    for block in blocks:
        for at in range(0, len(block), _PIECE):
            yield engine.inflate(block[at : at + _PIECE])
            if engine.eof:
                return
    raise EOFError("the packed bytes end too early")


def bunzip2(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack bzip2."""
    return bounded(bz2.BZ2Decompressor(), blocks)


def unxz(blocks: Iterable[bytes], form: int = lzma.FORMAT_XZ) -> Iterator[bytes]:
    """Unpack xz, or another `form` of the standard library's."""
    return bounded(lzma.LZMADecompressor(form, _MOST_OF_ENTRY + _BESIDE), blocks)


def unlzma(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack LZMA as zip stores it: version, length of the properties, properties, raw LZMA."""
    blocks = iter(blocks)
    head = b""
    while len(head) < 9:
        more = next(blocks, b"")
        if not more:
            raise EOFError("the packed bytes end too early")
        head += more
    properties = head[4:9]
    if head[2:4] != b"\x05\x00":
        raise lzma.LZMAError("its properties are not five bytes")
    code, size = properties[0], int.from_bytes(properties[1:], "little")
    if size > _MOST_OF_ENTRY:
        raise lzma.LZMAError(f"its dictionary would take {size >> 20:,} MB of memory")
    filters = [
        {"id": lzma.FILTER_LZMA1, "dict_size": size, "lc": code % 9, "lp": code // 9 % 5, "pb": code // 45},
    ]
    engine = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters)

    def rest() -> Iterator[bytes]:
        yield head[9:]
        yield from blocks

    return bounded(engine, rest(), may_lack_end=True)


def unppmd(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack PPMd as zip stores it: two bytes for order, memory and restart method, then the packed bytes.

    Source: APPNOTE 5.10.
    """
    import pyppmd

    blocks = iter(blocks)
    head = b""
    while len(head) < 2:
        more = next(blocks, b"")
        if not more:
            raise EOFError("the packed bytes end too early")
        head += more
    said = int.from_bytes(head[:2], "little")
    order, megabytes, method = (said & 0xF) + 1, (said >> 4 & 0xFF) + 1, said >> 12
    if order < 2 or method > 1:
        raise ValueError(f"it states an order of {order} and the way {method} of going on")
    if megabytes << 20 > _MOST_OF_ENTRY:
        raise ValueError(f"its model would take {megabytes:,} MB of memory")
    engine = pyppmd.Ppmd8Decoder(order, megabytes << 20, method)
    for block in chain((head[2:],), blocks):
        yield engine.decode(block, BLOCK)
        while not engine.needs_input and not engine.eof:
            yield engine.decode(b"", BLOCK)
        if engine.eof:
            return
    raise EOFError("the packed bytes end too early")


def unzstd(blocks: Iterable[bytes]) -> Iterator[bytes]:
    """Unpack Zstandard."""
    return _all_streams(cast(IO[bytes], _Blocks(blocks)), zstd.ZstdDecompressor, MARKS)


def bounded(engine: _Bounded, blocks: Iterable[bytes], *, may_lack_end: bool = False) -> Iterator[bytes]:
    """Yield what an engine of the standard library unpacks, in bounded steps; EOFError if its end is missing."""
    for block in blocks:
        yield engine.decompress(block, BLOCK)
        while not engine.needs_input and not engine.eof:
            yield engine.decompress(b"", BLOCK)
        if engine.eof:
            return
    if not may_lack_end:
        raise EOFError("the packed bytes end too early")


class _Blocks:
    """Presents blocks as a file."""

    def __init__(self, blocks: Iterable[bytes]) -> None:
        self._blocks = iter(blocks)
        self._rest = b""

    def read(self, count: int = -1) -> bytes:
        while not self._rest:
            try:
                self._rest = next(self._blocks)
            except StopIteration:
                return b""
        if count < 0:
            count = len(self._rest)
        block, self._rest = self._rest[:count], self._rest[count:]
        return block


class _Stream(_Blocks):
    """Presents blocks as a file, for `with`."""

    def __enter__(self) -> "_Stream":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Nothing to let go of: the file that the blocks come from is its owner's."""
