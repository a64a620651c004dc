"""Write one file as several, each of at most so many bytes."""

import io
from pathlib import Path
from typing import BinaryIO


class CutFile(io.RawIOBase):
    """One file for the writer; `NAME.001`, `NAME.002` and so on, on disk.

    The writer can seek in what it has written and overwrite it.
    """

    def __init__(self, path: Path, most: int) -> None:
        super().__init__()
        self._path, self._most = path, most
        """Bytes of each file but the last."""
        self.paths: list[Path] = []
        """The files so far, in order."""
        self._file: BinaryIO | None = None
        """The one that is open: of hundreds, a system lets nobody keep all open."""
        self._number = -1
        self._position = self._size = 0

    def writable(self) -> bool:
        """Always."""
        return True

    def seekable(self) -> bool:
        """Always."""
        return True

    def tell(self) -> int:
        """The position that is written next."""
        return self._position

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Go to a position within what was written."""
        self._position = offset + {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: self._size}[whence]
        return self._position

    def write(self, data) -> int:  # type: ignore[no-untyped-def]
        """Write all of it, and begin more files if needed."""
        view = memoryview(data).cast("B")
        whole = len(view)
        while view:
            number, offset = divmod(self._position, self._most)
            piece = view[: self._most - offset]
            file = self._opened(number)
            file.seek(offset)
            file.write(piece)
            self._position += len(piece)
            view = view[len(piece) :]
        self._size = max(self._size, self._position)
        return whole

    def _opened(self, number: int) -> BinaryIO:
        """The file of this number; if it is new, the files before it are created too."""
        if self._file is None or number != self._number:
            if self._file:
                self._file.close()
            while number >= len(self.paths):
                self.paths.append(self._path.with_name(f"{self._path.name}.{len(self.paths) + 1:03}"))
                self.paths[-1].open("xb").close()
            self._file, self._number = self.paths[number].open("r+b"), number
        return self._file

    def close(self) -> None:
        """Close the open file."""
        if self._file:
            self._file.close()
        super().close()
