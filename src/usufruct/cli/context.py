"""What a command works with; reports go to standard error."""

from pathlib import Path
from typing import TYPE_CHECKING

from usufruct.actions.context import Context
from usufruct.cli.screen import count_words, echo, path_words
from usufruct.errors import DriveAway, UsufructError
from usufruct.files.printable import printable
from usufruct.files.shells import typed
from usufruct.model.progress import Watch, unwatched

if TYPE_CHECKING:
    from usufruct.transaction.recover import Recovered
    from usufruct.transaction.switch import Stranger


def real_context(watch: Watch = unwatched) -> Context:
    """Return the real context. It reports reversed changes, and progress if someone watches."""
    told: set[str] = set()

    def tell_fault(fault: UsufructError) -> None:
        """Say once what cannot be used; everything else works."""
        if fault.message not in told:
            told.add(fault.message)
            opens = typed(["usufruct", "app", "edit", Path(fault.path).stem])
            is_definition = fault.path.endswith(".toml") and not fault.path.endswith("settings.toml")
            mends = f" `{opens}` opens it." if is_definition else ""
            _tell(f"{printable(fault.message)} It is ignored; everything else works. {printable(fault.remedy)}{mends}")

    def tell_lost(count: int) -> None:
        """Say it once in a command, even if the ledger is opened several times."""
        if "lost" not in told:
            told.add("lost")
            _tell_lost(count)

    return Context(
        on_recovery=tell_recovery, on_fault=tell_fault, on_waiting=_tell_waiting, on_lost=tell_lost, watch=watch
    )


def _tell_waiting() -> None:
    _tell("Waiting until an earlier command has finished cleaning up …")


def tell_recovery(recovered: "Recovered", *, waiting: bool = False) -> None:
    """Say which interrupted changes were reversed, which could not be, and what could not be removed.

    Changes that wait for their drive are only told with `waiting`, because most commands have nothing to do with them.
    """
    for change, strangers in recovered.reversed:
        end = "everything is as before" if not strangers else "everything except these files is as before"
        _tell(f"An earlier {change.kind} of {printable(change.about)} was interrupted and has been undone; {end}.")
        for stranger in strangers:
            _tell(f"  {_stranger_words(stranger)}")
    for change, error in recovered.waiting:
        if waiting or not isinstance(error, DriveAway):
            _tell(f"An earlier {change.kind} of {printable(change.about)} was interrupted and cannot be undone yet.")
            _tell(f"  {printable(error.message)} {printable(error.remedy)}")
    for fault in recovered.untidied:
        _tell(f"Could not be cleaned up yet: {printable(fault)}. The next command tries again.")


def _stranger_words(stranger: "Stranger") -> str:
    path = path_words(stranger.path)
    if stranger.saved:
        return (
            f"{path} was changed by another program meanwhile and was left as it is; your earlier file is kept as "
            f"{path_words(stranger.saved)}."
        )
    if stranger.lacking:
        return (
            f"{path} was left as it is, because the file that was there before is missing or damaged. It should be "
            f"{path_words(stranger.lacking)}; what there is of it was kept."
        )
    return f"{path} was changed by another program meanwhile and was left as it is."


def _tell_lost(count: int) -> None:
    _tell(
        f"The record does not know {count_words(count, 'backup')} of files that were replaced: it was lost, or an older"
        " copy is in its place."
    )
    _tell("  They are kept. Put the record back from your own backup of it, or take the files out with")
    _tell("  `usufruct recover --backups FOLDER`.")


def _tell(text: str) -> None:
    echo(text, err=True)
