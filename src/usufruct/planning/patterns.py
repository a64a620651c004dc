"""Glob patterns over entry paths, compared as names are."""

import re
from array import array
from collections.abc import Iterable, Iterator, Sequence, Set
from functools import cached_property, lru_cache

from usufruct.planning.everyday import EVERYDAY
from usufruct.planning.names import folded, folded_names, spelling_key

_PLAIN_SUFFIX = re.compile(r"\*(\.[a-z0-9]+)", re.IGNORECASE)
_WILDCARD = re.compile(r"(\*+|\?|\[!?\]?[^\]]*\])")


_MOST_FAR = 2
"""Stars inside a component that are taken to go on over directories."""


def _component(pattern: str, fold: bool) -> str:
    """Return a regular expression for one path component of a pattern.

    The text behind a `*` is matched where it occurs first, and is not looked for again: a later place would only leave
    less for the rest. Otherwise, a pattern with many `*` would take for ever.
    """
    parts, stars = [""], list[str]()
    for number, piece in enumerate(_WILDCARD.split(pattern)):
        if number % 2 == 0:
            parts[-1] += re.escape(folded(piece) if fold else spelling_key(piece)) if piece else ""
        elif piece == "?":
            parts[-1] += "[^/]"
        elif piece[0] == "[":
            parts[-1] += _set(piece)
        else:
            parts.append("")
            # Two asterisks match across directories; nobody means that in a pattern with many.
            stars.append(".*" if len(piece) > 1 and stars.count(".*") < _MOST_FAR else "[^/]*")
    first, *rest = parts
    if not rest:
        return first
    expression = first
    for star, part in zip(stars[:-1], rest[:-1], strict=True):
        expression += f"(?>{star}?{part})" if part else star
    return expression + stars[-1] + rest[-1]


def _set(piece: str) -> str:
    """Return a set of characters as a regular expression; one without characters, such as `[z-a]`, matches nothing."""
    inside = re.sub(r"([\\&~|\[])", r"\\\1", piece[1:-1].lower())
    expression = f"[^/{inside[1:]}]" if inside.startswith("!") else f"[{inside}]"
    try:
        re.compile(expression)
    except re.error:
        return "(?!)"
    return expression


@lru_cache(maxsize=1 << 12)
def letters_of(pattern: str) -> int:
    """Return how narrow a pattern is: the number of characters that are no wildcards."""
    return len("".join(_WILDCARD.split(pattern)[::2]))


def _folds(pattern: str) -> bool:
    """Whether spaces, hyphens and underscores may be ignored in a pattern.

    `_*` would match every name then; such a pattern is compared with them, but without case and Unicode form.
    """
    literal = "".join(_WILDCARD.split(pattern)[::2])
    return bool(literal.strip(" -_/")) or not literal


@lru_cache(maxsize=1 << 12)
def is_own_type(pattern: str) -> bool:
    """Whether a pattern is for a type of an application's own: not for any file, or a type that many use."""
    if not letters_of(pattern):
        return False
    suffixes = pattern.lower().rpartition("/")[2].split(".")[1:]
    return not suffixes or not EVERYDAY.issuperset(suffixes[-2:] if len(suffixes) > 1 else suffixes)


def suffix_meant(pattern: str) -> str:
    """Return the suffix, with its dot and in lower case, if a pattern is for all names with one suffix; else empty."""
    plain = _PLAIN_SUFFIX.fullmatch(pattern)
    return plain[1].lower() if plain else ""


def is_name(pattern: str) -> bool:
    """Whether a pattern without `/` is for a single name, as names are compared."""
    return not _WILDCARD.search(pattern)


@lru_cache(maxsize=512)
def _path_expression(pattern: str) -> re.Pattern[str]:
    """Return what matches a path, as names are compared, or a path above it: a directory includes all below."""
    runs: list[list[str]] = [[]]
    for component in pattern.strip("/").split("/"):
        if component == "**":
            runs.append([])
        else:
            runs[-1].append(_component(component, True))
    first, *rest = ("/".join(run) for run in runs)
    if not rest:
        return re.compile(first + "(?:/.*)?", re.DOTALL)
    expression = f"{first}/" if first else ""
    # As with `*`, the first match after a `**` counts.
    *middle, last = rest
    expression += "".join(f"(?>(?:[^/]+/)*?{part}/)" for part in middle if part)
    expression += f"(?>(?:[^/]+/)*?{last}(?=/|$))" if last else "[^/]+"
    return re.compile(expression + "(?:/.*)?", re.DOTALL)


