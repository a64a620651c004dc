"""What tells the files of an archive from others: size and digest of each, and one digest over all."""

import os
from collections.abc import Sequence

from blake3 import blake3

from usufruct.archives.unpacked import digest_of_folder
from usufruct.files.looking import digest_of
from usufruct.model.holdings import Volume


def volume_at(path: str) -> Volume:
    """A file of an archive, or a directory that was unpacked already, as the record tells it from others."""
    if os.path.isdir(path):
        size, digest = digest_of_folder(path)
        return Volume(path=path, size=size, digest=digest)
    return Volume(path=path, size=os.stat(path).st_size, digest=digest_of(path))


def is_still(volume: Volume) -> bool:
    """What lies at a volume's path is what was there; OSError where nothing can be seen."""
    if os.path.isdir(volume.path):
        return volume_at(volume.path) == volume
    return os.stat(volume.path).st_size == volume.size and digest_of(volume.path) == volume.digest


def digest_of_all(volumes: Sequence[Volume]) -> bytes:
    """The digest of the one file, or one over the digests of several."""
    if len(volumes) == 1:
        return volumes[0].digest
    return blake3(b"".join(volume.digest for volume in volumes)).digest()
