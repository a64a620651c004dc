"""Find all parts of a split archive from any one of them, in order, before anything is read."""

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache
from io import BytesIO
from itertools import compress
from operator import methodcaller
from pathlib import Path

from msgspec import Struct

from usufruct.errors import DamagedArchive, IncompleteArchive
from usufruct.files.listing import listed
from usufruct.files.looking import digest_of
from usufruct.planning.names import spelling_key

_COPY = re.compile(r" \(\d+\)(?=\.|$)")
_NUMBERED = re.compile(r"(?P<stem>.+)\.(?P<number>\d{3,5})", re.IGNORECASE)
_RAR = re.compile(r"(?P<stem>.+)\.part(?P<number>\d+)\.(?:rar|exe)", re.IGNORECASE)
_OLD_RAR = re.compile(r"(?P<stem>.+)\.(?P<letter>[r-z])(?P<number>\d{2})", re.IGNORECASE)
_SPLIT_ZIP = re.compile(r"(?P<stem>.+)\.z(?P<number>\d{2,3})", re.IGNORECASE)
_ARCHIVE = r"(?:zip|7z|rar|tar|t[gblx]z|tbz2|tzst|taz|gz|bz2|xz|zst|lz|lzma|lz4|z|cpio|iso|cab|lha|lzh|xar)"
_LETTERED = re.compile(rf"(?P<stem>.+\.{_ARCHIVE})\.(?P<letters>aa[a-z]|[a-d][a-z])", re.IGNORECASE)
"""As `split` names what it cuts."""
_NO_LETTERS = frozenset({"ar", "bz", "br", "db"})
"""Suffixes of their own."""
_COUNTED = re.compile(
    rf"(?P<stem>.+?)[ ._-]?[(\[]?(?P<number>\d{{1,3}})[ _-]?of[ _-]?(?P<total>\d{{1,3}})[)\]]?(?P<suffix>\.{_ARCHIVE})",
    re.IGNORECASE,
)
_TAPED = re.compile(r"(?P<stem>.*?)(?P<number>\d{1,4})(?P<suffix>\D*\.tar)", re.IGNORECASE)
_MORE_TAPED = re.compile(r"(?P<stem>.+\.tar)(?:-(?P<number>\d{1,4}))?", re.IGNORECASE)
"""How the volumes of a tar are called: `disk1.tar`; `pack.tar`, `pack.tar-2`."""
_PLAIN = frozenset((".zip", ".rar", ".exe"))
_MAY_DIFFER = re.compile(r"[.\x80-\U0010ffff]")
"""Where the names of one set may begin to differ: a mark of a copy stands before a dot, and letters that are not ASCII
can be written in several ways."""
_SAYS_PART = re.compile(r"\.part\d| \(\d+\)|of[ _-]?\d", re.IGNORECASE)
_LAST = 1 << 30
"""Stands for the number of a split zip's last part, which is called `.zip`."""


_CUT_BY_SIZE = ("numbered", "lettered", "counted")
"""Styles of sets whose parts are one file, cut by size alone."""


class SplitSet(Struct, frozen=True):
    """The files of one archive."""

    paths: tuple[Path, ...]
    """In order."""
    name: str
    """What the archive is called in messages: the file's name, or that of the part that stands for all."""
    is_numbered: bool = False
    """Cut by size alone: nothing but the archive itself can tell that the last part is missing."""
    is_taped: bool = False
    """Volumes of a tar, each of which says first what it goes on with."""
    part: int = 0
    """Which part it is, by its name, from 1 on, where no other part is there; 0: none."""


class _PlaceInSet(Struct, frozen=True):
    """The position in a set that a file's name states."""

    style: str
    stem: str
    number: int
    """From 0 on; -1 where the count begins one earlier; `_LAST` for the last part of a split zip."""
    total: int = 0
    """How many there are, where the name says so."""


