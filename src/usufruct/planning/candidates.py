"""Find the applications that the names in an archive may mean anything to, before any layout is made.

There may be one too many among them, but never one too few: an application that is not among them would get nothing.
The time that this takes does not depend on the number of applications.
"""

from collections.abc import Iterable, Sequence
from functools import lru_cache

from usufruct.model.applications import Application
from usufruct.planning.names import folded, folded_path
from usufruct.planning.patterns import NamesByForm, Patterns, is_name, patterns_of, suffix_meant
from usufruct.planning.tree import Tree

_Numbers = dict[str, set[int]]
_DIRECTORY, _FILE = "/", "="
"""Stand before the words of `words_of` that are names."""


class Candidates:
    """For each name that any application looks for, the numbers of these applications."""

    def __init__(self, applications: Sequence[Application]) -> None:
        self._directories: _Numbers = {}
        """Names of directories, as they are compared: of the root, of folders, of the application itself."""
        self._suffixes: _Numbers = {}
        self._names: _Numbers = {}
        """Whole names of files, as they are compared."""
        self._patterns: list[tuple[int, Patterns]] = []
        """All other patterns of names."""
        for number, application in enumerate(applications):
            for name in _directories_of(application):
                self._directories.setdefault(name, set()).add(number)
            marks = [mark for folder in application.folders for mark in folder.mark]
            takes = [pattern for folder in application.folders for pattern in folder.takes]
            for pattern in {*marks, *takes}:
                self._enter(number, pattern.replace("\\", "/").rstrip("/").rpartition("/")[2])

    def _enter(self, number: int, pattern: str) -> None:
        if suffix := suffix_meant(pattern):
            self._suffixes.setdefault(suffix, set()).add(number)
        elif is_name(pattern):
            self._names.setdefault(folded(pattern), set()).add(number)
        else:
            self._patterns.append((number, patterns_of(pattern)))

    def among(self, tree: Tree) -> set[int]:
        """Return the numbers of the applications that names in an archive may mean anything to."""
        found = _met(self._directories, tree.directories_by_name) | _met(self._directories, tree.names_by_likeness)
        found |= _met(self._suffixes, tree.by_form.by_suffix) | _met(self._names, tree.by_form.folded)
        for number, one in self._patterns:
            if number not in found and next(one.found_in(tree.by_form), None) is not None:
                found.add(number)
        return found

    @property
    def words(self) -> frozenset[str] | None:
        """All of `words_of` by which an application is found; None if a pattern finds one by other names, too."""
        if self._patterns:
            return None
        names = (*map(_DIRECTORY.__add__, self._directories), *map(_FILE.__add__, self._names))
        return frozenset((*names, *self._suffixes))

    def taking(self, name: str) -> set[int]:
        """Return the numbers of the applications that may take a file of this name."""
        dot = name.rfind(".")
        found = self._names.get(folded(name), set()) | self._suffixes.get(name[dot:].lower() if dot >= 0 else "", set())
        return found | {number for number, one in self._patterns if one.by_name(name)}


@lru_cache(maxsize=2)
def candidates_of(applications: tuple[Application, ...]) -> Candidates:
    """Return the candidates of these applications; a hundred downloads are tried on the same."""
    return Candidates(applications)


def words_of(tree: Tree, name: str) -> frozenset[str]:
    """Return all names by which applications are found: of directories, like these, of suffixes and files."""
    files = NamesByForm([*tree.listing.names, name])
    directories = map(_DIRECTORY.__add__, (*tree.directories_by_name, *tree.names_by_likeness))
    return frozenset((*directories, *files.by_suffix, *map(_FILE.__add__, files.folded)))


def _directories_of(application: Application) -> Iterable[str]:
    """Return the last components of all directory names that mean something to an application."""
    names = [application.name, *application.also, application.root.replace("\\", "/").rstrip("/")]
    for folder in application.folders:
        names += [folder.name, *folder.also, folder.path.replace("\\", "/").rstrip("/")]
    return {last for name in names if (last := folded_path(name).strip("/").rpartition("/")[2])}


def _met(wanted: _Numbers, there: Iterable[str]) -> set[int]:
    """Return the numbers of the applications that want any of these names."""
    return set().union(*(wanted[name] for name in there if name in wanted))
