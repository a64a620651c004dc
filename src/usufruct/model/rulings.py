"""What the rules say about the entries of an archive: rulings, which a Layout carries out."""

from collections.abc import Collection
from enum import IntEnum
from typing import NamedTuple

from msgspec import Struct

from usufruct.model.applications import Folder


class SkippedKind(IntEnum):
    """Why an entry is not placed; the label is what users and programs read."""

    JUNK = 1
    NOTES = 2
    DUPLICATE = 3
    NOT_TAKEN = 4
    NOT_CHOSEN = 5
    OTHER_FORMAT = 6
    LEFT_OUT = 7
    CLASH = 8
    ARCHIVE = 9

    @property
    def label(self) -> str:
        """`not-taken` for NOT_TAKEN."""
        return self.name.lower().replace("_", "-")


class Evidence(IntEnum):
    """By what an entry found its place; a higher value is stronger."""

    NONE = 0
    ANYTHING = 1
    """A bare `*`, which claims nothing by itself."""
    EVERYDAY = 2
    """A pattern, for a type that very many programs use."""
    PATTERN = 3
    """A pattern, for a type of the application's own."""
    MARK = 4
    FOLDER_NAME = 5
    ROOT_NAME = 6
    """A name of the root, with a folder found below it."""


class Option(Struct, frozen=True, kw_only=True):
    """One answer to a question."""

    name: str
    answer: tuple[str, ...]
    """The words to add to the command."""
    files: int
    size: int
    """Bytes that would be placed by it."""
    left_out: int = 0
    """Files that are content and would not be placed by it."""
    example: str = ""
    """An entry or destination that it stands for."""


class Decision(Struct, frozen=True, kw_only=True):
    """A question that only the user can answer."""

    question: str
    options: tuple[Option, ...]
    detail: tuple[str, ...] = ()
    """What is good to know before answering, one thought each."""
    is_of_whole: bool = False
    """It is about where the archive as a whole goes, so that a directory or a new definition answers it too."""
    is_open: bool = False
    """Nothing speaks for one of the options: the first answer is to place nothing."""
    safe: Option | None = None
    """The answer that can be taken without asking, where one loses nothing."""


class Put(NamedTuple):
    """These rows go to a directory."""

    rows: Collection[int]
    folder: Folder | None
    path: str
    """Of the directory, as in a Home."""
    why: str
    evidence: Evidence
    piece: str = ""


class Move(NamedTuple):
    """These rows, as far as they have a place, go to another directory of the same folder, for the same reason."""

    rows: Collection[int]
    path: str
    piece: str


class Rename(NamedTuple):
    """A row gets another name than its own."""

    row: int
    name: str


class Skip(NamedTuple):
    """These rows are not placed, whatever place they had."""

    rows: Collection[int]
    kind: SkippedKind
    why: str


class Refuse(NamedTuple):
    """These rows are unsafe to place."""

    rows: Collection[int]
    why: str


class Doubt(NamedTuple):
    """Why these rows find no place where their directory points, should they find no other."""

    rows: Collection[int]
    why: str


class Unwrap(NamedTuple):
    """A directory of the archive, by its path, only wraps; the first reason counts."""

    path: str
    why: str


class Used(NamedTuple):
    """A `--choose` word named an alternative."""

    word: str


class Compare(NamedTuple):
    """The content of these rows must be compared before the layout is final."""

    rows: Collection[int]


Ruling = Put | Move | Rename | Skip | Refuse | Doubt | Unwrap | Used | Compare | Decision
