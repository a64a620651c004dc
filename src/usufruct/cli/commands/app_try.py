"""`usufruct app try`."""

from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import click

from usufruct.actions.applications import application_named, known_applications
from usufruct.actions.arrivals import folders_of
from usufruct.actions.context import Context
from usufruct.actions.gathering import gathered, is_archive
from usufruct.actions.outcomes import AlreadyThere, Asked, Examined, Refused
from usufruct.actions.trying import Tried, try_definitions
from usufruct.cli import words
from usufruct.cli.context import real_context
from usufruct.cli.documents import examined_document
from usufruct.cli.screen import count_words, echo, echo_json, in_columns, json_option, styled
from usufruct.definitions.load import load_application
from usufruct.errors import WrongUsage
from usufruct.model.applications import Application
from usufruct.model.rulings import SkippedKind
from usufruct.planning.competition import evidence_words

_NEWEST = 20
"""Downloads that a new definition is tried on."""


@click.command("try", short_help="Show which program each archive would go to, and why.")
@click.argument("name", shell_complete=words.applications)
@click.argument("archives", nargs=-1, type=click.Path(path_type=Path))
@json_option
def try_command(name: str, archives: tuple[Path, ...], *, as_json: bool) -> int:
    """Try the definition of NAME on each ARCHIVE, to improve it against a downloads folder.

    NAME may also be the path of a definition file. Without NAME, all definitions are tried: which one gets each
    archive, why, and where another is nearly as good. The exit status is 1 if an archive would not be placed.
    """
    context = real_context()
    known = known_applications(context)
    one = None
    if name.endswith(".toml") and Path(name).is_file():
        one = load_application(Path(name))
    elif any(application.name == name for application in known) or not Path(name).exists():
        one = application_named(known, name)
    else:
        archives = (Path(name), *archives)
    if not archives:
        raise WrongUsage("There is nothing to try it on.", remedy="Name archives, or a folder that holds some.")
    results = try_definitions(context, gathered(archives), one)
    if as_json:
        echo_json({"archives": [_document(result) for result in results]})
    else:
        rows = [_tried_alone(result, result.alone) if result.alone else _tried(result) for result in results]
        rows.insert(0, ("archive", *(() if one else ("for",)), "placed", "left", "why"))
        for line in in_columns(rows, frozenset({1, 2} if one else {2, 3}), _style):
            echo(line)
        echo()
        echo(_summary(results))
    return 1 if any((result.alone or result.contest).obstacle for result in results) else 0


def download_lines(context: Context, application: Application) -> Iterator[str]:
    """Return which of the newest downloads an application would get, with the commands that add them."""
    found = [path for folder in folders_of(context) if folder.is_dir() for path in folder.iterdir() if path.is_file()]
    found.sort(key=lambda path: -path.stat().st_mtime_ns)
    archives = gathered([path for path in found if is_archive(path)][:_NEWEST])
    if not archives:
        return
    fitting = [
        (result, result.alone)
        for result in try_definitions(context, archives, application)
        if result.alone and result.alone.layout and result.alone.layout.files
    ]
    if not fitting:
        yield f"None of the {len(archives)} newest downloads is for it."
        return
    yield f"Of the {len(archives)} newest downloads, for it {'is' if len(fitting) == 1 else 'are'}:"
    yield from in_columns([_tried_alone(*pair) for pair in fitting], frozenset({1, 2}), _style)


def _document(result: Tried) -> dict[str, Any]:
    document = examined_document(result.alone or result.contest)
    contest = examined_document(result.contest)
    return document | {
        "wins": contest["application"],
        "weighed": contest["weighed"],
        "near": [one.application for one in result.near],
    }


def _tried(result: Tried) -> tuple[str, ...]:
    """Return a row: archive, who gets it, files placed, files not taken, the evidence and who nearly got it."""
    contest = result.contest
    who = contest.application.name if contest.application else "asked" if isinstance(contest, Asked) else "-"
    return (_name(contest), who, *_counts(contest), _outcome(result, ""))


def _tried_alone(result: Tried, alone: Examined) -> tuple[str, ...]:
    """Return a row: archive, files placed, files not taken, where they would go, the result among all definitions."""
    counted: Counter[str] = Counter()
    if alone.layout:
        counted.update(one.home.folder.name for one in alone.layout.placements if one.home.folder)
    where = ", ".join(f"{count} to {folder}" for folder, count in counted.most_common())
    obstacle = alone.obstacle.message if alone.obstacle else ""
    name = alone.request.applications[0].name
    outcome = _outcome(result, name) if alone.layout and alone.layout.files else ""
    return (_name(alone), *_counts(alone), " · ".join(dict.fromkeys(filter(None, (where, outcome, obstacle)))))


def _name(examined: Examined) -> str:
    return examined.path.replace("\\", "/").rpartition("/")[2]


def _counts(examined: Examined) -> tuple[str, str]:
    layout = examined.layout
    if layout is None:
        return "-", "-"
    return f"{layout.files:,}", f"{len(layout.rows_skipped(SkippedKind.NOT_TAKEN, SkippedKind.ARCHIVE)):,}"


def _outcome(result: Tried, tried: str) -> str:
    """Say who gets it and by which evidence, and who is nearly as good."""
    contest = result.contest
    if isinstance(contest, Refused):
        return contest.error.message
    if isinstance(contest, AlreadyThere) and not contest.application:
        return f"added already as {contest.name}"
    if not contest.application:
        return contest.decisions[0].question if isinstance(contest, Asked) else ""
    winner = contest.application.name
    told = evidence_words(contest.layout.evidence) if contest.layout else ""
    said = f"because of {told}" if winner == tried or not tried else f"but it goes to {winner}, because of {told}"
    if contest.obstacle:
        said += f"; {contest.obstacle.message}"
    if result.near:
        names = " and ".join(f"{one.application} ({count_words(one.files, 'file')})" for one in result.near)
        said += f"; nearly a tie with {names}"
    return said


def _summary(results: Sequence[Tried]) -> str:
    contests = [result.contest for result in results]
    failed = sum(isinstance(contest, Refused) for contest in contests)
    won = Counter(
        contest.application.name for contest in contests if contest.application and not isinstance(contest, Refused)
    )
    parts = [f"{name} {styled(str(count), 'title')}" for name, count in won.most_common()]
    elsewhere = sum(isinstance(one, AlreadyThere) and not one.application for one in contests)
    open_ones = [one for one in contests if isinstance(one, Asked) and not one.application]
    near = sum(bool(result.near) for result in results)
    if open_ones:
        parts.append(f"asked about {len(open_ones)}")
    if elsewhere:
        parts.append(f"added already, for no application, {elsewhere}")
    if failed:
        parts.append(f"refused {failed}")
    tail = f"; {near} nearly a tie" if near else ""
    return f"Of {count_words(len(results), 'archive')}: {', '.join(parts)}{tail}."


def _style(column: int, text: str) -> str:
    return styled(text, "title") if not column else text
