"""`usufruct recover`."""

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.actions.context import Context, ignore_recovery
from usufruct.actions.recovering import copy_out_backups, put_right, say_moved
from usufruct.cli.context import tell_recovery
from usufruct.cli.errors import error_document
from usufruct.cli.screen import count_words, echo, echo_json, json_option, path_words
from usufruct.errors import MachineError

if TYPE_CHECKING:
    from usufruct.transaction.recover import Recovered


@click.command(short_help="Reverse a change that was cut off.")
@click.option(
    "--moved",
    nargs=2,
    type=click.Path(),
    metavar="OLD NEW",
    help="Say that what was in the folder OLD is in NEW now: another mount point, or a folder that you moved. The same"
    " path twice: its content is on another disk now.",
)
@click.option(
    "--backups",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    help="Copy the backups that nothing on record needs into FOLDER, each under the beginning of its digest.",
)
@json_option
def recover(*, moved: tuple[str, str] | None, backups: Path | None, as_json: bool) -> int:
    """Reverse a change that a crash or a power cut interrupted.

    Every command that writes does so first, by itself. What lies on a drive that is not there waits for it; this says
    which. If a drive or folder has another place now, --moved records that.
    """
    context = Context(on_recovery=ignore_recovery if as_json else partial(tell_recovery, waiting=True))
    count = say_moved(context, *moved) if moved else 0
    found = put_right(context)
    copied = copy_out_backups(context, backups) if backups else ()
    if as_json:
        echo_json({**_document(found, count if moved else None), **({"backups": copied} if backups else {})})
    elif backups:
        echo(
            f"{count_words(len(copied), 'backup')} copied into {path_words(str(backups))}. They stay in the store too."
        )
    elif moved:
        echo(f"{count_words(count, 'holding')} recorded as lying in {path_words(moved[1])}.")
    elif not (found.reversed or found.waiting or found.untidied):
        echo("Nothing was cut off: there is nothing to recover.")
    return MachineError.exit_code if found.waiting else 0


def _document(recovered: "Recovered", moved: int | None) -> dict[str, Any]:
    document: dict[str, Any] = {"reversed": [], "waiting": [], "untidied": list(recovered.untidied)}
    for change, strangers in recovered.reversed:
        left = [{"path": one.path, "saved": one.saved, "lacking": one.lacking} for one in strangers]
        document["reversed"].append({"change": str(change.kind), "about": change.about, "left": left})
    for change, error in recovered.waiting:
        said = {"change": str(change.kind), "about": change.about, "error": error_document(error)}
        document["waiting"].append(said)
    if moved is not None:
        document["moved"] = moved
    return document
