"""Show what one holding has."""

from msgspec import Struct

from usufruct.actions.context import Context
from usufruct.actions.listing import find_holding, with_presence
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import Note, name_of_holding, notes_of
from usufruct.model.holdings import Holding
from usufruct.model.records import FileKind, FileState, Layer
from usufruct.survey.holdings import destinations_of


class HeldFile(Struct, frozen=True):
    """One file of a holding."""

    path: str
    """Absolute."""
    entry: str
    state: FileState
    is_on_top: bool
    """Nothing else was placed over it."""
    replaced: str | None
    """What lies beneath: `original`, a holding's name, `user` for a file the user made in between, or nothing."""


class Shown(Struct, frozen=True):
    """One holding with all it has."""

    holding: Holding
    files: tuple[HeldFile, ...]
    notes: tuple[Note, ...]
    notes_directory: str
    """Absolute path of the directory with the notes."""


def show_holding(context: Context, name: str) -> Shown:
    """Return what one holding has: its files, what they replaced, its notes."""
    with context.reading() as ledger:
        holding = find_holding(ledger, name)
        assert ledger, "a holding was found in it"
        (holding,) = with_presence(context, ledger, [holding])
        files = []
        for destination in destinations_of(ledger, holding.number):
            index = destination.index_of(holding.number)
            layer = destination.stack[index]
            if layer.state.kind is FileKind.DIRECTORY:
                continue
            beneath = _beneath(ledger, destination.stack[:index])
            is_on_top = all(other.holding is None for other in destination.stack[index + 1 :])
            files.append(HeldFile(destination.file, layer.entry, layer.state, is_on_top, beneath))
        notes = tuple(notes_of(ledger, holding.number))
    return Shown(holding, tuple(files), notes, str(context.paths.notes / str(holding.number)))


def _beneath(ledger: Ledger, stack: tuple[Layer, ...]) -> str | None:
    """Return what is right below: a holding's name, or `original` or `user` for the user's own."""
    if not stack:
        return None
    below = stack[-1]
    if below.holding is not None:
        return name_of_holding(ledger, below.holding)
    if below.state.kind is FileKind.ABSENT:
        return None
    return "original" if below.level == 0 else "user"