def split_set_of(path: Path) -> SplitSet:
    """Return all parts of the set that a file belongs to; the file alone if it belongs to none.

    Raises IncompleteArchive for a missing part, and DamagedArchive for two different files that claim to be the same
    part.
    """
    if meant := _meant(path):
        return _ordered(path, *meant)
    if taped := set_of_tar(path):
        return taped
    places = [place for place in _places(path.name) if place]
    by_size = next((place for place in places if place.style in _CUT_BY_SIZE), None)
    lone = next((place for place in places if place.style in (*_CUT_BY_SIZE, "split zip")), None)
    part = max(0, lone.number) + 1 if lone and lone.number != _LAST and (lone.total or lone.number < 1) else 0
    return SplitSet((path,), path.name, is_numbered=by_size is not None, part=part)


def parts_beside(path: Path) -> Sequence[Path]:
    """Return all files of the set that a file belongs to, itself among them, also if parts are missing or differ."""
    if meant := _meant(path):
        _, found = meant
        return [part for number in sorted(found) for part in found[number]]
    taped = set_of_tar(path)
    return taped.paths if taped else (path,)


def _meant(path: Path) -> tuple[_PlaceInSet, dict[int, list[Path]]] | None:
    """Return what a file's name says of its position, and the files of its set by number; None if it is no part."""
    places = [place for place in _places(path.name) if place] if path.parent.is_dir() else []
    for place in places:
        found = _siblings(path, place)
        if len(places) > 1 and len(found) == 1:
            continue  # it fits another naming style as well, and would be alone in this one
        is_lone = set(found) <= {place.number} and (place.number in (-1, 0, _LAST) or place.total)
        if found and not is_lone and (place.style != "counted" or _are_cut(found)):
            return place, found
    return None


def set_of_tar(path: Path) -> SplitSet | None:
    """Return the volumes of the tar that a file belongs to; None if it belongs to none.

    Their names differ only by a number, or are `pack.tar`, `pack.tar-2` and so on; their content decides.
    """
    for here, called in _taped(path.name):
        # Look only for the neighbours: a folder may contain very many tars.
        if any(_volume(path, called(number)) for number in (here + 1, here - 1)):
            volumes = _continued(path, called, here)
            if len(volumes) > 1:
                return SplitSet(volumes, volumes[0].name, is_numbered=True, is_taped=True)
    return None


def _taped(name: str) -> Iterator[tuple[int, Callable[[int], Sequence[str]]]]:
    """Return the number in a tar's name, and possible names of its other volumes."""
    if match := _TAPED.fullmatch(name):
        stem, digits, suffix = match["stem"], match["number"], match["suffix"]
        yield int(digits), lambda at: (f"{stem}{at}{suffix}", f"{stem}{at:0{len(digits)}}{suffix}") if at >= 0 else ()
    if match := _MORE_TAPED.fullmatch(name):
        first = match["stem"]
        yield int(match["number"] or 1), lambda at: (f"{first}-{at}",) if at > 1 else (first,) if at == 1 else ()


def _volume(path: Path, names: Sequence[str]) -> Path | None:
    """Return the file beside a volume that has one of these names."""
    return next((other for name in names if (other := path.with_name(name)).is_file()), None)


def _continued(path: Path, called: Callable[[int], Sequence[str]], here: int) -> tuple[Path, ...]:
    """Return the volumes around this number, from the first one that continues no other; none if that is missing."""
    from usufruct.archives.tar.volumes import is_later_volume

    volumes = [path]
    while is_later_volume(volumes[0]):
        before = _volume(path, called(here - 1))
        if not before:
            return ()
        volumes.insert(0, before)
        here -= 1
    here += len(volumes)
    while (after := _volume(path, called(here))) and is_later_volume(after):
        volumes.append(after)
        here += 1
    return tuple(volumes)


