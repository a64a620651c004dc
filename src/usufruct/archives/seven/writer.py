"""Writing 7z archives: solid, with names hidden too where they are locked."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, BinaryIO

from usufruct.archives.writing import Changed, How, Member
from usufruct.files.looking import state_at


def pack(out: BinaryIO, members: Sequence[Member], how: How) -> None:
    """See `usufruct.archives.writing`."""
    import py7zr

    filters: list[dict[str, Any]] = (
        [{"id": py7zr.FILTER_LZMA2, "preset": how.effort}] if how.effort else [{"id": py7zr.FILTER_COPY}]
    )
    if how.password is not None:
        filters.append({"id": py7zr.FILTER_CRYPTO_AES256_SHA256})
    archive = py7zr.SevenZipFile(
        out, "w", filters=filters, password=how.password, header_encryption=how.password is not None
    )
    for member in members:
        path = _ToldPath(member.path)
        path.tell = how.tell
        archive.write(path, member.entry)
        if state_at(member.path).size != member.size:
            raise Changed(member.path)
    # Only now: to close it packs what is left, which nobody waits for who has just stopped it.
    archive.close()


class _ToldPath(type(Path())):  # type: ignore[misc]
    """A path of which it is told how much of its file was read: the library opens files by their paths, and large ones
    take it long.
    """  # noqa: D205 - one thought

    tell: Callable[[int], None]

    def open(self, *args: Any, **options: Any) -> Any:
        """The file, which tells of what is read."""
        return _Counted(super().open(*args, **options), self.tell)


class _Counted:
    """A file that tells of the bytes that are read of it."""

    def __init__(self, file: Any, tell: Callable[[int], None]) -> None:
        self._file, self._tell = file, tell

    def read(self, size: int = -1) -> bytes:
        """As files do."""
        block: bytes = self._file.read(size)
        self._tell(len(block))
        return block

    def __enter__(self) -> "_Counted":
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()
