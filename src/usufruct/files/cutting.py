"""A file that is written to several, each of at most so many bytes."""

import io
from pathlib import Path
from typing import BinaryIO


class CutFile(io.RawIOBase):
    """One file to whoever writes it, `NAME.001`, `NAME.002` and so on to the disk.

    What has been written can be sought to and written over.
    """

    def __init__(self, path: Path, most: int) -> None:
        super().__init__()
        self._path, self._most = path, most
        """Bytes of each file but the last."""
        self._files: list[BinaryIO] = []
        self._position = self._size = 0

    @property
    def paths(self) -> list[Path]:
        """The files so far, in order."""
        return [Path(file.name) for file in self._files]

    def writable(self) -> bool:
        """Always."""
        return True

    def seekable(self) -> bool:
        """Always."""
        return True

    def tell(self) -> int:
        """The place that is written to next."""
        return self._position

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a place, anywhere in what was written."""
        self._position = offset + {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: self._size}[whence]
        return self._position

    def write(self, data) -> int:  # type: ignore[no-untyped-def]
        """Write all of it, beginning further files where it needs them."""
        view = memoryview(data).cast("B")
        whole = len(view)
        while view:
            number, offset = divmod(self._position, self._most)
            while number >= len(self._files):
                self._files.append(self._path.with_name(f"{self._path.name}.{len(self._files) + 1:03}").open("xb"))
            piece = view[: self._most - offset]
            file = self._files[number]
            file.seek(offset)
            file.write(piece)
            self._position += len(piece)
            view = view[len(piece) :]
        self._size = max(self._size, self._position)
        return whole

    def close(self) -> None:
        """Close all files."""
        for file in self._files:
            file.close()
        super().close()
