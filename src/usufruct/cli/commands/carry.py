"""`usufruct carry out` and `carry in`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from usufruct.actions.carrying_in import ELSEWHERE, PROGRAMS
from usufruct.cli.context import real_context
from usufruct.cli.options import access_of, access_options, ending
from usufruct.cli.screen import (
    confirmed,
    count_words,
    echo,
    echo_json,
    in_columns,
    json_option,
    path_words,
    size_words,
    styled,
    wrapped,
)
from usufruct.errors import DecisionNeeded
from usufruct.files.paths import expanded
from usufruct.files.printable import printable
from usufruct.files.shells import quoted, typed
from usufruct.model.applications import Application, Folder, Programs

if TYPE_CHECKING:
    from usufruct.actions.adding import Added
    from usufruct.actions.carrying_in import Bringing, ToCarryIn
    from usufruct.actions.carrying_out import CarriedOut

_ALLOWING = {
    PROGRAMS: "It would place program files. Allow that?",
    ELSEWHERE: "It would place files outside of an application's own folder. Allow that?",
}
_REFUSED = {
    PROGRAMS: "Holdings with program files were left out.",
    ELSEWHERE: "Holdings with files outside of an application's own folder were left out.",
}


@click.group()
def carry() -> None:
    """Move everything you added to another computer, in one file."""


@carry.command("out", short_help="Write everything you added into one file.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--without-archives", is_flag=True, help="Write only definitions, settings and the list of holdings.")
@json_option
def out_command(file: Path, *, without_archives: bool, as_json: bool) -> int:
    """Write everything you added into FILE, a zip: definitions, settings, archives, and how each was added.

    The file is read back and compared before it gets its name. The exit status is 1 if an archive is missing.
    """
    from usufruct.actions.carrying_out import carry_out
    from usufruct.cli.progress import Watching

    with Watching() as watching:
        done = carry_out(real_context(watching), file, with_archives=not without_archives)
    missing = () if without_archives else done.without
    if as_json:
        echo_json(
            {
                "file": str(done.made.volumes[0]),
                "bytes": done.made.size,
                "applications": done.document.applications,
                "holdings": [one.name for one in done.document.holdings],
                "without_archive": list(done.without),
                "edited": done.edited,
            }
        )
    else:
        _tell_out(done, missing)
    return 1 if missing else 0


def _tell_out(done: CarriedOut, missing: tuple[str, ...]) -> None:
    document = done.document
    archives = len({one.inside for holding in document.holdings for one in holding.archives if one.inside})
    first, *others = wrapped(
        f"Carried out {count_words(len(document.holdings), 'holding')} with {count_words(archives, 'archive file')},"
        f" {count_words(len(document.applications), 'application')}, {count_words(len(document.settings), 'setting')}",
        "",
    )
    echo(first.replace("Carried out", styled("Carried out", "good"), 1))
    for line in others:
        echo(line)
    echo(f"  {styled(path_words(str(done.made.volumes[0])), 'place')}  {size_words(done.made.size)}")
    brings = f"`usufruct carry in {quoted(Path(done.made.volumes[0]).name)}`"
    for line in wrapped(f"On the other machine, {brings} shows what it would do and does it.", "  "):
        echo(f"  {line}")
    for name in missing:
        echo(
            f"  {styled('missing', 'care')}  the archive of {printable(name)}; `usufruct pack {quoted(name)}` makes"
            " one of what is on disk"
        )
    for name, count in done.edited.items():
        echo(f"  {styled('edited', 'care')}   {count_words(count, 'file')} of {printable(name)}, carried as they came")


def _maps(click_context: click.Context, option: click.Parameter, values: tuple[str, ...]) -> list[tuple[str, str]]:
    maps = []
    for value in values:
        there, equals, here = value.partition("=")
        if not equals or not there or not here:
            raise click.BadParameter(f"{value} is not of the form THERE=HERE.")
        maps.append((str(expanded(there)), str(expanded(here).absolute())))
    return maps


@carry.command("in", short_help="Add everything from a file that `carry out` wrote.")
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--map",
    "maps",
    metavar="THERE=HERE",
    multiple=True,
    callback=_maps,
    help="A folder on the other machine and its counterpart here; repeatable.",
)
@click.option("--dry-run", is_flag=True, help="Only show what would happen.")
@click.option("--yes", is_flag=True, help="Do it without asking, except for what needs --allow.")
@click.option(
    "--allow",
    multiple=True,
    type=click.Choice([PROGRAMS, ELSEWHERE]),
    help="Allow program files, or files outside the program's own folder; repeatable.",
)
@access_options
@json_option
def in_command(
    file: Path,
    *,
    maps: list[tuple[str, str]],
    dry_run: bool,
    yes: bool,
    allow: tuple[str, ...],
    as_json: bool,
    **options: Any,
) -> int:
    """Add everything from FILE, which `carry out` wrote on another computer.

    It first shows what it would do. What is already here stays as it is. Archives go into the store, and each holding
    is added with the same choices as on the other computer. You are asked separately about program files and about
    files outside a program's own folder, or you allow them with --allow.
    """
    from msgspec.structs import replace

    from usufruct.actions.carrying_in import ADD, ADDED, UNUSABLE, carry_in, plan_carry_in
    from usufruct.cli.progress import Watching
    from usufruct.cli.questions import is_asking

    context = real_context()
    access = access_of(context, options)
    plan = plan_carry_in(context, file, maps)
    asks_elsewhere = (not as_json) and is_asking() and not dry_run
    plan.without(frozenset() if asks_elsewhere else plan.asks.difference(allow))
    count = sum(one.state == ADD for one in plan.holdings)
    if not as_json:
        _tell_plan(plan)
    if dry_run:
        if as_json:
            echo_json(_document(plan))
        return 0
    if not yes:
        if as_json or not is_asking():
            raise DecisionNeeded(
                f"{count_words(count, 'holding')} would be added.", remedy="Add --yes to do it, or --dry-run to see it."
            )
        if not confirmed("Do it?"):
            raise click.Abort
    refused = {what for what in sorted(plan.asks.difference(allow)) if not confirmed(_ALLOWING[what])}
    plan.without(frozenset(refused))

    def tell(bringing: Bringing, one: Added) -> None:
        watching.pause()
        if not as_json:
            _tell_added(bringing, one)

    with Watching(count) as watching:
        added = carry_in(replace(context, watch=watching), plan, access, tell)
    if as_json:
        echo_json(_document_of_added(plan, added))
    left: list[object] = [one for one in plan.holdings if one.state not in (ADD, ADDED)]
    left += [one for one in plan.definitions if one.state == UNUSABLE]
    left += [state for *_, state in plan.settings if state == UNUSABLE]
    failed = [one.error.exit_code for one in added if one.error]
    return ending(failed) if failed and len(failed) == len(added) and not left else 1 if failed or left else 0


def _tell_added(bringing: Bringing, one: Added) -> None:
    """Print what happened to one holding."""
    name = printable(bringing.holding.name)
    if one.error:
        echo(f"{styled(one.state, 'bad')}  {name}: {one.error.message} {one.error.remedy}")
    else:
        echo(f"{styled(one.state, 'good')}  {name}: {count_words(one.placed.files if one.placed else 0, 'file')}")


def _document_of_added(plan: ToCarryIn, added: Sequence[Added]) -> dict[str, Any]:
    """Return the plan's document with the results of what was to be added, in the same order."""
    from usufruct.actions.carrying_in import ADD

    results = iter(added)
    document = _document(plan)
    for holding in document["holdings"]:
        if holding["state"] == ADD:
            result = next(results)
            holding["state"] = result.state
            holding["detail"] = result.error.message if result.error else ""
    return document


