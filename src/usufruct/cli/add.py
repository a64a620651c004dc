"""`usufruct add`."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from usufruct.actions.adding import Added, add_archives, look_at
from usufruct.actions.request import Request
from usufruct.actions.surroundings import Surroundings
from usufruct.cli import words
from usufruct.cli.documents import added_document, examined_document
from usufruct.cli.options import afterwards_of, ending, paths_of, request_of, request_options, tell_unheard
from usufruct.cli.progress import Watching
from usufruct.cli.questions import answered, is_answerable, is_asking, picked, ticked
from usufruct.cli.reports import add_report, look_report
from usufruct.cli.screen import echo, echo_json, json_option
from usufruct.cli.surroundings import surroundings
from usufruct.errors import WrongUsage
from usufruct.model.settings import AFTERWARDS


@click.command(short_help="Place archives.")
@click.argument(
    "archives", metavar="[ARCHIVE...]", nargs=-1, type=click.Path(path_type=Path), shell_complete=words.archives
)
@request_options
@click.option(
    "--afterwards",
    type=click.Choice(AFTERWARDS),
    help="What becomes of the archive once placed: it stays, goes to the trash, or is stored. Otherwise as the "
    "settings say.",
)
@click.option("--open", "opens", is_flag=True, help="Open the folder that was placed into.")
@click.option("--dry-run", is_flag=True, help="Only show what would be done.")
@click.option("--full", "in_full", is_flag=True, help="Show every file, however many there are.")
@json_option
def add(
    archives: tuple[Path, ...],
    *,
    afterwards: str | None,
    opens: bool,
    dry_run: bool,
    in_full: bool,
    as_json: bool,
    **options: Any,
) -> int:
    """Place each ARCHIVE where its application looks for it, as a holding.

    Without ARCHIVE, at a terminal, the new downloads are offered as a checklist.

    All content is unpacked next to its destination, checked and hashed before the application's folder is touched. What
    is replaced is backed up, and `usufruct remove` gives it back.
    """
    around = surroundings()
    request = request_of(around, options)
    paths = paths_of(archives, options) if archives else _chosen_downloads(around)
    if options["picks"]:
        request = _with_picked(around, paths, request)
    if dry_run:
        looks = look_at(around, paths, request)
        tell_unheard(request, looks)
        if as_json:
            echo_json({"archives": [examined_document(result) for result in looks]})
        else:
            for result in looks:
                for line in look_report(result, in_full=in_full):
                    echo(line)
        return ending([result.obstacle.exit_code if result.obstacle else 0 for result in looks])

    watching = Watching(len(paths) if not request.together else 1)

    def tell(added: Added) -> None:
        watching.pause()
        if not as_json:
            asks = is_asking() and is_answerable(added.examined)
            for line in add_report(added, in_full=in_full, asks=asks):
                echo(line)

    around = replace(around, watch=watching)
    how = afterwards_of(around, afterwards)
    with watching:
        results = add_archives(around, paths, request, tell, how)
    if is_asking() and not as_json:
        # What needs no answer is placed by now, and the questions come at the end, one after the other.
        results = [_asked(around, result, paths, tell, how) for result in results]
    if as_json:
        echo_json({"archives": [added_document(result) for result in results]})
    tell_unheard(request, [result.examined for result in results])
    if opens:
        for root in {one.examined.plan.snapshot.root for one in results if one.placed and one.examined.plan}:
            click.launch(root)
    return ending([result.error.exit_code if result.error else 0 for result in results])


def _chosen_downloads(around: Surroundings) -> list[Path]:
    """The downloads that a person ticks, of those that are new."""
    if not is_asking():
        raise WrongUsage("No archive is named.", remedy="Name one; `usufruct downloads` lists what waits.")
    from usufruct.actions.downloads import NEW, NEWER, waiting

    new = [one for one in waiting(around, most=200) if one.state in (NEW, NEWER) and one.application]
    if not new:
        raise WrongUsage("Nothing new waits in the downloads folders.", remedy="`usufruct downloads` lists all of it.")
    chosen = ticked(new)
    if not chosen:
        raise click.Abort
    return [Path(path) for path in chosen]


def _asked(
    around: Surroundings, result: Added, paths: list[Path], tell: Callable[[Added], None], afterwards: str
) -> Added:
    """The archive added after all once a person has answered; as it was if they do not."""
    while result.state == "refused" and result.examined.decisions and not result.examined.error:
        request = answered(around, result.examined)
        if request is None:
            return result
        again = paths if request.together else [Path(result.examined.path)]
        (result,) = add_archives(around, again, request, tell, afterwards)
    return result


def _with_picked(around: Surroundings, paths: list[Path], request: Request) -> Request:
    if not is_asking():
        raise WrongUsage("--pick needs a terminal.", remedy="Name the entries with --only and --skip.")
    if len(paths) > 1 and not request.together:
        raise WrongUsage("--pick is for one archive at a time.", remedy="Name one archive, or add --together.")
    (result,) = look_at(around, paths, request)
    if result.error:
        raise result.error
    chosen = picked(result) if result.layout and result.layout.files else ()
    if chosen is None:
        raise click.Abort
    return replace(request, choices=replace(request.choices, picked=chosen))