class NamesByForm:
    """Many names, arranged so that a pattern quickly finds those that it matches.

    It is made once for an archive and used by every definition; an archive may have hundreds of thousands of names.
    """

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names

    @cached_property
    def by_suffix(self) -> "dict[str, array[int]]":
        """Numbers of the names with a suffix, by the last suffix in lower case with its dot."""
        found: dict[str, array[int]] = {}
        for number, name in enumerate(self.names):
            dot = name.rfind(".")
            if dot >= 0:
                suffix = name[dot:].lower()
                if suffix not in found:
                    found[suffix] = array("I")
                found[suffix].append(number)
        return found

    @cached_property
    def without_suffix(self) -> Sequence[int]:
        """Numbers of the names without a dot."""
        return [number for number, name in enumerate(self.names) if "." not in name]

    @cached_property
    def _by_folded(self) -> "tuple[dict[str, int], dict[str, array[int]]]":
        """For each name, as names are compared, the number of the first that is so; and the numbers of all others."""
        first: dict[str, int] = {}
        others: dict[str, array[int]] = {}
        for number, name in enumerate(folded_names(self.names)):
            if first.setdefault(name, number) != number:
                others.setdefault(name, array("I")).append(number)
        return first, others

    @property
    def folded(self) -> Set[str]:
        """All names, as names are compared."""
        return self._by_folded[0].keys()

    def called(self, name: str) -> Iterator[int]:
        """Yield the numbers of the names that equal `name` as names are compared."""
        first, others = self._by_folded
        if name in first:
            yield first[name]
            yield from others.get(name, ())

    @cached_property
    def folded_by_suffix(self) -> dict[str, list[str]]:
        """The names, as names are compared, by their last suffix without its dot; each once."""
        found: dict[str, list[str]] = {}
        for name in self.folded:
            found.setdefault(name.rpartition(".")[2], []).append(name)
        return found


class Patterns:
    """A set of patterns that is asked about many names.

    A pattern without `/` matches the name of a file or directory at any depth. One with `/` matches a path from the
    top; `*` stays within a component and `**` does not.
    """

    def __init__(self, patterns: Iterable[str]) -> None:
        self.patterns = tuple(patterns)
        """As the user wrote them, in order."""
        self._suffixes: dict[str, str] = {}
        self._names: list[tuple[str, re.Pattern[str]]] = []
        self._literal: dict[str, str] = {}
        """Of these the ones without a wildcard, as names are compared."""
        self._tails: dict[str, str] = {}
        """Of the others the suffix that each wants, as names are compared, where it has no wildcard."""
        self._heads: dict[str, str] = {}
        """What names that match begin with, as they are compared."""
        self._exact: list[tuple[str, re.Pattern[str]]] = []
        self._paths: list[tuple[str, re.Pattern[str]]] = []
        for pattern in self.patterns:
            normal = pattern.replace("\\", "/")
            if plain := _PLAIN_SUFFIX.fullmatch(normal):
                self._suffixes.setdefault(plain[1].lower(), pattern)
            elif "/" in normal.rstrip("/"):
                self._paths.append((pattern, _path_expression(normal)))
            else:
                fold = _folds(normal)
                expression = re.compile(_component(normal.rstrip("/"), fold), re.DOTALL)
                (self._names if fold else self._exact).append((pattern, expression))
                if not _WILDCARD.search(normal):
                    self._literal[pattern] = folded(normal.rstrip("/"))
                    continue
                self._heads[pattern] = folded(_WILDCARD.split(normal)[0])
                _, dot, tail = normal.rstrip("/").rpartition(".")
                if dot and "[" not in normal and not _WILDCARD.search(tail):
                    self._tails[pattern] = folded(tail)

    def __bool__(self) -> bool:
        return bool(self.patterns)

    @property
    def has_paths(self) -> bool:
        """Whether a pattern is about paths."""
        return bool(self._paths)

    def by_name(self, name: str) -> str | None:
        """Return the pattern that matches a path component."""
        if self._suffixes:
            dot = name.rfind(".")
            if dot >= 0 and (hit := self._suffixes.get(name[dot:].lower())):
                return hit
        if self._names:
            plain = folded(name)
            for pattern, expression in self._names:
                if expression.fullmatch(plain):
                    return pattern
        if self._exact:
            plain = spelling_key(name)
            for pattern, expression in self._exact:
                if expression.fullmatch(plain):
                    return pattern
        return None

    def found_in(self, names: NamesByForm) -> Iterator[int]:
        """Yield the numbers of the names that `by_name` would match, some perhaps more than once."""
        for _, expression in self._exact:
            for number, name in enumerate(names.names):
                if expression.fullmatch(spelling_key(name)):
                    yield number
        for pattern, expression in self._names:
            if not pattern.strip("*"):
                yield from range(len(names.names))
                continue
            # Most patterns match one name, and an archive has many names.
            if (literal := self._literal.get(pattern)) is not None:
                yield from names.called(literal)
                continue
            tail = self._tails.get(pattern)
            among: Iterable[str] = names.folded if tail is None else names.folded_by_suffix.get(tail, ())
            head = self._heads.get(pattern, "")
            for name in among:
                if name.startswith(head) and expression.fullmatch(name):
                    yield from names.called(name)
        for suffix in self._suffixes:
            yield from names.by_suffix.get(suffix, ())

    def by_path(self, path: str) -> str | None:
        """Return the pattern with `/` that matches a path from the top or a directory above it."""
        if not self._paths:
            return None
        plain = "/".join(map(folded, path.split("/")))
        for pattern, expression in self._paths:
            if expression.fullmatch(plain):
                return pattern
        return None

    def match(self, path: str) -> str | None:
        """Return the pattern that matches a path: its name, the name of a directory above it, or the path itself."""
        for component in reversed(path.split("/")):
            if hit := self.by_name(component):
                return hit
        return self.by_path(path)


@lru_cache(maxsize=1 << 12)
def patterns_of(*patterns: str) -> Patterns:
    """Return the patterns of a definition, which are made once and asked about every archive."""
    return Patterns(patterns)
