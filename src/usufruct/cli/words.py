"""Complete words for shells, with the names that mean something here and now.

Each function is given to an argument or option as its `shell_complete`. None of them ever fails: a shell in the middle
of a line has no room for an error.
"""

import os
import shlex
from collections.abc import Callable, Iterable, Sequence
from functools import wraps
from pathlib import Path

import click
from click.shell_completion import CompletionItem

from usufruct.cli.context import real_context
from usufruct.errors import UsufructError
from usufruct.files.printable import printable

_Complete = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]
_Offered = Callable[[click.Context], Iterable[tuple[str, str]]]


def _completing(offered: _Offered) -> _Complete:
    """Return those of the offered words, each with an explanation, that begin like the typed one."""

    @wraps(offered)
    def complete(click_context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
        try:
            begun = incomplete.casefold()
            taken = click_context.params.get(parameter.name or "") or ()
            return [
                CompletionItem(word, help=help_text)
                for word, help_text in offered(click_context)
                if word.casefold().startswith(begun) and word not in taken and _is_a_line(word)
            ]
        except (UsufructError, OSError):
            return []

    return complete


@_completing
def holdings(_: click.Context) -> Iterable[tuple[str, str]]:
    """The holdings."""
    from usufruct.actions.listing import list_holdings

    return [(one.name, one.application or "") for one in list_holdings(real_context())]


@_completing
def applications(_: click.Context) -> Iterable[tuple[str, str]]:
    """The applications."""
    from usufruct.actions.applications import known_applications

    return [(one.name, one.title) for one in known_applications(real_context())]


@_completing
def folders(click_context: click.Context) -> Iterable[tuple[str, str]]:
    """The folders of the applications that the line names, or of all."""
    from usufruct.actions.applications import known_applications

    named = click_context.params.get("apps") or ()
    return {
        folder.name: application.title
        for application in known_applications(real_context())
        if not named or application.name in named
        for folder in application.folders
    }.items()


@_completing
def settings(_: click.Context) -> Iterable[tuple[str, str]]:
    """The settings."""
    from usufruct.model.settings import meanings

    return meanings().items()


@_completing
def entries(click_context: click.Context) -> Iterable[tuple[str, str]]:
    """The entries of the one archive that the line names."""
    from usufruct.archives.opening import open_archive
    from usufruct.archives.reading import Access
    from usufruct.model.entries import EntryKind

    named = _archives_named(click_context)
    if len(named) != 1:
        return []
    archive = open_archive(Path(named[0]).absolute(), Access())
    try:
        listing = archive.listing
        return [(listing.path(row), "") for row, kind in enumerate(listing.kinds) if kind == EntryKind.FILE]
    finally:
        archive.close()


@_completing
def answers(click_context: click.Context) -> Iterable[tuple[str, str]]:
    """The alternatives in the one archive that the line names, as `--choose` takes them."""
    from usufruct.actions.applications import applications_here
    from usufruct.actions.looking import look_at
    from usufruct.actions.outcomes import Asked
    from usufruct.actions.request import Request
    from usufruct.archives.reading import Access

    named = _archives_named(click_context)
    if len(named) != 1:
        return []
    context = real_context()
    request = Request(applications=tuple(applications_here(context)), access=Access())
    return [
        (option.answer[1], f"{option.files} files")
        for found in look_at(context, [Path(named[0]).absolute()], request)
        if isinstance(found, Asked)
        for decision in found.decisions
        for option in decision.options
        if option.answer[:1] == ("--choose",)
    ]


@_completing
def encodings(_: click.Context) -> Iterable[tuple[str, str]]:
    """Encodings that names in old archives often have."""
    from usufruct.archives.names import MET

    return [(name, "") for name in MET]


@_completing
def setting_values(click_context: click.Context) -> Iterable[tuple[str, str]]:
    """The values of the setting that the line names, if they are few."""
    from usufruct.model.settings import choices_of

    return [(value, "") for value in choices_of(click_context.params.get("key") or "")]


def sources(click_context: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """The holdings, and all files and folders."""
    return [*holdings(click_context, parameter, incomplete), CompletionItem(incomplete, type="file")]


def archives(_: click.Context, parameter: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """Folders, and files that are archives by name or first bytes; without a beginning, the newest downloads too."""
    from usufruct.actions.gathering import is_archive

    above, slash, begun = incomplete.rpartition("/")
    written = f"{above}/" if slash else ""
    folder = Path(os.path.expanduser(written or "."))  # noqa: PTH111 - a word on its way
    items = []
    try:
        with os.scandir(folder) as entries:
            for entry in sorted(entries, key=lambda one: one.name):
                if not entry.name.startswith(begun) or (entry.name.startswith(".") and not begun):
                    continue
                if not _is_a_line(entry.name):
                    continue
                if entry.is_dir():
                    items.append(CompletionItem(f"{written}{entry.name}/"))
                elif is_archive(Path(entry.path)):
                    items.append(CompletionItem(f"{written}{entry.name}"))
        if not incomplete:
            items += [CompletionItem(path) for path in _downloads()]
    except (UsufructError, OSError):
        pass
    return items


def _downloads() -> list[str]:
    """The newest archives in the downloads folders, only by their names, because the user waits."""
    from usufruct.actions.arrivals import folders_of
    from usufruct.actions.gathering import is_archive

    found = [
        path
        for folder in folders_of(real_context())
        if folder.is_dir() and folder.absolute() != Path.cwd()
        for path in folder.iterdir()
        if path.is_file()
    ]
    found.sort(key=lambda path: -path.stat().st_mtime_ns)
    return [str(path) for path in found[:20] if _is_a_line(str(path)) and is_archive(path)]


def _archives_named(click_context: click.Context) -> Sequence[Path]:
    """Return the archives in the line so far. The library reads none if an option value is completed."""
    named: Sequence[Path] = click_context.params.get("archives") or ()
    if named:
        return named
    try:
        said = [os.path.expanduser(word) for word in shlex.split(os.environ.get("COMP_WORDS", ""))[1:]]  # noqa: PTH111
    except ValueError:
        return ()
    return [Path(word) for word in said if not word.startswith("-") and os.path.isfile(word)]  # noqa: PTH113


def _is_a_line(word: str) -> bool:
    """Whether a word can be sent to the shell in one line and cannot control a terminal."""
    return printable(word) == word
