"""Find out where an application keeps its content on this machine, and whether it is here at all."""

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatch
from functools import cache, cached_property
from pathlib import Path

from msgspec import Struct

from usufruct.definitions.form import DefinitionForm
from usufruct.files.paths import expanded
from usufruct.files.platform import Platform, this_platform
from usufruct.planning.names import by_number, climbs

BASE_DIRECTORIES = {"XDG_DATA_HOME": "~/.local/share", "XDG_CONFIG_HOME": "~/.config", "XDG_CACHE_HOME": "~/.cache"}
"""Variables that a path may begin with, and what holds where they are not set: the desktop's open standard."""
_USER_DIRECTORIES = {
    "XDG_PICTURES_DIR": "Pictures",
    "XDG_MUSIC_DIR": "Music",
    "XDG_VIDEOS_DIR": "Videos",
    "XDG_DOCUMENTS_DIR": "Documents",
}
"""The desktop's names of the user's own directories → what they are called where nothing else is said."""
_WINDOWS = re.compile(r"%(\w+)%")
_NO_PATHS: Mapping[str, str] = {}


class Whereabouts(Struct, frozen=True):
    """One place of an application."""

    root: str
    """Absolute; with a pattern in it where nothing of that form is there."""
    is_here: bool
    paths: Mapping[str, str] = _NO_PATHS
    """Folder → its path, where that differs in this place."""


class Machine:
    """What is the same for all definitions; found once."""

    def __init__(self, platform: Platform | None = None) -> None:
        self.platform = platform or this_platform()
        self.bases = {"~": absolute("~"), **{f"${name}": absolute(f"${name}") for name in BASE_DIRECTORIES}}
        """What places begin with → the absolute path that this means here."""

    @cached_property
    def _programs(self) -> frozenset[str]:
        """The names of all programs that the user can start; in lower case if names have no case."""
        # Of a hundred programs, listing the directories takes half as long as looking for each.
        names = [name for place in _searched(os.environ.get("PATH", "")) for name in _listed(place)]
        return frozenset(map(str.lower, names) if self.platform.has_windows_names else names)

    @cached_property
    def _entries(self) -> Mapping[str, frozenset[str]]:
        """The names in each directory that places begin with, if names have case."""
        listed = self.bases.items() if self.platform.has_open_desktop else ()
        return {first: frozenset(_listed(base)) for first, base in listed}

    def may_have(self, root: str) -> bool:
        """Whether the directory that a definition names may be there: most are not, and need not be looked at."""
        first, _, rest = root.partition("/")
        name = rest.partition("/")[0]
        return first not in self._entries or not name or "*" in name or name in self._entries[first]

    def has_program(self, name: str) -> bool:
        """Whether the user can start a program by this name; a link that leads nowhere is none."""
        return not self._programs.isdisjoint(_program_names(name, self.platform)) and is_program(name, self.platform)


def whereabouts(
    form: DefinitionForm, *, is_shipped: bool, here: Machine | None = None, only_here: bool = False
) -> list[Whereabouts]:
    """Return the place that counts, and those of other versions if the definition means each of them.

    The first place that exists counts, else the first for this kind of system. `here` is given for many definitions.
    With `only_here` there is none if neither a place nor the program is there.
    """
    here = here or Machine()
    platform, bases = here.platform, here.bases
    application = form.application
    written = [(root, _NO_PATHS) for root in _as_list(application.root)]
    written += [(place.root, place.paths) for place in form.place]
    for root, paths in written:
        if here.may_have(root) and (path := _on_this_system(root, platform, bases)) and (found := _matching(path)):
            others = found if application.versions == "each" else found[:1]
            return [Whereabouts(one, True, paths) for one in others]
    is_written = not (is_shipped or application.program or len(written) > 1)
    is_standard = application.standard and platform.has_open_desktop
    is_here = is_written or is_standard or any(map(here.has_program, application.program))
    if only_here and not is_here:
        return []
    possible = [(path, paths) for root, paths in written if (path := _on_this_system(root, platform, bases))]
    path, paths = next((one for one in possible if "*" not in one[0]), possible[0] if possible else (written[0][0], {}))
    return [Whereabouts(path, is_here and "*" not in path, paths)]


def _as_list(root: str | Sequence[str]) -> Sequence[str]:
    return [root] if isinstance(root, str) else root


