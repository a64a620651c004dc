"""What names a file system can hold, and the nearest one that it can."""

from msgspec import Struct

_RESERVED = frozenset(
    ["con", "prn", "aux", "nul", "conin$", "conout$"]
    + [f"{port}{n}" for port in ("com", "lpt") for n in "123456789¹²³"]
)
"""Source: Microsoft's "Naming Files, Paths, and Namespaces"; the superscript digits are those of Latin-1."""
_NEVER = '<>:"|?*\\'


class NameRules(Struct, frozen=True, kw_only=True):
    """What names a file system can hold."""

    is_windows: bool = False
    """Windows' rules, which FAT has as well: reserved characters and names, no trailing dot or space."""
    longest: int = 255
    """Of one name: bytes, or units of UTF-16 where Windows' rules hold."""

    def is_device(self, name: str) -> bool:
        """A name that means a device there, whatever its extension."""
        return self.is_windows and name.partition(".")[0].rstrip(" ").lower() in _RESERVED

    def safe(self, name: str) -> str:
        """The name itself if it can be held, else one that can: replaced characters, no trailing dots, shortened."""
        safe = name
        if self.is_windows:
            safe = "".join("_" if c in _NEVER or c < " " else c for c in name)
            if safe.endswith((".", " ")):
                safe = safe.rstrip(". ") + "_"
        return safe if self._length(safe) <= self.longest else self._shortened(safe)

    def _length(self, name: str) -> int:
        if self.is_windows:
            return len(name.encode("utf-16-le", "surrogatepass")) // 2
        return _bytes_of(name)

    def _shortened(self, name: str) -> str:
        """The name cut before its extension, with eight digits of its hash so that two long names stay two."""
        import hashlib  # imported here because names are rarely too long

        stem, dot, suffix = name.rpartition(".")
        tail = f"~{hashlib.sha256(name.encode('utf-8', 'surrogatepass')).hexdigest()[:8]}"
        if dot and stem and len(suffix) <= 16:
            tail += dot + suffix
        else:
            stem = name
        room = self.longest - self._length(tail)
        stem = stem[:room]
        while self._length(stem) > room:
            stem = stem[:-1]
        return stem + tail


_ALWAYS_HELD = 128
"""Bytes of a name that every file system holds."""


def numbered_name(name: str, number: int) -> str:
    """`gel (2).csv` for `gel.csv`; a long name is cut before its number, so that what holds the name holds this one."""
    stem, dot, suffix = name.rpartition(".")
    if not stem:
        stem, dot, suffix = name, "", ""
    tail = f" ({number}){dot}{suffix}"
    room = max(_bytes_of(name), _ALWAYS_HELD) - _bytes_of(tail)
    if room < 1:
        # The apparent suffix is nearly the whole name.
        stem, tail = name, f" ({number})"
        room = _bytes_of(name) - _bytes_of(tail)
    while _bytes_of(stem) > room:
        stem = stem[:-1]
    return stem + tail


def _bytes_of(name: str) -> int:
    return len(name.encode("utf-8", "surrogatepass"))