def sets_among(directory: Path, names: Iterable[str]) -> Iterator[tuple[str, ...]]:
    """Group names of files in one directory into sets, by their names alone; most are sets of one."""
    lone: list[str] = []
    parts: dict[str, list[_PlaceInSet]] = {}
    for name in names:
        # Most names state no part. A plain zip or rar is part of a set only beside `.z01` or `.r00`.
        if name[-4:].lower() in _PLAIN and not _SAYS_PART.search(name):
            lone.append(name)
        elif places := [place for place in _places(name) if place]:
            parts[name] = places
        else:
            yield (name,)
    met: dict[tuple[str, str], set[int]] = {}
    for places in parts.values():
        for place in places:
            met.setdefault((place.style, place.stem), set()).add(place.number)
    for name in lone:
        [own] = _places(name) if parts else [None]
        if own and (numbers := met.get((own.style, own.stem))):
            numbers.add(own.number)
            parts[name] = [own]
        else:
            yield (name,)
    groups: dict[tuple[str, str], list[str]] = {}
    for name, places in parts.items():
        # A name may fit two styles; the one that others fit too is meant. One number alone is no set: names like
        # `pack.rar` are simply archives, and copies of one are no parts.
        keys = sorted(((place.style, place.stem) for place in places), key=lambda key: -len(met[key]))
        if len(met[keys[0]]) > 1:
            groups.setdefault(keys[0], []).append(name)
        else:
            yield (name,)
    for (style, _), group in groups.items():
        if style == "counted" and not _are_cut(dict(enumerate([directory / name] for name in sorted(group)))):
            # Their names are merely numbered.
            yield from ((name,) for name in group)
        else:
            yield tuple(group)


@lru_cache(maxsize=1 << 14)
def _places(name: str) -> Sequence[_PlaceInSet | None]:
    """Return the positions that a name may state; marks of copies are ignored."""
    plain = _COPY.sub("", name)
    stem, _, suffix = plain.rpartition(".")
    places: list[_PlaceInSet | None] = []
    if match := _RAR.fullmatch(plain):
        places.append(_PlaceInSet("part", spelling_key(match["stem"]), int(match["number"]) - 1))
    elif match := _NUMBERED.fullmatch(plain):
        places.append(_PlaceInSet("numbered", spelling_key(match["stem"]), int(match["number"]) - 1))
    elif (match := _LETTERED.fullmatch(plain)) and match["letters"].lower() not in _NO_LETTERS:
        number = 0
        for letter in match["letters"].lower():
            number = 26 * number + ord(letter) - ord("a")
        places.append(_PlaceInSet("lettered", spelling_key(match["stem"]), number))
    elif match := _COUNTED.fullmatch(plain):
        stem = spelling_key(match["stem"] + match["suffix"])
        places.append(_PlaceInSet("counted", stem, int(match["number"]) - 1, int(match["total"])))
    elif suffix.lower() in ("rar", "exe"):
        places.append(_PlaceInSet("old rar", spelling_key(stem), 0))
    elif suffix.lower() == "zip":
        places.append(_PlaceInSet("split zip", spelling_key(stem), _LAST))
    else:
        if (match := _SPLIT_ZIP.fullmatch(plain)) and int(match["number"]):
            places.append(_PlaceInSet("split zip", spelling_key(match["stem"]), int(match["number"]) - 1))
        if match := _OLD_RAR.fullmatch(plain):
            number = 100 * (ord(match["letter"].lower()) - ord("r")) + int(match["number"]) + 1
            places.append(_PlaceInSet("old rar", spelling_key(match["stem"]), number))
    return places


def _siblings(path: Path, place: _PlaceInSet) -> dict[int, list[Path]]:
    """Return the files beside one that belong to its set, by number."""
    found: dict[int, list[Path]] = {}
    # Most names in a large folder differ in their beginning; parse only the others.
    begins = _MAY_DIFFER.split(place.stem, maxsplit=1)[0]
    there = listed(str(path.parent))
    for name in compress(there.in_order, map(methodcaller("startswith", begins), there.lowered)):
        for meant in _places(name):
            if meant and (meant.style, meant.stem) == (place.style, place.stem):
                other = path.with_name(name)
                if other.is_file():
                    found.setdefault(meant.number, []).append(other)
    return found


