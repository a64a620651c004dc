"""`usufruct` alone: how things stand, and what to type next."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from usufruct.cli.context import real_context
from usufruct.cli.screen import count_words, echo, echo_json, is_narrow, styled, wrapped
from usufruct.files.printable import printable

if TYPE_CHECKING:
    from usufruct.actions.standing import Overview

_STEPS = (
    ("usufruct demo", "see everything at work on sample data, in a separate folder"),
    ("usufruct look ARCHIVE", "see where a download would go and why; nothing is changed"),
    ("usufruct add ARCHIVE", "place it; `usufruct undo` takes it back"),
)
_MOST_APPLICATIONS = 4


def tell_standing(*, as_json: bool) -> None:
    """Say how things stand, in at most twelve lines."""
    from usufruct.actions.standing import standing

    found = standing(real_context())
    if as_json:
        echo_json(_document(found))
        return
    for label, words, role in _beginning(found) if found.is_beginning else _lines(found):
        indent = " " * (4 if is_narrow() else 23)
        first, *more = wrapped(words, indent)
        if is_narrow():
            echo(styled(label, role))
            echo(indent + first)
        else:
            echo(f"{styled(label.ljust(21), role)}  {first}")
        for line in more:
            echo(indent + line)
    echo()
    echo("`usufruct --help` lists all commands.")


def _document(found: Overview) -> dict[str, Any]:
    last = found.last.done[0] if found.last else None
    return {
        "downloads": {"ready": found.ready, "asked": found.asked, "unknown": found.unknown},
        "applications": [
            {"application": name or None, "holdings": holdings, "files": files}
            for name, (holdings, files) in found.applications.items()
        ],
        "away": list(found.away),
        "last": {"number": found.last.number, "about": last.about} if found.last and last else None,
    }


def _beginning(found: Overview) -> Iterator[tuple[str, str, str]]:
    yield "Usufruct", "puts downloads where your programs look for them, and takes them out again.", "title"
    if found.unknown + found.ready + found.asked:
        yield "usufruct downloads", f"see what is in your downloads folder: {_archives(found)}", "place"
    yield from ((command, words, "place") for command, words in _STEPS)


def _lines(found: Overview) -> Iterator[tuple[str, str, str]]:
    parts = [f"{found.ready} ready to be added"] if found.ready else []
    parts += [f"{found.asked} {'needs' if found.asked == 1 else 'need'} an answer"] if found.asked else []
    # Parts of a set and unfinished downloads are never remembered.
    parts += [f"{found.unknown} {'others' if parts else 'to look at'}"] if found.unknown else []
    yield "downloads", ", ".join(parts) or "nothing waits", "title"
    groups = sorted(found.applications.items(), key=lambda one: -one[1][0])
    shown = [
        f"{count_words(holdings, 'holding')} ({count_words(files, 'file')}) {f'in {name}' if name else 'elsewhere'}"
        for name, (holdings, files) in groups[:_MOST_APPLICATIONS]
    ]
    more = len(groups) - len(shown)
    yield "added", ", ".join([*shown, *([f"and {more} more programs"] if more > 0 else [])]) or "nothing", "title"
    if found.away:
        names = f"{printable(found.away[0])}{f' and {len(found.away) - 1} more' if len(found.away) > 1 else ''}"
        yield "drive not connected", f"{names} cannot be reached now", "care"
    if found.last:
        step = found.last
        about = list(dict.fromkeys(change.about for change in step.done))
        what = f"{printable(about[0])}{f' and {len(about) - 1} more' if len(about) > 1 else ''}"
        yield "last change", f"{_DONE[step.done[0].kind.value]} {what}; `usufruct undo` takes it back", "title"
    if found.ready:
        yield "next", "`usufruct add` offers what is ready", "place"
    elif found.asked or found.unknown:
        yield "next", "`usufruct downloads` says what waits", "place"
    else:
        yield "next", "`usufruct look ARCHIVE` says where a download would go", "place"


def _archives(found: Overview) -> str:
    return count_words(found.unknown + found.ready + found.asked, "archive")


_DONE = {"add": "added", "remove": "removed", "update": "updated"}
