"""Decide how a download is taken: for which application, as its content or as a file; and what is offered otherwise."""

import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

from msgspec import Struct
from msgspec.structs import replace

from usufruct.actions.download import Download, Variant
from usufruct.actions.request import Request
from usufruct.errors import UsufructError
from usufruct.files.paths import expanded
from usufruct.model.applications import Application
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Option
from usufruct.planning.competition import NOTHING_WEIGHED, Verdict, named_in, verdict_on
from usufruct.planning.names import folded
from usufruct.planning.questions import nothing_fits_question, nothing_now
from usufruct.planning.tree import Tree

_MOST_OFFERED = 5
_MOST_TRIED = 10
"""Answers that are tried for one question at most: each costs about as much as the first look did."""

_Answer = tuple[str, tuple[str, ...]]
"""What an answer is called, and its words."""


class Taken(Struct, frozen=True):
    """The way a download is taken; None if the user must decide."""

    variant: Variant | None
    decisions: tuple[Decision, ...]
    verdict: Verdict = NOTHING_WEIGHED
    unmatched: tuple[str, ...] = ()
    """Where it is asked: patterns of the user's that match nothing, whichever way is taken."""


def taken(download: Download) -> Taken:
    """Return the way to take the download, or the question, with answers that were tried."""
    way, layouts = _way(download)
    decisions = tuple(_with_offers(one, layouts, download) if one.is_of_whole else one for one in way.decisions)
    return replace(way, decisions=decisions)


def _way(download: Download) -> tuple[Taken, Sequence[Layout]]:
    """Return the same without answers, and the layouts that were weighed."""
    request = download.request
    if request.to:
        return _alone(download.variant_for(None)), ()
    variants = download.variants()
    if request.is_named and len(request.applications) == 1:
        return _alone(variants[0]), ()
    layouts = [variant.layout for variant in variants]
    verdict = verdict_on(layouts, download.archive.name)
    if verdict.layout:
        return _alone(next(one for one in variants if one.layout is verdict.layout), verdict), layouts
    question = verdict.decision or nothing_fits_question(request.applications)
    unmatched = _unmatched([*layouts, download.variant_for(None).layout])
    return Taken(None, (question, *verdict.common), verdict, unmatched), layouts


def _unmatched(layouts: Sequence[Layout]) -> tuple[str, ...]:
    return tuple(one for one in layouts[-1].unmatched if all(one in layout.unmatched for layout in layouts))


def _alone(variant: Variant, verdict: Verdict = NOTHING_WEIGHED) -> Taken:
    return Taken(variant, tuple(variant.layout.decisions), verdict)


def _with_offers(decision: Decision, layouts: Sequence[Layout], download: Download) -> Decision:
    """Return a question of where an archive goes, with the answers that leave out least; each was tried.

    If nothing speaks for any of them, the first answer is to place nothing.
    """
    request, outside = download.request, download.variant_for(None).layout
    own = "a folder that you choose", ("--to", os.path.dirname(download.archive.path))
    last = [*_tried(download, [own], 1)]
    room = _MOST_OFFERED - len(last)
    weighed = [(option.name, option.answer) for option in decision.options]
    if not decision.is_open:
        options = [*_tried(download, dict.fromkeys([*weighed, *_yielding(layouts)]), room)]
        return replace(decision, options=(*options, *last))
    said = (download.archive.name, Tree.of(download.archive.listing).only_top)
    named = [*_by_name(request, layouts, named_in(request.applications, said)), *_home_folder(outside)]
    least = sorted((option for option in decision.options), key=lambda option: option.left_out)
    rest = [*((option.name, option.answer) for option in least), *_yielding(layouts), *_folders(request)]
    first = [*_tried(download, dict.fromkeys(named), room)]
    others = _tried(download, (one for one in dict.fromkeys(rest) if one not in named), _MOST_OFFERED)
    more = sorted(others, key=lambda option: option.left_out)
    return replace(decision, options=(nothing_now(outside), *first, *last, *more[: room - len(first)]))


def _tried(download: Download, answers: Iterable[_Answer], most: int) -> Iterator[Option]:
    """Yield the first of these answers that place anything, with what each places and leaves out."""
    found = 0
    for number, (name, words) in enumerate(answers):
        if found == most or number == _MOST_TRIED:
            return
        with suppress(UsufructError):
            way, _ = _way(download.under(download.request.with_answer(words)))
            if way.variant and way.variant.layout.files:
                found += 1
                yield _option(name, words, way.variant.layout)


def _option(name: str, words: tuple[str, ...], layout: Layout) -> Option:
    first = next(layout.placements)
    root = layout.application.root if layout.application else words[-1]
    example = first.to if first.home.is_elsewhere else f"{root}/{first.to}"
    if not layout.application:
        within = {layout.homes[layout.home_of[row]].path.partition("/")[0] for row in layout.placed_rows()}
        example = f"{root}/{within.pop()}".rstrip("/") if len(within) == 1 else root
    return Option(
        name=name, answer=words, files=layout.files, size=layout.size, left_out=layout.left_out, example=example
    )


def _yielding(layouts: Sequence[Layout]) -> list[_Answer]:
    """Yield the applications that get nothing by themselves but could take it."""
    applications = [layout.application for layout in layouts if layout.application and layout.files]
    return [(one.name, ("--app", one.name)) for one in applications if one.yields]


def _by_name(request: Request, layouts: Sequence[Layout], named: Sequence[Application]) -> Iterator[_Answer]:
    """Yield the applications whose name is in the archive's: as they would take it, or their folders."""
    fitting = [layout.application for layout in layouts if layout.files]
    for application in named:
        if application in fitting:
            yield application.name, ("--app", application.name)
        else:
            yield from _folders(replace(request, applications=(application,)))


def _folders(request: Request) -> Iterator[_Answer]:
    """Yield answers that put everything into a folder of the user's own applications, or of the named one."""
    own = [one for one in request.applications if request.is_named or not one.is_shipped]
    for application in own:
        for folder in application.folders:
            name = f"{folder.name} of {application.name}" if len(own) > 1 else folder.name
            yield name, ("--app", application.name, "--into", folder.name)


def _home_folder(outside: Layout) -> Iterator[_Answer]:
    """Yield a directory in the home directory that has the name that the archive would get."""
    tops = {outside.homes[outside.home_of[row]].path.partition("/")[0] for row in outside.placed_rows()}
    if len(tops) != 1 or not (name := tops.pop()):
        return
    home = str(expanded("~"))
    with suppress(OSError), os.scandir(home) as there:
        alike = [one.name for one in there if folded(one.name) == folded(name) and one.is_dir()]
        if alike:
            yield f"the folder {alike[0]} that is there already", ("--to", home)
