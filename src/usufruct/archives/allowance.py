"""Limits on what a download may demand, with all archives inside it; checked before anything is kept."""

from msgspec import Struct

from usufruct.errors import UnsafeArchive

_FEW = 100_000
"""Entries that an archive of any size may hold."""
_BYTES_FOR_EACH = 100
"""Bytes of the download for each entry beyond: nothing that is packed is smaller, on the whole."""
_FIELDS_FOR_EACH = 8
"""Fields of headers, and pieces of sparse files, for each entry."""
_BYTES_FOR_KEPT = 16
"""Bytes of the download for each that is kept in memory, beyond what any may keep."""
SHORT = 1024
"""Bytes below which a stream holds hardly anything."""
_SHORT_STREAMS = 10_000
_DICTIONARY = 128 << 20
"""Bytes that a dictionary may take whatever the size of the download."""
_DICTIONARY_FOR_EACH = 16
"""And for each byte of it; a dictionary that is larger than the content is of no use to it."""


class Limits(Struct, frozen=True, kw_only=True):
    """Limits beyond which an archive is refused as harmful."""

    entries: int = 1_000_000
    kept: int = 64 << 20
    """Bytes of names, targets of links and the like that are kept in memory."""
    header: int = 1 << 28
    """Bytes of a header that is read as a whole."""
    ratio: int = 1_000
    """Unpacked bytes for each packed one, counted once more than `free` bytes are unpacked."""
    free: int = 1 << 30
    """Bytes that may be unpacked whatever the ratio."""
    levels: int = 3
    """How deep archives inside archives are opened."""


class Allowance:
    """Counts what a download demands. Every archive inside counts here too."""

    def __init__(self, limits: Limits, name: str, path: str, size: int) -> None:
        """`name`, `path` and `size` in bytes are those of the download."""
        self.limits = limits
        self._name, self._path, self._size = name, path, size
        # Raising the limit also raises what is allowed for the size.
        self._most = min(limits.entries, max(limits.entries // 10, _FEW, size // _BYTES_FOR_EACH))
        self._most_kept = max(limits.kept, size // _BYTES_FOR_KEPT)
        self._entries = self._fields = self._kept = self._unpacked = self._read = self._short_streams = 0

    def entries(self, more: int = 1) -> None:
        """Count entries: placed, refused and ignored ones."""
        self._entries += more
        if self._entries > self._most:
            is_for_size = self._most < self.limits.entries
            raise self._too_much(
                f"it holds more than {self._most:,} entries{', too many for its size' if is_for_size else ''}",
                "most-entries", self.limits.entries,
            )  # fmt: skip

    def may_enter(self, count: int) -> None:
        """Raise UnsafeArchive if there are too many entries, before any is read."""
        self.entries(count)
        self._entries -= count

    def fields(self, more: int) -> None:
        """Count header fields and pieces of sparse files."""
        self._fields += more
        if self._fields > _FIELDS_FOR_EACH * self._most:
            raise self._too_much(
                "its headers hold more fields than any archive needs", "most-entries", self.limits.entries
            )

    def keep(self, more: int) -> None:
        """Count bytes of names, link targets and other metadata that stays in memory."""
        self._kept += more
        if self._kept > self._most_kept:
            raise self._harmful(f"its names and headers would take more than {self._most_kept >> 20:,} MB of memory")

    def unpack(self, more: int) -> None:
        """Count bytes of content, by their stated size."""
        self._unpacked += more
        self._refuse_ratio(self._unpacked, self.limits.ratio)

    def read(self, more: int) -> None:
        """Count bytes that are unpacked only to list the archive."""
        self._read += more
        self.may_read(0)

    def may_read(self, more: int) -> None:
        """Raise UnsafeArchive if so many more bytes would be too many, before they are read."""
        self._refuse_ratio(self._read + more, max(1, self.limits.ratio // 10))

    def short_stream(self) -> None:
        """Count a nearly empty packed stream, in formats that may have very many."""
        self._short_streams += 1
        if self._short_streams > _SHORT_STREAMS:
            raise self._harmful(f"it consists of more than {_SHORT_STREAMS:,} streams with hardly anything in them")

    def dictionary(self, size: int) -> None:
        """Raise UnsafeArchive if a dictionary of this many bytes is too large."""
        if size > self.most_dictionary:
            raise self._harmful(f"unpacking it would take {size >> 20:,} MB of memory")

    @property
    def most_dictionary(self) -> int:
        """Return the largest dictionary that is allowed, in bytes."""
        return max(_DICTIONARY, _DICTIONARY_FOR_EACH * self._size)

    def _refuse_ratio(self, total: int, ratio: int) -> None:
        if total > max(self.limits.free, self._size * ratio):
            raise self._too_much(f"it unpacks to more than {ratio:,} times its size", "most-ratio", self.limits.ratio)

    def _too_much(self, what: str, setting: str, limit: int) -> UnsafeArchive:
        raised = f"`usufruct settings set {setting} {10 * limit}`"
        return self._harmful(what, f" If you trust it, {raised} raises the limit.")

    def _harmful(self, what: str, more: str = "") -> UnsafeArchive:
        return UnsafeArchive(
            f"{self._name} is refused: {what}, as one made to do harm.",
            remedy=f"Do not use it; get it from another place.{more}",
            path=self._path,
        )
