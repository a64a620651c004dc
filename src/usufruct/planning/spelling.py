"""Names that the destination's file system cannot hold, in a spelling that it can."""

from msgspec import Struct

from usufruct.model.layout import Layout
from usufruct.planning.names import free_name, spelling_key

_RESERVED = frozenset(
    ["con", "prn", "aux", "nul", "conin$", "conout$"]
    + [f"{port}{n}" for port in ("com", "lpt") for n in "123456789¹²³"]
)
"""Source: Microsoft's "Naming Files, Paths, and Namespaces"; the superscript digits are those of Latin-1."""
_MOST_BYTES = 4
"""Bytes of one character."""
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
        return len(name.encode("utf-8", "surrogatepass"))

    def _shortened(self, name: str) -> str:
        """The name cut before its extension, with eight digits of its hash so that two long names stay two."""
        import hashlib  # only here: hardly any name is too long

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


def spell_for(layout: Layout, rules: NameRules) -> None:
    """Give names that the file system cannot hold a safe spelling, and refuse those that mean a device there."""
    respelled: dict[int, tuple[str, str]] = {}
    devices: set[int] = set()
    for number, home in enumerate(layout.homes):
        # A folder elsewhere is the user's own, drive letter and all; only what comes below it is the archive's.
        base = home.folder.path if home.folder and home.is_elsewhere else ""
        if any(map(rules.is_device, home.path[len(base) :].split("/"))):
            devices.add(number)
        path = _safe_below(base, home.path, rules)
        if path != home.path:
            respelled[number] = path, _safe_below(base, home.piece, rules)
    longest = max(map(len, layout.names), default=0)
    if not (respelled or devices or rules.is_windows or longest * _MOST_BYTES > rules.longest):
        return
    changed: dict[int, str] = {}
    for row in list(layout.placed_rows()):
        number, name = layout.home_of[row], layout.name(row)
        if number in devices or (rules.is_windows and rules.is_device(name)):
            layout.refuse(row, "its name means a device on the destination's file system")
            continue
        if number in respelled:
            layout.move(row, layout.homes[number].folder, *respelled[number])
        if (rules.is_windows or len(name) * _MOST_BYTES > rules.longest) and (safe := rules.safe(name)) != name:
            changed[row] = safe
    if changed:
        _respell(layout, changed)


def _safe_below(base: str, path: str, rules: NameRules) -> str:
    return path and base + "/".join(map(rules.safe, path[len(base) :].split("/")))


def _respell(layout: Layout, changed: dict[int, str]) -> None:
    """Give rows a safe spelling each, or a free name where another file has that."""
    taken: dict[str, set[str]] = {}
    keys = [spelling_key(home.path) for home in layout.homes]
    for row in layout.placed_rows():
        if row not in changed:
            taken.setdefault(keys[layout.home_of[row]], set()).add(spelling_key(layout.name(row)))
    for row, safe in changed.items():
        names = taken.setdefault(keys[layout.home_of[row]], set())
        name = safe if spelling_key(safe) not in names else free_name(safe, names)
        names.add(spelling_key(name))
        layout.renamed[row] = name
