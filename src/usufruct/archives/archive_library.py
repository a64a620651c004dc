"""Decompress with the open-source libarchive: a stream in, entries and their bytes out.

C code calls the reading callbacks, and an exception there would end the process. So they catch every error and keep it
for the reader. A handle belongs to one thread.
"""

import ctypes
import logging
import os
from collections.abc import Iterator
from ctypes.util import find_library
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from types import ModuleType
from typing import Any, NamedTuple

from usufruct.errors import UnreadableArchive
from usufruct.files.platform import this_platform
from usufruct.files.sources import Source

_CHUNK = 1 << 17
"""Bytes handed to the library at once."""
_EOF = 1
_RECENT = 3_008_010
"""From this version on the system's library is taken. Older ones unpack RAR 3 wrongly (before 3.7.4), or take as much
memory as a program in it demands."""
_CARRIED = ("archi.libs/libarchive*.so*", "archi.dylibs/libarchive*.dylib", "archive-*.dll")
"""Where wheels for Linux, macOS and Windows have the library, beside the package's module."""
_VARIABLE = "LIBARCHIVE"
_SKIP_CALLBACK = ctypes.CFUNCTYPE(ctypes.c_longlong, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_longlong)
"""As libarchive's manual page archive_read_open(3) declares it. The binding does not."""
INSTALL = "Install libarchive (`pip install archi`, or Debian's package libarchive13) and try again."


class LibraryEntry(NamedTuple):
    """An entry as the library describes it."""

    raw: bytes
    """The name as the archive has it, or as the library made it UTF-8."""
    name: str | None
    """The name as text where the library knows it."""
    size: int | None
    modified: int | None
    """Nanoseconds since 1970."""
    mode: int
    """File type and permissions."""
    target: str
    hard_link: str


class LibraryFault(Exception):
    """The library failed. Its messages differ between versions and are only for display."""


def library() -> ModuleType:
    """Return the binding's functions; UnreadableArchive says what to install if the library is missing."""
    try:
        functions = _binding()
    except Exception as error:
        raise UnreadableArchive(
            "This kind of archive is read with libarchive, which is not installed.", remedy=INSTALL
        ) from error
    # The binding logs the library's warnings; checksums find what matters.
    logging.getLogger("libarchive").disabled = True
    return functions


@cache
def _binding() -> ModuleType:
    path = os.environ.get(_VARIABLE) or _best_library()
    if not path:
        raise FileNotFoundError("libarchive")
    # The binding loads the library named here, or the one the system calls `archive`.
    before = os.environ.get(_VARIABLE)
    os.environ[_VARIABLE] = path
    try:
        import libarchive.ffi as functions
    finally:
        if before is None:
            del os.environ[_VARIABLE]
    return functions  # type: ignore[no-any-return]


def _best_library() -> str | None:
    """Return path or name of the system's library if it is recent, else of the one installed with Usufruct."""
    own = this_platform().archive_library or find_library("archive")
    if own and _version_at(own) >= _RECENT:
        return own
    return _carried_library() or (own if own and _version_at(own) else None)


def _version_at(path: str) -> int:
    """Return the library's version as a number, `3008010` for 3.8.10; 0 if it cannot be loaded."""
    try:
        number: int = ctypes.CDLL(path).archive_version_number()
    except (OSError, AttributeError):
        return 0
    return number


def _carried_library() -> str | None:
    """Return the library in the wheel of the package `archi`, whose own module is not used."""
    spec = find_spec("archi")
    if not spec or not spec.origin:
        return None
    beside = Path(spec.origin).parent
    return next((str(path) for pattern in _CARRIED for path in sorted(beside.glob(pattern))), None)


def library_version() -> tuple[int, int, int] | None:
    """Return the library's version, such as `(3, 8, 10)`; None if there is none."""
    try:
        number: int = library().version_number()
    except UnreadableArchive:
        return None
    return number // 1_000_000, number // 1000 % 1000, number % 1000


