"""Keep the plain bytes of a packed stream in a private file, so that they are unpacked only once."""

import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from usufruct.files.private import make_private
from usufruct.files.sources import FileSource

_RESERVE = 256 << 20
"""Bytes that the volume keeps free: the archive's content is yet to be placed."""
_LOOK = 64 << 20
"""Bytes between two looks at what is free."""


class Spool:
    """Keeps bytes as they are read; gives up if there is no room, because it only saves time."""

    def __init__(self, directory: str | None) -> None:
        self._file = None
        self._size = self._looked = 0
        if directory:
            try:
                make_private(Path(directory))
                self._file = tempfile.TemporaryFile(dir=directory, prefix=".plain-", buffering=0)  # noqa: SIM115
            except OSError:
                self._file = None
        self._directory = directory or ""

    def through(self, read: Callable[[int], bytes]) -> Callable[[int], bytes]:
        """Return the same reading function, which also keeps all that is read."""
        if self._file is None:
            return read

        def tee(count: int) -> bytes:
            block = read(count)
            self._keep(block)
            return block

        return tee

    def _keep(self, block: bytes) -> None:
        if self._file is None:
            return
        try:
            if self._size >= self._looked:
                self._looked = self._size + _LOOK
                if shutil.disk_usage(self._directory).free < _RESERVE + self._size + _LOOK:
                    self.close()
                    return
            view = memoryview(block)
            while view:
                view = view[self._file.write(view) :]
            self._size += len(block)
        except OSError:
            self.close()

    def source(self) -> FileSource | None:
        """Return all that was read, for reading at any offset; None if it was given up. Closes the spool."""
        file, self._file = self._file, None
        return FileSource.of(file) if file else None

    def close(self) -> None:
        """Discard the bytes."""
        if self._file:
            self._file.close()
            self._file = None
