"""Going back: at once when a change fails, or at the next command when it was cut off."""

from collections.abc import Iterator
from contextlib import contextmanager

from usufruct.errors import Interrupted, MachineError, UsufructError
from usufruct.ledger.changes import begin_change, phase_of, stagings_of, unfinished_changes
from usufruct.model.changes import Change, ChangeKind, Phase
from usufruct.transaction.finish import finish_reversed, tidy
from usufruct.transaction.switch import switch_back
from usufruct.transaction.work import Edges, Work


@contextmanager
def change_under_way(edges: Edges, kind: ChangeKind, about: str, *, is_undo: bool = False) -> Iterator[Work]:
    """A change that is reversed if anything inside fails; inside must end with `finish`.

    Raises what was raised inside, OSError as MachineError and an interruption as Interrupted, once everything is
    as it was before. An error in the tidying afterwards is not raised: the next command tidies again.
    """
    with edges.ledger.transaction():
        change = begin_change(edges.ledger, kind, about, edges.now(), is_undo=is_undo)
    try:
        yield Work(edges, change, about)
    except BaseException as error:
        if phase_of(edges.ledger, change) is Phase.DONE:
            raise
        strangers = reverse(edges, change)
        raise _told(error, strangers) from error
    _tidy_if_possible(edges)


def reverse(edges: Edges, change: int) -> list[str]:
    """Take a change back, however far it came, unless it is done; gives the paths that somebody else changed."""
    work = Work(edges, change, stagings=stagings_of(edges.ledger, change))
    strangers = switch_back(work) if phase_of(edges.ledger, change) is Phase.SWITCHING else []
    finish_reversed(work)
    _tidy_if_possible(edges)
    return strangers


def recover(edges: Edges) -> list[tuple[Change, list[str]]]:
    """Reverse every change that was cut off and tidy after those that were done.

    Gives the changes reversed, newest first, each with the paths that were left because somebody else changed them.
    """
    recovered = [(change, reverse(edges, change.number)) for change in unfinished_changes(edges.ledger)]
    tidy(edges)
    return recovered


def _tidy_if_possible(edges: Edges) -> None:
    """Tidy; what cannot be removed now is removed by the next command."""
    try:
        tidy(edges)
    except OSError:
        return


def _told(error: BaseException, strangers: list[str]) -> BaseException:
    """The error as the user gets to know it."""
    kept = "What had begun was reversed; everything is as before."
    if strangers:
        kept = f"What had begun was reversed, but another program changed {', '.join(strangers)}: left as it is."
    if isinstance(error, UsufructError):
        if strangers:
            error.kept = kept
        return error
    if isinstance(error, KeyboardInterrupt):
        return Interrupted("Stopped.", kept=kept, remedy="Run the command again when you like.")
    if isinstance(error, OSError):
        where = f" at {error.filename}" if error.filename else ""
        return MachineError(
            f"The system refused{where}: {error.strerror or error}.",
            kept=kept,
            remedy="Check free space, permissions and whether a program holds the file open; then try again.",
            path=str(error.filename or ""),
        )
    return error