class LibraryReader:
    """Reads a stream once, entry by entry. Use it with `with`."""

    def __init__(
        self, source: Source, formats: tuple[str, ...], *, can_seek: bool = True, packing: str = "none"
    ) -> None:
        """`formats` and `packing` are the library's names of what is allowed.

        Without `can_seek` it reads `source` forwards only.
        """
        self._functions = library()
        self._source = source
        self._at = 0
        self._error: BaseException | None = None
        self._room = ctypes.create_string_buffer(_CHUNK)
        functions = self._functions
        self._handle = functions.read_new()
        for name in formats:
            functions.get_read_format_function(name)(self._handle)
        functions.get_read_filter_function(packing)(self._handle)
        self._can_seek = can_seek
        # Kept as attributes: C holds these only by address.
        self._on_read = functions.READ_CALLBACK(self._read)
        self._on_seek = functions.SEEK_CALLBACK(self._seek)
        self._on_skip = _SKIP_CALLBACK(self._skip)

    def __enter__(self) -> "LibraryReader":
        functions = self._functions
        try:
            if self._can_seek:
                functions.read_set_seek_callback(self._handle, self._on_seek)
                set_skip = functions.libarchive.archive_read_set_skip_callback
                set_skip.argtypes = [ctypes.c_void_p, _SKIP_CALLBACK]
                set_skip(self._handle, self._on_skip)
            functions.read_open(self._handle, None, functions.NO_OPEN_CB, self._on_read, functions.NO_CLOSE_CB)
        except Exception as error:
            self.__exit__()
            raise self._fault(error) from error
        return self

    def __exit__(self, *_: object) -> None:
        handle, self._handle = self._handle, None
        if handle:
            self._functions.libarchive.archive_read_free(handle)

    def entries(self) -> Iterator[LibraryEntry]:
        """Yield the entries in order; the bytes of each can be read until the next is requested."""
        return map(self._entry, self.passed())

    def passed(self) -> Iterator[Any]:
        """Yield once per entry, without reading its description."""
        functions = self._functions
        entry = functions.entry_new()
        try:
            while True:
                try:
                    code = functions.read_next_header2(self._handle, entry)
                except Exception as error:
                    raise self._fault(error) from error
                if code == _EOF and not self._error:
                    return
                if self._error:
                    raise self._fault()
                yield entry
        finally:
            functions.entry_free(entry)

    def _entry(self, entry: Any) -> LibraryEntry:
        functions = self._functions
        seconds = functions.entry_mtime(entry)
        is_set = functions.entry_mtime_is_set(entry)
        size = functions.entry_size(entry) if functions.entry_size_is_set(entry) else None
        return LibraryEntry(
            functions.entry_pathname(entry) or b"",
            functions.entry_pathname_w(entry),
            size,
            seconds * 1_000_000_000 + functions.entry_mtime_nsec(entry) if is_set else None,
            functions.entry_filetype(entry) | functions.entry_perm(entry),
            functions.entry_symlink_w(entry) or "",
            functions.entry_hardlink_w(entry) or "",
        )

    def read(self, count: int) -> bytes:
        """Return the next bytes of the current entry, up to `count`; empty at its end."""
        room = ctypes.create_string_buffer(count)
        try:
            got = self._functions.read_data(self._handle, room, count)
        except Exception as error:
            raise self._fault(error) from error
        if got < 0 or self._error:
            raise self._fault()
        return ctypes.string_at(room, got)

    def blocks(self, size: int) -> Iterator[bytes]:
        """Yield the current entry's bytes in blocks of at most `size`.

        The offset of a block is ignored: no format read here has gaps, and one of the library's readers does not reset
        it between entries.
        """
        room, count, offset = ctypes.c_void_p(), ctypes.c_size_t(), ctypes.c_longlong()
        read = self._functions.read_data_block
        while True:
            try:
                code = read(self._handle, ctypes.byref(room), ctypes.byref(count), ctypes.byref(offset))
            except Exception as error:
                raise self._fault(error) from error
            if self._error or code < 0:
                raise self._fault()
            if code == _EOF:
                return
            for at in range(0, count.value, size):
                yield ctypes.string_at((room.value or 0) + at, min(size, count.value - at))

    def _read(self, _handle: Any, _data: Any, room: Any) -> int:
        try:
            block = self._source.read_at(self._at, _CHUNK)
            self._at += len(block)
            ctypes.memmove(self._room, block, len(block))
            room[0] = ctypes.addressof(self._room)
        except BaseException as error:  # noqa: BLE001 - see the module's docstring
            self._error = error
            return -1
        return len(block)

    def _skip(self, _handle: Any, _data: Any, count: int) -> int:
        # Never past the end: the library would not notice that something is missing.
        passed = max(0, min(count, self._source.size - self._at))
        self._at += passed
        return passed

    def _seek(self, _handle: Any, _data: Any, offset: int, whence: int) -> int:
        self._at = max(0, (0, self._at, self._source.size)[whence] + offset)
        return self._at

    def _fault(self, raised: BaseException | None = None) -> BaseException:
        if self._error:
            return self._error
        if raised is not None:
            return LibraryFault(str(raised))
        text = self._functions.error_string(self._handle) or b"it cannot be read"
        return LibraryFault(text.decode("utf-8", "replace"))
