"""How names are compared, and the tidy name of an archive."""

import re
import unicodedata
from collections.abc import Iterator, Sequence
from itertools import count

from usufruct.model.name_rules import numbered_name

_IGNORED = str.maketrans("", "", " -_")
_SPACES = "\u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u200b\u202f\u205f\u3000"
_HYPHENS = "\u00ad\u2010\u2011\u2012\u2013\u2014\u2015\u2043\u2212\ufe63\uff0d\uff3f"
_ALL_IGNORED = str.maketrans("", "", f" -_{_SPACES}{_HYPHENS}")
"""All kinds of spaces, hyphens and underscores."""


def folded(name: str) -> str:
    """Return a path component as names are compared: without case, Unicode form, spaces, hyphens and underscores."""
    if name.isascii():
        return name.lower().translate(_IGNORED) or name.lower()
    # The Turkish dotted capital I folds to a small i and a combining dot.
    plain = spelling_key(name).replace("i\u0307", "i")
    return plain.translate(_ALL_IGNORED) or plain


def folded_names(names: Sequence[str]) -> Iterator[str]:
    """Yield each name as names are compared; faster for many. A name that does not change takes no more memory."""
    for number, name in enumerate(lowered(names)):
        own = names[number]
        if not own.isascii() or " " in name or "-" in name or "_" in name:
            yield folded(own)
        else:
            yield own if own == name else name


def spelling_key(name: str) -> str:
    """Return a name without case and Unicode form; equal for names that some file systems take for one.

    Case folding may leave a text that is no longer in normal form, so it is normalised before and after.
    """
    if name.isascii():
        return name.lower()
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", name).casefold())


def spelling_keys(names: Sequence[str]) -> list[str]:
    """Return the spelling key of each name; faster for many."""
    keys = lowered(names)
    if not "".join(names).isascii():
        for number, name in enumerate(names):
            if not name.isascii():
                keys[number] = spelling_key(name)
    return keys


def lowered(names: Sequence[str]) -> list[str]:
    """Return each name in lower case; faster for many."""
    # No name contains this character, so all names can be changed as one text.
    found = "\0".join(names).lower().split("\0")
    return found if len(found) == len(names) else list(map(str.lower, names))


def folded_path(path: str) -> str:
    """Return a path with each component as names are compared."""
    if path.isascii() and not any(c in path for c in " -_"):
        return path.lower()
    return "/".join(map(folded, path.split("/")))


def by_number(text: str) -> list[tuple[int, str]]:
    """Return a key that sorts names as people count: `s2` before `s10`, whatever their case."""
    parts = re.split(r"(\d+)", text.casefold())
    return [(int(part), "") if number % 2 else (-1, part) for number, part in enumerate(parts)]


def suggestion(word: str, known: Sequence[str]) -> str:
    """Return a sentence that says what a wrong word may have meant, or what there is."""
    import difflib  # imported here because few words are misspelt

    by_form = {folded(one): one for one in known}
    near = difflib.get_close_matches(folded(word), by_form, n=3, cutoff=0.6)
    near += [form for form in by_form if folded(word) and form.startswith(folded(word)) and form not in near]
    if near:
        return f"Did you mean {' or '.join(by_form[form] for form in near[:3])}?"
    more = f" and {len(known) - 8} more" if len(known) > 8 else ""
    return f"There are {', '.join(known[:8])}{more}." if len(known) > 1 else f"There is {known[0]}."


_NUMBER_IN_FRONT = re.compile(r"^\d+[\s._)-]*")


def likenesses(name: str) -> tuple[str, ...]:
    """Return names that a directory's name is similar to, as names are compared, the nearest first.

    These are the name without a number in front or a version behind, and singular and plural in place of each other.
    """
    own = folded(name)
    forms = dict.fromkeys([own])
    if any(map(str.isdigit, name)):
        plain = _NUMBER_IN_FRONT.sub("", name) or name
        forms |= dict.fromkeys([folded(plain), folded(_split_version(plain)[0])])
    for form in list(forms):
        if form.endswith("ies"):
            forms.setdefault(f"{form[:-3]}y")
        if form.endswith("s"):
            forms.setdefault(form[:-1])
        else:
            forms.setdefault(f"{form[:-1]}ies" if form.endswith("y") else f"{form}s")
    return tuple(form for form in forms if form and form != own)


# Written out, and compiled when first used: commands that only read the ledger start without them.
_COMPRESSED = r"(?:gz|bz2|xz|zst|lz4|lzma|lz|z|br)"
_ARCHIVE_SUFFIX = (
    r"(?i)(?:\.(?:zip|7z|rar|tar|cab|iso|lha|lzh|arj|zoo|arc|deb|rpm|ar|cpio|xar|exe|tgz|tbz2?|txz|tzst|tlz|taz)(?:\.\d{2,5})?"
    rf"|\.(?:(?:tar|cpio)\.)?{_COMPRESSED}(?:\.\d{{2,5}})?"
    r"|\.[zrs]\d{2,3}|\.\d{3})$"
)
_CALLED_ARCHIVE = (
    r"(?i)\.(?:zip|7z|rar|tar|cab|iso|lha|lzh|arj|zoo|arc|rpm|cpio|xar|tgz|tbz2?|txz|tzst|tlz|taz)(?:\.0*1)?$"
    rf"|\.(?:tar|cpio)\.{_COMPRESSED}$|(?<!\.part\d)\.part0*1\.rar$"
)
_OTHER_SUFFIX = r"(?i)\.(?=[a-z0-9]*[a-z])[a-z0-9]{1,8}$"
_VOLUME = r"(?i)\.part\d+$"
_COPY = r"(?i)(?:\s*\(\d+\)|\s+-\s+copy(?:\s*\(\d+\))?)$"
_ON_TRIAL = r"(?:[-_. ]?(?:alpha|beta|rc|pre|preview|dev)[-_.]?\d*)?"
_VERSION = rf"(?:v\d+(?:\.\d+)*{_ON_TRIAL}|\d+(?:\.\d+)+{_ON_TRIAL}|\d{{4}}-\d{{2}}-\d{{2}})"
_TRAILING_VERSION = rf"(?i)(?:^|[\s._-]+)(?:{_VERSION}|\({_VERSION}\)|\[{_VERSION}\])$"


