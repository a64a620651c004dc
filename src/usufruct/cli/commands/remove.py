"""`usufruct remove`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.screen import count_words, echo, echo_json, json_option, path_words, shell_words, styled, wrapped
from usufruct.errors import WrongUsage
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.removing import Forgotten, HoldingRemoved

_MOST_PATHS = 8


@click.command()
@click.argument("holdings", metavar="[HOLDING...]", nargs=-1, shell_complete=words.holdings)
@click.option(
    "--app", "application", metavar="NAME", shell_complete=words.applications, help="Everything of one program."
)
@click.option("--only", metavar="PATTERN", multiple=True, help="Only files with this path or name; repeatable.")
@click.option(
    "--changed",
    type=click.Choice(["leave", "give-back"]),
    default="leave",
    show_default=True,
    help="Files you changed since: leave them, or move them to the trash and restore the earlier versions.",
)
@click.option("--forget", is_flag=True, help="Only forget the record; all files stay.")
@click.option("--dry-run", is_flag=True, help="Only show what would happen.")
@json_option
def remove(
    holdings: tuple[str, ...],
    *,
    application: str | None,
    only: tuple[str, ...],
    changed: str,
    forget: bool,
    dry_run: bool,
    as_json: bool,
) -> int:
    """Remove the files of each HOLDING and restore what they replaced.

    HOLDING is a name, a pattern in quotes ("owl*"), or the archive it came from.

    Files that you changed since stay where they are. The holding then stays in the list with these files, and the exit
    status is 1.
    """
    from msgspec.structs import replace

    from usufruct.actions.removing import forget_holdings, remove_holdings, would_remove
    from usufruct.cli.progress import Watching

    context = real_context()
    if not holdings and not application:
        raise WrongUsage("Which holding?", remedy="Name holdings, or --app; `usufruct list` shows what there is.")
    if forget and (only or dry_run):
        raise WrongUsage("--forget drops a whole record.", remedy="Leave out --only and --dry-run.")
    if dry_run:
        planned = would_remove(
            context, holdings, application=application, only=only, gives_back_changed=changed == "give-back"
        )
        if as_json:
            echo_json({"holdings": [_document(removal) for removal in planned]})
        else:
            for removal in planned:
                _tell(removal, planned=True)
        return 1 if any(map(_is_short, planned)) else 0
    if forget:
        forgotten = forget_holdings(context, holdings, application)
        if as_json:
            echo_json({"holdings": [_forgotten_document(one) for one in forgotten]})
        else:
            for one in forgotten:
                _tell_forgotten(one)
        return 0

    watching = Watching(max(1, len(holdings)))

    def tell(removal: HoldingRemoved) -> None:
        watching.pause()
        if not as_json:
            _tell(removal)

    context = replace(context, watch=watching)
    with watching:
        removals = remove_holdings(
            context, holdings, tell, application=application, only=only, gives_back_changed=changed == "give-back"
        )
    if as_json:
        echo_json({"holdings": [_document(removal) for removal in removals]})
    return 1 if any(map(_is_short, removals)) else 0


def _state(removal: HoldingRemoved) -> str:
    if removal.away:
        return "away"
    removed = removal.removed
    return "partly removed" if removed.left or removed.unbacked or removed.rest else "removed"


def _is_short(removal: HoldingRemoved) -> bool:
    """Whether something that was to be removed was not."""
    return bool(removal.away or removal.removed.left or removal.removed.unbacked)


def _tell(removal: HoldingRemoved, *, planned: bool = False) -> None:
    removed = removal.removed
    name = styled(printable(removal.holding.name), "title")
    if removal.away:
        echo(f"{styled('Not removed', 'care')} {name}")
        away = removal.away
        for line in wrapped(printable(f"{away.message} {away.kept} {away.remedy}"), "  "):
            echo(f"  {line}")
        return
    is_whole = not removed.left and not removed.unbacked
    if planned:
        echo(f"Would remove {name}: {count_words(removed.taken, 'file')}")
    else:
        done = styled("Removed", "good") if is_whole else styled("Removed in part", "care")
        echo(f"{done} {name}: {count_words(removed.taken, 'file')}")
    if removed.rest:
        echo(f"  {count_words(removed.rest, 'other file')} of it {'stays' if removed.rest == 1 else 'stay'}")
    elif not removed.taken and not removed.given_back and is_whole:
        echo("  no file was removed: its files were yours before, are gone already, or belong to other holdings too")
    would = "would be " if planned else ""
    _tell_paths(f"earlier file {would}restored", f"earlier files {would}restored", removed.given_back)
    _tell_paths("file stays because you changed it", "files stay because you changed them", removed.left)
    _tell_paths(
        "file stays because the backup of what it replaced is missing or damaged (`usufruct check --store`)",
        "files stay because the backups of what they replaced are missing or damaged (`usufruct check --store`)",
        removed.unbacked,
    )
    if removed.unbacked:
        forget = shell_words(["usufruct", "remove", removal.holding.name, "--forget"])
        for line in wrapped(
            f"Put the backups back from your own backup of them and remove it again, or drop the record: `{forget}`"
            " leaves the files as they are.",
            "  ",
        ):
            echo(f"  {line}")
    where = ("would go to the trash",) * 2 if planned else ("is in the trash", "are in the trash")
    trashed = _trashed(removal.saved, removal.kept)
    _tell_paths(f"changed file {where[0]}", f"changed files {where[1]}", trashed)
    for path in removal.kept:
        echo(f"  the changed file is kept as {path_words(path)}")
    if removal.after:
        echo(f"  {styled(removal.after, 'care')}")


def _trashed(saved: tuple[str, ...], kept: tuple[str, ...]) -> tuple[str, ...]:
    """Return the paths whose copies are in the trash; all copies of a command go the same way."""
    return () if kept else saved


def _tell_forgotten(one: Forgotten) -> None:
    echo(
        f"{styled('Forgotten', 'good')} {styled(printable(one.holding.name), 'title')}: "
        f"{count_words(one.files, 'file')} stay and are yours now"
    )
    _tell_paths(
        "of them had replaced a file of another archive, and is now treated as that file, changed by you",
        "of them had replaced files of other archives, and are now treated as those files, changed by you",
        one.over_others,
    )
    _tell_paths(
        "file that it had replaced is in the trash",
        "files that it had replaced are in the trash",
        _trashed(one.saved, one.kept),
    )
    for path in one.kept:
        echo(f"  the file that it had replaced is kept as {path_words(path)}")
    _tell_paths(
        "file that it had replaced is lost: its backup is missing or damaged",
        "files that it had replaced are lost: their backups are missing or damaged",
        one.unbacked,
    )


def _forgotten_document(one: Forgotten) -> dict[str, Any]:
    return {
        "name": one.holding.name,
        "state": "forgotten",
        "files": one.files,
        "over_others": one.over_others,
        "saved": list(one.saved),
        "kept_at": list(one.kept),
        "unbacked": list(one.unbacked),
    }


def _tell_paths(one: str, many: str, paths: Sequence[str]) -> None:
    if not paths:
        return
    echo(f"  {len(paths)} {one if len(paths) == 1 else many}:")
    for path in paths[:_MOST_PATHS]:
        echo(f"    {path_words(path)}")
    if len(paths) > _MOST_PATHS:
        echo(f"    … and {len(paths) - _MOST_PATHS} more")


def _document(removal: HoldingRemoved) -> dict[str, Any]:
    removed = removal.removed
    return {
        "name": removal.holding.name,
        "taken": removed.taken,
        "given_back": list(removed.given_back),
        "left": list(removed.left),
        "unbacked": list(removed.unbacked),
        "saved": list(removal.saved),
        "kept_at": list(removal.kept),
        "rest": removed.rest,
        "state": _state(removal),
    }
