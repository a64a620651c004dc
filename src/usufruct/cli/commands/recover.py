"""`usufruct recover`."""

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.actions.context import Context, ignore_recovery
from usufruct.actions.recovering import copy_out_backups, put_right, say_moved
from usufruct.cli.context import tell_recovery
from usufruct.cli.errors import error_document
from usufruct.cli.screen import count_words, echo, echo_json, json_option, path_words, shell_words
from usufruct.errors import MachineError

if TYPE_CHECKING:
    from usufruct.actions.recovering import Moved
    from usufruct.transaction.recover import Recovered

_MOST_TOLD = 5
"""Files that are named where some are not as the record says."""


@click.command()
@click.option(
    "--moved",
    nargs=2,
    type=click.Path(),
    metavar="OLD NEW",
    help="Record that the folder OLD is now at NEW, because you moved it or its drive has another mount point. The same"
    " path twice: it is on another disk now.",
)
@click.option(
    "--backups",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    help="Copy backups that no record needs any more into FOLDER, under their original paths.",
)
@json_option
def recover(*, moved: tuple[str, str] | None, backups: Path | None, as_json: bool) -> int:
    """Undo a change that a crash or a power cut interrupted.

    Every command that writes does this first, automatically. Changes on a drive that is not connected wait for it; this
    command lists them. If you moved a folder, or a drive has another mount point, record that with --moved.
    """
    context = Context(on_recovery=ignore_recovery if as_json else partial(tell_recovery, waiting=True))
    said = say_moved(context, *moved) if moved else None
    found = put_right(context)
    copied = copy_out_backups(context, backups) if backups else ()
    if as_json:
        echo_json({**_document(found, said), **({"backups": copied} if backups else {})})
    elif backups:
        echo(
            f"{count_words(len(copied), 'backup')} copied into {path_words(str(backups))}. They stay in the store too."
        )
    elif moved and said:
        _tell_moved(said, moved[1])
    elif not (found.reversed or found.waiting or found.untidied):
        echo("No change was interrupted: there is nothing to recover.")
    return MachineError.exit_code if found.waiting else 0


def _tell_moved(said: "Moved", new: str) -> None:
    what = [count_words(said.holdings, "holding")] if said.holdings or not said.archives else []
    what += [count_words(said.archives, "archive")] if said.archives else []
    echo(f"{' and '.join(what)} recorded as being in {path_words(new)}.")
    for paths, how in ((said.missing, "not there"), (said.changed, "not as recorded")):
        if paths:
            more = f" and {len(paths) - _MOST_TOLD} more" if len(paths) > _MOST_TOLD else ""
            echo(f"  {how}: {', '.join(map(path_words, paths[:_MOST_TOLD]))}{more}")
    if said.missing or said.changed:
        echo("  `usufruct check` says what can be done about them.")
    for name in said.applications:
        edit = shell_words(["usufruct", "app", "edit", name])
        echo(f"  The definition of {name} still names the old folder: `{edit}` changes that.")
    for key, value in said.settings:
        change = shell_words(["usufruct", "settings", "set", key, value])
        echo(f"  The setting {key} still names the old folder: `{change}` changes that.")


def _document(recovered: "Recovered", moved: "Moved | None") -> dict[str, Any]:
    document: dict[str, Any] = {"reversed": [], "waiting": [], "untidied": list(recovered.untidied)}
    for change, strangers in recovered.reversed:
        left = [{"path": one.path, "saved": one.saved, "lacking": one.lacking} for one in strangers]
        document["reversed"].append({"change": str(change.kind), "about": change.about, "left": left})
    for change, error in recovered.waiting:
        said = {"change": str(change.kind), "about": change.about, "error": error_document(error)}
        document["waiting"].append(said)
    if moved is not None:
        document["moved"] = moved.holdings
        document["archives"] = moved.archives
        document["missing"], document["changed"] = list(moved.missing), list(moved.changed)
        document["still_named_in"] = {
            "applications": list(moved.applications),
            "settings": [key for key, _ in moved.settings],
        }
    return document