def _on_this_system(root: str, platform: Platform, bases: Mapping[str, str]) -> str | None:
    """Return the absolute path that a root means; None if it is for another system."""
    if root.startswith("%"):
        variable = _WINDOWS.match(root) if platform.has_windows_names else None
        base = os.environ.get(variable[1], "") if variable else ""
        return base.replace("\\", "/") + root[root.index("%", 1) + 1 :].replace("\\", "/") if base else None
    if root.startswith("~/Library/") and (platform.has_open_desktop or platform.has_windows_names):
        return None
    first, _, rest = root.partition("/")
    return f"{bases[first]}/{rest}".rstrip("/") if first in bases else absolute(root)


def _matching(path: str) -> list[str]:
    """Return the directories that a path means: itself, or all that match its pattern, the highest version first."""
    if "*" not in path:
        return [path] if os.path.isdir(path) else []
    above, _, rest = path.partition("*")
    above, _, begin = above.rpartition("/")
    end, _, below = rest.partition("/")
    try:
        names = [name for name in os.listdir(above or "/") if fnmatch(name, f"{begin}*{end}")]
    except OSError:
        return []
    found: list[str] = []
    for name in sorted(names, key=by_number, reverse=True):
        found += _matching(f"{above}/{name}/{below}".rstrip("/"))
    return found


def is_program(name: str, platform: Platform) -> bool:
    """Whether the user can start a program by this name."""
    names = _program_names(name, platform)
    return any(os.path.exists(f"{place}/{one}") for place in _searched(os.environ.get("PATH", "")) for one in names)


def _program_names(name: str, platform: Platform) -> tuple[str, ...]:
    return (name, f"{name}.exe", f"{name}.cmd") if platform.has_windows_names else (name,)


def _listed(directory: str) -> list[str]:
    try:
        return os.listdir(directory)
    except OSError:
        return []


@cache
def _searched(path: str) -> tuple[str, ...]:
    """Return the directories of a search path, each once: on most systems some are links to others."""
    return tuple(dict.fromkeys(os.path.realpath(one) for one in path.split(os.pathsep) if one))


def _user_directory(variable: str) -> str:
    """Return one of the user's own directories, as the desktop's `user-dirs.dirs` names it."""
    # The path library says the same, but takes longer to import than most commands to run.
    try:
        text = Path(absolute("$XDG_CONFIG_HOME/user-dirs.dirs")).read_text(encoding="utf-8", errors="replace")
    except OSError:
        text = ""
    named = re.search(rf'(?m)^\s*{variable}="(\$HOME)?/([^"\n]+)"', text)
    if not named:
        return f"~/{_USER_DIRECTORIES[variable]}"
    return f"{'~' if named[1] else ''}/{named[2]}"


def absolute(path: str) -> str:
    """Return a path of a definition with its variables and `~` replaced, with `/` on every system."""
    if path.startswith("$"):
        variable, _, rest = path[1:].partition("/")
        if variable in _USER_DIRECTORIES:
            path = f"{_user_directory(variable)}/{rest}".rstrip("/")
        elif variable in BASE_DIRECTORIES:
            given = os.environ.get(variable, "")
            # The standard says to ignore a relative path there.
            base = given if os.path.isabs(given) else BASE_DIRECTORIES[variable]
            path = f"{base}/{rest}".rstrip("/")
    if path.startswith("~"):
        path = os.path.expanduser(path)
    if not path.startswith("/") or "//" in path or "/." in path:
        path = os.path.abspath(path)
    return path if os.sep == "/" else path.replace(os.sep, "/")


_STARTS = tuple(f"${variable}" for variable in (*BASE_DIRECTORIES, *_USER_DIRECTORIES))
_FIRST_SIGNS = frozenset("/\\~$%")
"""One of these begins every absolute path that does not begin with a drive's letter."""


def is_absolute(path: str) -> bool:
    """Whether a path of a definition is absolute on any system."""
    if path[:1] not in _FIRST_SIGNS and path[1:2] != ":":
        return False  # most paths of a definition are below its root
    return path.startswith(_STARTS) or _WINDOWS.match(path) is not None or expanded(path).is_absolute()


def faults_of_root(form: DefinitionForm) -> Iterator[str]:
    """Yield what is wrong with the places that a definition names."""
    variables = " or ".join(f"${variable}" for variable in BASE_DIRECTORIES)
    roots = [*_as_list(form.application.root), *(place.root for place in form.place)]
    if not roots:
        yield "root names no place"
    for root in roots:
        if not is_absolute(root):
            yield f"root must be an absolute path or begin with ~, {variables}"
        if climbs(root):
            yield "root may not contain .."
    known = {folder.name for folder in form.folder}
    for place in form.place:
        for name, path in place.paths.items():
            if name not in known:
                yield f"paths names {name}, and no folder is called so"
            if not path.strip() or climbs(path):
                yield f"the path of {name} is empty or contains .."