def _document(plan: ToCarryIn) -> dict[str, Any]:
    return {
        "made": plan.document.made,
        "applications": [
            {
                "name": one.name,
                "root": one.root,
                "state": one.state,
                "folders": {folder.name: folder.path for folder in one.application.folders} if one.application else {},
                "after": list(one.application.after) if one.application else [],
                "programs": one.application.programs.value if one.application else "",
                "asks": sorted(one.asks),
            }
            for one in plan.definitions
        ],
        "settings": [{"key": key, "value": value, "state": state} for key, value, state in plan.settings],
        "holdings": [
            {
                "name": one.holding.name,
                "application": one.holding.application,
                "root": one.root,
                "state": one.state,
                "detail": one.detail,
                "choices": list(one.choices),
                "asks": sorted(one.asks),
            }
            for one in plan.holdings
        ],
    }


def _tell_plan(plan: ToCarryIn) -> None:
    from usufruct.actions.carrying_in import NEW, NOT_ALLOWED

    made = printable(plan.document.made[:16].replace("T", " "))
    echo(f"{styled(path_words(str(plan.file)), 'title')}  carried out {made} UTC")
    rows: list[tuple[str, str, str, str]] = []
    for one in plan.definitions:
        what = printable(one.detail) or f"for {path_words(one.root)}"
        rows.append((_words(one.state), "definition", printable(one.name), what))
        if one.application and one.state in (NEW, NOT_ALLOWED):
            rows += _definition_rows(one.application)
    rows += [(_words(state), "setting", printable(key), printable(str(value))) for key, value, state in plan.settings]
    for holding in plan.holdings:
        detail = printable(holding.detail) or f"into {path_words(holding.root)}"
        rows.append((holding.state, "holding", printable(holding.holding.name), detail))
        rows += [("", "", "with", printable(words)) for words in holding.choices]
    for line in in_columns(rows, frozenset(), _style, in_full=True):
        echo(line)
    missing = {ask for one in plan.definitions if one.state == NOT_ALLOWED for ask in one.asks}
    missing |= {ask for one in plan.holdings if one.state == NOT_ALLOWED for ask in one.asks}
    for what in sorted(missing):
        for line in wrapped(f"{_REFUSED[what]} `--allow {what}` lets it.", "  "):
            echo(f"  {line}")


def _definition_rows(application: Application) -> list[tuple[str, str, str, str]]:
    """Return what a definition would do here: every folder, the command, and files that can run."""
    rows = [("", "folder", printable(folder.name), _folder_words(folder)) for folder in application.folders]
    if application.after:
        agrees = f"is run only once you agree, with `usufruct app agree {application.name}`"
        rows.append(("", "after", printable(typed(application.after)), agrees))
    if application.programs is Programs.ALLOW:
        rows.append(("", "programs", "allow", "places program files"))
    return rows


def _folder_words(folder: Folder) -> str:
    path = printable(folder.path)
    return f"{path}, outside of the application's folder" if folder.is_elsewhere else path


def _words(state: str) -> str:
    from usufruct.actions.carrying_in import NEW, NOT_ALLOWED, OTHER, UNUSABLE

    words = {NEW: "to add", NOT_ALLOWED: NOT_ALLOWED, OTHER: "differs here, stays", UNUSABLE: "unusable, left out"}
    return words.get(state, "there already")


def _style(column: int, text: str) -> str:
    from usufruct.actions.carrying_in import ADD, ADDED

    if column == 0:
        word = text.strip()
        role = "good" if word == ADD else "quiet" if word in (ADDED, "there already") else "care"
        return styled(text, role)
    return styled(text, "title") if column == 2 else text
