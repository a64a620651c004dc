"""Remember the content of definition files between commands, because reading TOML takes most of the time.

Only the content is remembered; what it means (faults, paths below the user's own directories) is found out again.
"""

import os
import time
from contextlib import suppress
from pathlib import Path

import msgspec

from usufruct.definitions.form import DefinitionForm
from usufruct.files.small_texts import small_file

_TICK = 3_000_000_000
"""Nanoseconds within which some file system gives two writings one time: what is so young is read again."""
_Fingerprint = tuple[int, int, int]
"""Time, size and number of a file."""
_LARGEST = 64 << 20
"""Bytes of what is remembered."""


class _Remembered(msgspec.Struct):
    form: DefinitionForm
    fingerprint: _Fingerprint


class Memory:
    """The definitions that were read, by path; used with `with`, and written at its end."""

    def __init__(self, file: Path | None = None) -> None:
        """If `file` is None, nothing is kept."""
        self._file = file
        self._known: dict[str, _Remembered] = {}
        self._used: dict[str, _Remembered] = {}

    def __enter__(self) -> "Memory":
        if self._file:
            try:
                self._known = msgspec.msgpack.decode(small_file(self._file, _LARGEST), type=dict[str, _Remembered])
            except (OSError, msgspec.DecodeError, RecursionError):
                self._known = {}
        return self

    def __exit__(self, *_: object) -> None:
        """Write what was used, if it has changed; what cannot be written is read again next time."""
        if not self._file or self._used == self._known or not self._file.parent.is_dir():
            return
        beside = self._file.with_name(f"{self._file.name}.{os.getpid()}")
        try:
            beside.write_bytes(msgspec.msgpack.encode(self._used))
            beside.replace(self._file)
        except OSError:
            with suppress(OSError):
                beside.unlink(missing_ok=True)

    def form_of(self, file: Path, found: os.stat_result) -> DefinitionForm | None:
        """Return the content of a file in this state; None if it is not known."""
        kept = self._known.get(_key(file))
        if kept is None or kept.fingerprint != _fingerprint(found):
            return None
        self._used[_key(file)] = kept
        return kept.form

    def keep(self, file: Path, found: os.stat_result, form: DefinitionForm) -> None:
        """Remember the content of a file, unless it is so new that it may still be written within the same moment."""
        if found.st_mtime_ns + _TICK < time.time_ns():
            self._used[_key(file)] = _Remembered(form, _fingerprint(found))


def _key(file: Path) -> str:
    return os.fsencode(file).decode("utf-8", "backslashreplace")


def _fingerprint(found: os.stat_result) -> _Fingerprint:
    return found.st_mtime_ns, found.st_size, found.st_ino
