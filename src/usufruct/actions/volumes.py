"""Identify the files of an archive: size and digest of each, and one digest of all."""

import os
import stat
from collections.abc import Iterable, Sequence

from blake3 import blake3

from usufruct.archives.unpacked import digest_of_folder
from usufruct.errors import StillArriving
from usufruct.files.looking import digest_of
from usufruct.model.holdings import Volume


def volume_at(path: str) -> Volume:
    """Return what identifies a file of an archive, or a directory that was unpacked already."""
    if os.path.isdir(path):
        size, digest = digest_of_folder(path)
        return Volume(path=path, size=size, digest=digest)
    return Volume(path=path, size=os.stat(path).st_size, digest=digest_of(path))


def is_still(volume: Volume) -> bool:
    """Whether a volume's path still has what was there; OSError if that cannot be seen."""
    if os.path.isdir(volume.path):
        return volume_at(volume.path) == volume
    return os.stat(volume.path).st_size == volume.size and digest_of(volume.path) == volume.digest


class Untouched:
    """How the files of an archive were before they were read, to notice if anyone writes to them meanwhile."""

    def __init__(self, paths: Iterable[str]) -> None:
        self._found = {path: _fingerprint(path) for path in paths}

    def add(self, paths: Iterable[str]) -> None:
        """Look at more of them, such as the other parts of a set."""
        for path in paths:
            self._found.setdefault(path, _fingerprint(path))

    def refuse_written(self) -> None:
        """Raise StillArriving if one of them is another file now, or has another size or time."""
        for path, found in self._found.items():
            if _fingerprint(path) != found:
                raise StillArriving(
                    f"{os.path.basename(path)} was written to while it was read.",
                    kept="Nothing was changed.",
                    remedy="Wait until nothing writes it any more, then try again.",
                    path=path,
                )


def _fingerprint(path: str) -> tuple[int, ...]:
    try:
        found = os.stat(path)
    except OSError:
        return ()
    # An unpacked folder is compared by its content.
    return () if stat.S_ISDIR(found.st_mode) else (found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns)


def digest_of_all(volumes: Sequence[Volume]) -> bytes:
    """Return the digest of the only file, or one over the digests of several."""
    if len(volumes) == 1:
        return volumes[0].digest
    return blake3(b"".join(volume.digest for volume in volumes)).digest()
