"""Space kept for the record, so that removing something, which frees space, works on a full disk too."""

import os
import shutil
from contextlib import suppress
from pathlib import Path

from usufruct.files.paths import nearest
from usufruct.files.private import private_opener

_MOST = 16 << 20
_SHARE = 100
_LEAST, _OF_RECORD = 1 << 20, 3
"""Taking out writes about 0.5 kB of record a file; three times the record is enough for the largest holding in it."""


def spare_on(path: str) -> int:
    """Bytes kept free on the drive of an absolute path, for the record, directories and other programs."""
    return min(_MOST, shutil.disk_usage(nearest(path)).total // _SHARE)


class Reserve:
    """A file that occupies the space; it is removed when space is needed, and created again later."""

    def __init__(self, file: Path, record: Path) -> None:
        self._file = file
        self._record = record

    def release(self) -> None:
        """Free the space if little is left."""
        with suppress(OSError):
            if shutil.disk_usage(self._file.parent).free < spare_on(str(self._file)):
                self._file.unlink(missing_ok=True)

    def restore(self) -> None:
        """Occupy the space again, if twice as much is left for others."""
        with suppress(OSError):
            spare = spare_on(str(self._file))
            wanted = min(spare, max(_LEAST, _OF_RECORD * self._record.stat().st_size))
            held = self._file.stat().st_size if self._file.exists() else 0
            if held >= wanted or shutil.disk_usage(self._file.parent).free < wanted + 2 * spare:
                return
            growing = self._file.with_name(f"{self._file.name}.new")
            try:
                with open(growing, "wb", opener=private_opener) as file:
                    _fill(file.fileno(), wanted)
                os.replace(str(growing), str(self._file))
            except OSError:
                growing.unlink(missing_ok=True)


def _fill(descriptor: int, size: int) -> None:
    if hasattr(os, "posix_fallocate"):
        with suppress(OSError):
            os.posix_fallocate(descriptor, 0, size)
            return
    block = bytes(1 << 20)
    for begin in range(0, size, len(block)):
        os.write(descriptor, block[: size - begin])
