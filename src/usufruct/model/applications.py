"""What an application is: folders, and how content lies in each."""

from enum import StrEnum

from msgspec import Struct


class Arrange(StrEnum):
    """How files lie in a folder."""

    LOOSE = "loose"
    """Each file directly in the folder; sub-directories are dropped."""
    TREE = "tree"
    """Sub-directories are kept."""
    PIECES = "pieces"
    """Each piece in a sub-directory of its own."""


class Programs(StrEnum):
    """What is done with files that can run."""

    ASK = "ask"
    ALLOW = "allow"
    REFUSE = "refuse"


class Folder(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """One place in an application where one kind of content belongs."""

    name: str
    path: str
    """Relative to the root with `/`, or `.`, or absolute where the application keeps it elsewhere."""
    arrange: Arrange
    takes: tuple[str, ...] = ()
    """Patterns of the files that belong here; empty: any."""
    prefer: tuple[str, ...] = ()
    """Formats of one thing, best first: of one stem only the first is placed."""
    mark: tuple[str, ...] = ()
    """Patterns of the file that makes its directory a piece."""
    unless: tuple[str, ...] = ()
    """Patterns, as of marks, of files that show a directory to be another kind of piece."""
    also: tuple[str, ...] = ()
    """Other names by which archives call the folder."""
    installed: tuple[str, ...] = ()
    """Absolute paths of directories in which the same content may be installed already."""
    known: tuple[str, ...] = ()
    """With path `.`: sub-directories of the root that mean something."""

    gather: bool = True
    """In a tree: what comes by pattern from one archive keeps a directory of its own."""
    data: bool = False
    """Nothing in it runs by itself, whatever its place is called; of shipped definitions only."""

    @property
    def is_root(self) -> bool:
        """The folder is the application's root itself."""
        return self.path == "."

    @property
    def is_elsewhere(self) -> bool:
        """The folder lies outside the application's root, at an absolute path."""
        return self.path.startswith("/") or self.path[1:3] in (":/", ":\\")


class Application(Struct, frozen=True, kw_only=True):
    """A program that reads content from folders."""

    name: str
    title: str
    root: str
    """Absolute path of the directory that the folders' paths start from."""
    folders: tuple[Folder, ...]
    also: tuple[str, ...] = ()
    """Names by which archives call the root."""
    leave: tuple[str, ...] = ()
    """Patterns of files that are never placed."""
    programs: Programs = Programs.ASK
    after: tuple[str, ...] = ()
    """The command to run, without a shell, once files changed."""
    is_shipped: bool = False
    """Came with Usufruct; the user's own definitions go before it."""
    is_here: bool = True
    """Its folder or its program is there; one that is not takes part only where it is named."""
    program: tuple[str, ...] = ()
    """Names of programs, any of which shows that it is here."""
    tell: str = ""
    """What to do in the program once content was placed, in one sentence."""
    source: str = ""
    """Where what the definition says is documented."""
    checked: str = ""
    """The program's version that it was checked with."""
    yields: bool = False
    """Never gets anything by itself; it is only offered where a question is asked."""

    def folder(self, name: str) -> Folder | None:
        """The folder of this exact name."""
        return next((folder for folder in self.folders if folder.name == name), None)