_PACKAGE = r"(?i)(?P<name>[a-z0-9][a-z0-9+.-]+)_(?P<version>[^_]+)_[a-z0-9-]+\.deb"
"""A Debian package says its name, version and kind of machine in this form."""


def without_suffix(file_name: str) -> str:
    """Return a file name without its volume number and the extension of an archive or another one."""
    match = re.search(_ARCHIVE_SUFFIX, file_name) or re.search(_OTHER_SUFFIX, file_name)
    if not match or match.start() == 0:
        return file_name
    stem = file_name[: match.start()]
    volume = re.search(_VOLUME, stem)
    return stem[: volume.start()] if volume and volume.start() else stem


def is_archive_name(file_name: str) -> bool:
    """Whether a name says that its file is an archive or its first part; programs may be, but do not say so."""
    return bool(re.search(_CALLED_ARCHIVE, file_name))


def may_be_archives(suffix: str) -> bool:
    """Whether names with this suffix, with its dot, may be those of archives."""
    return any(is_archive_name(stem + suffix) for stem in ("x", "x.zip", "x.tar"))


def tidy_name(file_name: str) -> str:
    """Return the name of an archive without extension, volume number, copy marks and trailing version.

    A bare integer is never a version: "Gels 2" is the second of two packs. A step that would leave nothing is left out.
    """
    return _split_version(file_name)[0]


def version_of(file_name: str) -> str:
    """Return the trailing version that `tidy_name` removes, without a leading `v`; empty if there is none."""
    return _split_version(file_name)[1]


def compared_versions(one: str, other: str) -> int:
    """Return 1 if the first version is newer, -1 if it is older, 0 if they are equal or one is unknown.

    Versions of packages are compared as such: 1.2 equals 1.2.0, and 1.0-beta comes before 1.0. Others, such as dates,
    are compared by their numbers.
    """
    if not one or not other:
        return 0
    from packaging.version import InvalidVersion, Version

    try:
        new, old = Version(one), Version(other)
    except InvalidVersion:
        numbers = [[int(number) for number in re.findall(r"\d+", version)] for version in (one, other)]
        return (numbers[0] > numbers[1]) - (numbers[0] < numbers[1])
    return (new > old) - (new < old)


def _split_version(file_name: str) -> tuple[str, str]:
    if package := re.fullmatch(_PACKAGE, file_name):
        return package["name"], package["version"]
    name = without_suffix(file_name)
    versions: list[str] = []
    while True:
        version = None
        match = re.search(_COPY, name) or (version := re.search(_TRAILING_VERSION, name))
        rest = name[: match.start()].rstrip(" ._-") if match else ""
        if not match or not rest:
            return name, " ".join(versions)
        if version:
            versions.insert(0, version.group().strip(" ._-()[]").lower().removeprefix("v"))
        name = rest


def free_name(name: str, taken: "set[str]", begun: "dict[str, int] | None" = None) -> str:
    """Return the first name like `gel (2).csv` for `gel.csv` whose spelling key is not in `taken`.

    `begun` remembers for each name the next number to try; useful for many.
    """
    for number, candidate in numbered(name, begun.get(name, 2) if begun else 2):
        if spelling_key(candidate) not in taken:
            if begun is not None:
                begun[name] = number + 1
            return candidate
    raise AssertionError("numbers do not end")


def numbered(name: str, first: int = 2) -> Iterator[tuple[int, str]]:
    """Yield `gel (2).csv`, `gel (3).csv` and so on for `gel.csv`, each with its number."""
    for number in count(first):
        yield number, numbered_name(name, number)


def is_numbered(other: str, name: str) -> bool:
    """Whether a name is one of those that `numbered` yields for another."""
    return any(numbered_name(name, int(number)) == other for number in re.findall(r"\((\d{1,9})\)", other))


def without_number(name: str, own: str) -> str:
    """Return `own` if a name is that with a number, as a free name is; else the name."""
    return own if is_numbered(name, own) else name


def unnumbered(name: str) -> str:
    """Return the name that a free name was made of; the name itself if it has no number."""
    return without_number(name, re.sub(r" \(\d{1,9}\)", "", name, count=1))


_LONGEST_NAME = 200
"""Characters of a holding's name; with a number behind it still a name for every file system."""


def fault_in_name(name: str) -> str:
    """Say why a text cannot be a holding's name; empty if it can.

    The name is typed after commands, and directories are called by it: it must be no path and must be printable.
    """
    if not name.strip() or name in (".", ".."):
        return "it is empty"
    if "/" in name or "\\" in name:
        return "it is a path"
    if not name.isprintable():
        return "it has signs that cannot be shown"
    return f"it is longer than {_LONGEST_NAME} characters" if len(name) > _LONGEST_NAME else ""


def climbs(path: str) -> bool:
    """Whether any component of a path is `..`; backslashes count as separators."""
    return ".." in path.replace("\\", "/").split("/")


def joined(path: str, rest: str) -> str:
    """Join two paths by `/`. Either may be empty, and the first may be `.`."""
    if path in ("", "."):
        return rest
    return f"{path}/{rest}" if rest else path