def _called(style: str, found: dict[int, list[Path]], number: int) -> str:
    """Describe the name of a missing part; empty if it is not known."""
    there, name = next((there, paths[0].name) for there, paths in sorted(found.items()))
    if _LAST in (number, there):
        return ""
    if style == "lettered":
        letters = name.rpartition(".")[2]
        return f" ({name.removesuffix(letters)}{_in_letters(number, len(letters))})"
    counted = _COUNTED.fullmatch(name) if style == "counted" else None
    spans = [counted.span("number")] if counted else [one.span() for one in re.finditer(r"\d+", name)]
    if not spans:
        return ""
    begin, end = spans[-1]
    # Some count from 0, some from 1.
    missing = str(int(name[begin:end]) + number - there).zfill(end - begin)
    return f" ({name[:begin]}{missing}{name[end:]})"


def _in_letters(number: int, count: int) -> str:
    letters = ""
    for _ in range(count):
        number, letter = divmod(number, 26)
        letters = chr(ord("a") + letter) + letters
    return letters


def _ordered(path: Path, place: _PlaceInSet, found: dict[int, list[Path]]) -> SplitSet:
    """Return the set's files in order, each number once."""
    highest = max((number for number in found if number != _LAST), default=-1)
    highest = max(highest, place.total - 1)
    # The last part of a split zip has no number of its own.
    expected = [*range(min(0, *found), highest + 1), *([_LAST] if place.style == "split zip" else [])]
    total = len(expected)
    absent = [expected.index(number) + 1 for number in expected if number not in found]
    if absent:
        words = ", ".join(map(str, absent[:5])) + (" and more" if len(absent) > 5 else "")
        named = _called(place.style, found, expected[absent[0] - 1]) if len(absent) == 1 else ""
        are = "is" if len(absent) == 1 else "are"
        raise IncompleteArchive(
            f"part {words} of {total}{named} {are} missing beside {path.name}.",
            remedy="Put it into the same folder as the others.",
            path=str(path),
        )
    sizes = [found[number][0].stat().st_size for number in expected]
    paths = tuple(_one_of(found[number], sizes) for number in expected)
    if place.style in _CUT_BY_SIZE:
        _check_sizes(paths)
    name = paths[-1].name if place.style == "split zip" else paths[0].name
    return SplitSet(paths, name, is_numbered=place.style in _CUT_BY_SIZE and not place.total)


def _are_cut(found: dict[int, list[Path]]) -> bool:
    """Whether files with numbers in their names are pieces of one file: else each would begin as an archive."""
    from usufruct.archives.marks import HEAD, begins_archive

    def begins(number: int) -> bool:
        path = found[number][0]
        try:
            # Opening a pipe with such a name would block for ever.
            with path.open("rb") if path.is_file() else BytesIO() as file:
                return begins_archive(file.read(HEAD))
        except OSError:
            return True

    return not any(begins(number) for number in found if number > 0)


def _one_of(files: list[Path], sizes: list[int]) -> Path:
    """Return the one file for a part: equal copies count once, and a short interrupted download is ignored."""
    if len(files) == 1:
        return files[0]
    usual = max(set(sizes), key=sizes.count)
    best = [file for file in files if file.stat().st_size == usual] or files
    if len(best) > 1 and len({digest_of(str(file)) for file in best}) > 1:
        raise DamagedArchive(
            f"{best[0].name} and {best[1].name} claim to be the same part, but differ.",
            remedy="Move the one that belongs to another archive away.",
            path=str(best[0]),
        )
    return best[0]


def _check_sizes(paths: tuple[Path, ...]) -> None:
    """Refuse a truncated or foreign part: all parts have the same size, except the last."""
    sizes = [path.stat().st_size for path in paths]
    usual = max(set(sizes[:-1]), key=sizes[:-1].count)
    for number, (path, size) in enumerate(zip(paths, sizes, strict=True), 1):
        is_last = number == len(paths)
        if (size != usual and not is_last) or size > usual:
            raise DamagedArchive(
                f"{path.name}, part {number} of {len(paths)}, has {size:,} bytes where the others have {usual:,}: "
                "it is truncated or belongs to another archive.",
                remedy="Download that part again.",
                path=str(path),
            )
