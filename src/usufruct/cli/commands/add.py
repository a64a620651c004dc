"""`usufruct add`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.errors import exit_code_of
from usufruct.cli.options import afterwards_of, code_of, ending, paths_of, request_of, request_options, tell_unheard
from usufruct.cli.screen import count_words, echo, echo_json, json_option, open_outside
from usufruct.errors import Interrupted, WrongUsage
from usufruct.model.settings import AFTERWARDS, KEEP, STORE

if TYPE_CHECKING:
    from usufruct.actions.adding import Added
    from usufruct.actions.context import Context
    from usufruct.actions.request import Request


@click.command()
@click.argument(
    "archives", metavar="[ARCHIVE...]", nargs=-1, type=click.Path(path_type=Path), shell_complete=words.archives
)
@request_options
@click.option(
    "--afterwards",
    type=click.Choice(AFTERWARDS),
    help="What to do with the archive afterwards: keep it, move it to the trash, or store it. The default is a "
    "setting.",
)
@click.option("--open", "opens", is_flag=True, help="Open the folder in the file manager afterwards.")
@click.option("--dry-run", is_flag=True, help="Only show what would happen.")
@click.option("--full", "in_full", is_flag=True, help="Show everything, including every file.")
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
    """Place the files of each ARCHIVE where its program looks for them.

    Without ARCHIVE, at a terminal, you choose from your new downloads.

    Everything is unpacked and checked before the program's folder is touched. Replaced files are backed up; `usufruct
    remove` restores them.
    """
    from usufruct.actions.streams import is_stream
    from usufruct.cli.documents import added_document
    from usufruct.cli.reports import summary_lines

    context = real_context()
    request = request_of(context, options)
    comes_as_stream = any(map(is_stream, archives))
    if comes_as_stream and not dry_run and options["name"] is None and options["update"] is None:
        raise WrongUsage("What comes as a stream has no name.", remedy="Say what to call the holding: --as NAME.")
    paths = paths_of(context, archives, options) if archives else _chosen_downloads(context)
    if options["picks"]:
        request = _with_picked(context, paths, request)
    if dry_run:
        from usufruct.cli.commands.look import tell_looks

        return tell_looks(context, paths, request, in_full=in_full, as_json=as_json)
    how = afterwards_of(context, afterwards)
    if comes_as_stream and how == KEEP:
        how = STORE  # there is no separate file that could stay
    results: list[Added] = []
    is_stopped = _add(context, paths, request, how, results, in_full=in_full, as_json=as_json)
    if as_json:
        echo_json({"archives": [added_document(result) for result in results]})
    elif _are_many(paths, request):
        reached = {result.examined.path for result in results}
        for line in summary_lines(results, [path for path in paths if str(path.absolute()) not in reached]):
            echo(line)
    tell_unheard(request, [result.examined for result in results])
    if is_stopped:
        return _stopped(results, as_json=as_json)
    if opens:
        for root in {one.examined.plan.snapshot.root for one in results if one.placed and one.examined.plan}:
            open_outside(root)
    return ending([code_of(result.error, result.examined.facts) for result in results])


def _add(
    context: Context,
    paths: list[Path],
    request: Request,
    how: str,
    results: list[Added],
    *,
    in_full: bool,
    as_json: bool,
) -> bool:
    """Add the archives, tell the result of each, then ask questions; return whether the user interrupted."""
    from msgspec.structs import replace

    from usufruct.actions.adding import add_archives
    from usufruct.cli.asking import Asking
    from usufruct.cli.progress import Watching
    from usufruct.cli.questions import is_answerable, is_asking
    from usufruct.cli.reports import add_report, short_report

    watching = Watching(len(paths) if not request.together else 1)
    # Archives with questions are placed later by the same command.
    context = replace(context, watch=watching, command=[])

    def tell(added: Added) -> None:
        watching.pause()
        results.append(added)
        if as_json:
            return
        if _are_many(paths, request) and not in_full:
            echo(short_report(added))
            return
        asks = is_asking() and is_answerable(added.examined)
        for line in add_report(added, in_full=in_full, asks=asks):
            echo(line)

    try:
        # With several archives, ask for passwords together with the other questions.
        asks_later = is_asking() and not as_json and _are_many(paths, request)
        with watching, request.access.passwords.known_only(asks_later):
            add_archives(context, paths, request, tell, how)
        if is_asking() and not as_json:
            # Archives without questions are placed by now; the questions follow one after the other.
            Asking(context, paths, how, in_full=in_full).all(results)
    except KeyboardInterrupt:
        return True
    return any(isinstance(result.error, Interrupted) for result in results)


def _are_many(paths: list[Path], request: Request) -> bool:
    """Whether each gets one line, and a summary follows."""
    return len(paths) > 1 and not request.together


def add_within(archives: Sequence[Path]) -> int:
    """Add archives as a part of another command, with the options that need no word; return the exit code."""
    paths = list(map(str, archives))

    def work() -> object:
        # A separate context: the answering command is shown as words of `add`.
        return add.invoke(add.make_context("usufruct add", ["--", *paths]))

    return exit_code_of(work, as_json=False)


def _stopped(results: list[Added], *, as_json: bool) -> int:
    """End a command that the user interrupted: what was done stays, and is told."""
    done = sum(result.state in ("added", "updated") for result in results)
    if not as_json:
        were = "was" if done == 1 else "were"
        said = f"{count_words(done, 'archive')} {were} added. The same command adds the rest."
        echo(f"Stopped. {said if done else 'Nothing was added.'}", err=True)
    return Interrupted.exit_code


def _chosen_downloads(context: Context) -> list[Path]:
    """Let the user choose from the downloads that could be added."""
    from usufruct.cli.questions import is_asking, ticked

    if not is_asking():
        raise WrongUsage("No archive is named.", remedy="Name one; `usufruct downloads` lists what waits.")
    from usufruct.actions.arrivals import LOCKED, NEW, NEWER
    from usufruct.actions.downloads import waiting

    # Locked or ambiguous ones can be added too, once a question is answered.
    new = [one for one in waiting(context, most=200) if one.state in (NEW, NEWER, LOCKED)]
    if not new:
        raise WrongUsage("Nothing new waits in the downloads folders.", remedy="`usufruct downloads` lists all of it.")
    chosen = ticked(new)
    if not chosen:
        raise WrongUsage("Nothing was ticked.", remedy="Space ticks a download, enter adds those that are ticked.")
    return [Path(path) for path in chosen]


def _with_picked(context: Context, paths: list[Path], request: Request) -> Request:
    from msgspec.structs import replace

    from usufruct.actions.looking import look_at
    from usufruct.actions.outcomes import Refused
    from usufruct.cli.questions import is_asking, picked

    if not is_asking():
        raise WrongUsage("--pick needs a terminal.", remedy="Name the entries with --only and --skip.")
    if len(paths) > 1 and not request.together:
        raise WrongUsage("--pick is for one archive at a time.", remedy="Name one archive, or add --together.")
    (result,) = look_at(context, paths, request)
    if isinstance(result, Refused):
        raise result.error
    if not result.layout or not result.layout.files:
        return request
    chosen = picked(result.layout)
    if not chosen:
        raise WrongUsage("Nothing was ticked.", remedy="Space ticks what is to be placed, enter is done.")
    return replace(request, choices=replace(request.choices, picked=chosen))
