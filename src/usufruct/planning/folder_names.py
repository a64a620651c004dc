"""The names of an application's root and folders, and finding a folder by a word that the user typed."""

from msgspec import Struct, field

from usufruct.model.applications import Application, Folder
from usufruct.planning.names import folded, folded_path, joined


class FolderNames(Struct):
    """All names of an application's root and folders, as names are compared."""

    root: dict[tuple[str, ...], str] = field(default_factory=dict)
    """Components of a name of the root → as written."""
    single: dict[str, Folder] = field(default_factory=dict)
    shared: dict[str, list[Folder]] = field(default_factory=dict)
    """Names that are alike of two folders and more."""
    several: dict[tuple[str, ...], Folder] = field(default_factory=dict)
    """Names of two and more components."""
    paths: dict[str, Folder] = field(default_factory=dict)
    """Folded paths below the root."""

    @classmethod
    def of(cls, application: Application) -> "FolderNames":
        """The names of one application."""
        names = cls()
        for name in (*application.also, application.root.replace("\\", "/").rstrip("/").rpartition("/")[2]):
            parts = tuple(folded_path(name).strip("/").split("/"))
            if any(parts):
                names.root.setdefault(parts, name)
        # A folder's own names go before the last component of a path, which another folder may share.
        for folder in application.folders:
            own = [folder.name, *folder.also]
            if not folder.is_root and not folder.is_elsewhere:
                own.append(folder.path)
                names.paths.setdefault(folded_path(folder.path), folder)
            for name in own:
                names._enter(name, folder)
        own_words = frozenset(names.single)
        for folder in application.folders:
            last = folder.path.replace("\\", "/").rstrip("/").rpartition("/")[2]
            if not folder.is_root and folded(last) not in own_words:
                names._enter(last, folder)
        return names

    def _enter(self, name: str, folder: Folder) -> None:
        parts = tuple(folded_path(name.strip("/")).split("/"))
        if len(parts) > 1:
            self.several.setdefault(parts, folder)
        elif parts[0] and self.single.setdefault(parts[0], folder) is not folder:
            rivals = self.shared.setdefault(parts[0], [self.single[parts[0]]])
            if folder not in rivals:
                rivals.append(folder)

    def are_of(self, folder: Folder, name: str) -> bool:
        """Whether a name, as names are compared, is one of the folder."""
        return self.single.get(name) is folder


def folder_and_below(application: Application, wanted: str) -> tuple[Folder, str] | None:
    """Find the folder in `FOLDER/SUB/DIRECTORY` and return it with the rest; the longest folder name counts."""
    parts = [part for part in wanted.replace("\\", "/").split("/") if part]
    for count in range(len(parts), 0, -1):
        if folder := folder_named(application, "/".join(parts[:count])):
            return folder, "/".join(parts[count:])
    return None


def folder_named(application: Application, name: str) -> Folder | None:
    """Find a folder by its name, its path or a name in its `also`."""
    wanted = folded_path(name.replace("\\", "/").strip("/"))
    ways = (
        lambda folder: [folder.name],
        lambda folder: [folder.path, folder.path.rpartition("/")[2]],
        lambda folder: folder.also,
    )
    for names in ways:
        for folder in application.folders:
            if wanted in map(folded_path, names(folder)):
                return folder
    return None


def in_known_spelling(folder: Folder, relative: str) -> str:
    """Write the first component of a path as the definition spells it, in a folder whose path is `.`."""
    if not folder.known or not relative:
        return relative
    first, _, rest = relative.partition("/")
    spelling = next((known for known in folder.known if folded(known) == folded(first)), first)
    return joined(spelling, rest)
