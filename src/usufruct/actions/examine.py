"""Find out what an archive is, where its entries would go and what is there."""

import logging
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from itertools import islice
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from usufruct.actions.context import Context
from usufruct.actions.download import Download, Variant
from usufruct.actions.outcomes import AlreadyThere, Asked, Examined, Ready, Refused
from usufruct.actions.refusals import empty, matches_nothing, nothing_left, unread, unsafe
from usufruct.actions.request import Request, choices_from_text
from usufruct.actions.taking import taken
from usufruct.archives.reading import Archive
from usufruct.errors import PasswordNeeded, UsufructError, WrongUsage
from usufruct.files.origin import origin_of
from usufruct.files.paths import real_path, searched_directories
from usufruct.files.printable import nameable
from usufruct.files.shells import quoted
from usufruct.files.volumes import volume_of
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import holding_named, holdings_of_size, holdings_of_tidy_name, name_of_holding
from usufruct.ledger.layers import names_of_holding
from usufruct.model.applications import Programs
from usufruct.model.choices import combined
from usufruct.model.entries import EntryKind, Refusal
from usufruct.model.holdings import Holding
from usufruct.model.layout import Decision, Layout, Option, SkippedKind
from usufruct.model.plan import Plan
from usufruct.planning.conflicts import pieces_beside, plan_of
from usufruct.planning.questions import (
    Naming,
    autostart_question,
    conflict_question,
    in_the_way,
    names_question,
    naming,
    others_question,
)
from usufruct.planning.selection import matching_nothing
from usufruct.planning.spelling import spell_for
from usufruct.planning.tree import Tree
from usufruct.survey.contents import idle_entries_among, programs_among, rows_already_there, rows_installed
from usufruct.survey.going import Going
from usufruct.survey.homes import add_digests_of, move_beside, move_pieces, survey
from usufruct.survey.links import refuse_leading_out, skip_dangling
from usufruct.survey.own import refuse_own

_log = logging.getLogger(__name__)
_log.addHandler(logging.NullHandler())
_MOST_LOOKED_AT = 64 << 20
"""Bytes of content that are unpacked only to see whether any of it is a program."""
_MOST_FILES_LOOKED_AT = 1000
_MOST_ENTRIES, _LARGEST_ENTRY = 100, 1 << 16
"""Desktop entries that are read for whether they start anything, and bytes of each."""


class _Case(Struct, frozen=True):
    """What an examination works with."""

    context: Context
    ledger: Ledger | None
    for_adding: bool
    """It is placed at once: its content is read then, and need not be read before."""


@contextmanager
def examined(
    context: Context, paths: Sequence[Path], request: Request, ledger: Ledger | None, *, for_adding: bool
) -> Iterator[Examined]:
    """Examine an archive (or several as one); gives Refused, Asked, AlreadyThere or Ready, and is open while inside."""
    found, download = _answered(_Case(context, ledger, for_adding), paths, request)
    try:
        yield found
    finally:
        if download:
            download.close()


def _answered(case: _Case, paths: Sequence[Path], request: Request) -> tuple[Examined, Download | None]:
    """Examine it again with each safe answer, if those are to be taken."""
    while True:
        found, download = _outcome(case, paths, request)
        decisions = found.decisions if isinstance(found, Asked) and request.takes_safe else ()
        safe = next((decision.safe for decision in decisions if decision.safe), None)
        if safe is None:
            return found, download
        if download:
            download.close()
        request = found.request.with_answer(safe.answer)


def _outcome(case: _Case, paths: Sequence[Path], request: Request) -> tuple[Examined, Download | None]:
    """Return the result and the open download; after a failure, what was known by then."""
    found = Examined(path=str(paths[0].absolute()), request=request)
    download: Download | None = None
    try:
        download, request, known = _opened(paths, request, case.ledger)
        for step in _steps(case, download, request, known):
            found = step
    except PasswordNeeded as needed:
        found = found.as_outcome(Asked, decisions=(_password_question(needed),))
    except UsufructError as error:
        # No question: what would answer it is refused for the same reason.
        found = found.as_outcome(Refused, error=error)
    except (Exception, MemoryError) as error:  # noqa: BLE001 - one file must not keep all others from their turn
        _log.error("%s", found.path, exc_info=error)
        found = found.as_outcome(Refused, error=unread(paths[0], error))
    except BaseException:
        if download:
            download.close()
        raise
    return found, download


def _opened(paths: Sequence[Path], request: Request, ledger: Ledger | None) -> tuple[Download, Request, Holding | None]:
    """Open the download. Return it with the request, and the holding from this very archive, if that is the result.

    If the holding can be added to, the request asks for that instead.
    """
    request = _for_update(request, ledger)
    absolute = [path.absolute() for path in paths]
    download = Download(absolute, request)
    try:
        known = _known(download, request, ledger) if ledger else None
        if known is None or known.application not in (None, *_names_of(request)):
            return download, request, known
        request = _for_update(_with_choices_of(known, request), ledger)
    except BaseException:
        download.close()
        raise
    download.close()
    return Download(absolute, request), request, None


def _for_update(request: Request, ledger: Ledger | None) -> Request:
    """Return the request for the application or directory of the holding that is to be updated, if any."""
    if request.update is None:
        return request
    old = holding_named(ledger, request.update) if ledger else None
    if not old:
        raise WrongUsage(f"There is no holding called {request.update}.", remedy="`usufruct list` shows what there is.")
    if old.application is None:
        return replace(request, applications=(), to=old.root)
    fitting = tuple(one for one in request.applications if one.name == old.application)
    if not fitting:
        raise WrongUsage(
            f"{old.name} belongs to {old.application}.", remedy=f"Say --app {old.application}, or leave --app out."
        )
    return replace(request, applications=fitting, known=request.known or request.applications, is_named=True)


def _known(download: Download, request: Request, ledger: Ledger) -> Holding | None:
    """Return the holding that came from this very archive, unless the user asked for another place or name."""
    if request.update is not None or request.name is not None:
        return None
    named = _names_of(request)
    for holding in holdings_of_size(ledger, download.archive.size):
        if request.to is not None and real_path(request.to) != holding.root:
            continue
        if request.to is None and request.is_named and holding.application not in named:
            continue
        if download.digest == holding.archive_digest:
            return holding
    return None


def _names_of(request: Request) -> set[str]:
    return {application.name for application in request.applications}


def _with_choices_of(known: Holding, request: Request) -> Request:
    """Return the request to add to a holding from the same archive."""
    old, encoding = choices_from_text(known.choices)
    if request.choices.claim and not old.claim:
        raise WrongUsage(
            f"{known.name} was added already, without --claim.",
            remedy=f"`usufruct remove {quoted(known.name)}` leaves what is yours; then add it with --claim.",
        )
    choices = combined(old, request.choices)
    if request.conflict_is_said and request.choices.on_clash is not old.on_clash:
        choices = replace(choices, on_clash=request.choices.on_clash, on_clash_of=request.choices.on_clash_of)
    return replace(
        request,
        update=known.name,
        extends=True,
        patterns=(*request.choices.only, *request.choices.skip),
        file_name=os.path.basename(known.archive),
        choices=choices,
        access=replace(request.access, names=request.access.names or encoding),
    )


def _steps(case: _Case, download: Download, request: Request, known: Holding | None) -> Iterator[Examined]:
    """Yield what is known about a download after each step, and the result at the end."""
    archive, ledger = download.archive, case.ledger
    updates = holding_named(ledger, request.update) if ledger and request.update is not None else None
    found = Examined(
        path=archive.path,
        request=request,
        format=archive.format,
        size=archive.size,
        origin=origin_of(archive.path),
        updates=updates,
    )
    if known:
        yield replace(found, name=known.name).as_outcome(AlreadyThere, holding=known)
        return
    name = request.name or (updates.name if updates else nameable(download.tidy_name))
    found = replace(found, facts=archive.facts, listing=archive.listing, name=name)
    yield found
    if not len(archive.listing) and not archive.listing.refused:
        raise empty(archive)
    way = taken(download, request)
    if way.variant and _finds_programs(case, way.variant, request):
        way = taken(download, request)
    found = replace(found, verdict=way.verdict)
    yield found
    if way.variant is None:
        _refuse_unsafe(archive, archive.listing.refused, request)
        if way.unmatched:
            raise matches_nothing(way.unmatched[0], archive.listing, archive)
        yield found.as_outcome(Asked, decisions=way.decisions)
        return
    yield from _destined(case, download, way.variant, way.decisions, found)


def _destined(
    case: _Case, download: Download, variant: Variant, decisions: tuple[Decision, ...], found: Examined
) -> Iterator[Examined]:
    """Yield the same for a way to take it: what is at its destinations."""
    layout, archive, request, ledger = variant.layout, variant.archive, found.request, case.ledger
    if unmatched := layout.unmatched or matching_nothing(layout, request.patterns):
        raise matches_nothing(unmatched[0], layout.listing, download.archive)
    root = request.to or (layout.application.root if layout.application else "")
    spell_for(layout, volume_of(root, case.context.system()).names)
    found = replace(found, layout=layout, listing=layout.listing)
    yield found
    name = layout.application.name if layout.application else None
    same = holdings_of_tidy_name(ledger, name, real_path(root), layout.tidy_name) if ledger else []
    made_so = next((holding for holding in same if _is_made_so(holding, download, request)), None)
    _refuse_unsafe(download.archive, layout.refused, request)
    if not layout.files:
        yield found.as_outcome(Asked, decisions=decisions) if decisions else _nothing_left(found, layout)
        return
    archive.refuse_unreadable((*layout.placed_rows(), *layout.rows_skipped(SkippedKind.NOTES)))
    locked = _locked(case, archive, request)
    is_installed = not locked and _skip_installed(archive, layout, real_path(root))
    plan = _planned(case, archive, found, layout, root, is_open=not locked)
    found = replace(found, plan=plan)
    yield found
    if ledger and found.extends and found.updates and _has_all(ledger, found.updates, plan):
        yield found.as_outcome(AlreadyThere, holding=found.updates)
        return
    places = case.context.places
    refuse_own(plan, places.own())
    named = _named(case, found, plan, same)
    if made_so or named.is_there or (is_installed and not layout.files):
        there = made_so or (same[0] if named.is_there else None)
        found = replace(found, name=there.name) if there else found
        yield found.as_outcome(AlreadyThere, holding=there)
        return
    found = replace(found, name=named.name)
    decisions = (*decisions, *filter(None, (locked,)), *_questions(case, found, plan, named))
    if decisions:
        name_of = partial(name_of_holding, ledger) if ledger else str
        both = {row: in_the_way(plan, row, name_of) for row in plan.open_conflicts}
        yield found.as_outcome(Asked, decisions=decisions, in_the_way=both)
    elif next(plan.rows(), None) is None:
        yield _nothing_left(found, layout)
    else:
        yield found.as_outcome(Ready, archive=archive, download=download)


def _refuse_unsafe(archive: Archive, refused: Sequence[Refusal], request: Request) -> None:
    """Raise UnsafeArchive if any entry is refused, unless refused entries may be left out and others remain."""
    has_rest = bool(len(archive.listing))
    if refused and not (request.choices.skip_unsafe and has_rest):
        raise unsafe(archive, refused, has_rest=has_rest)


def _is_made_so(holding: Holding, download: Download, request: Request) -> bool:
    """Whether a holding came from this archive as a whole, by the same choices."""
    if holding.is_partial or holding.archive_size != download.archive.size:
        return False
    # Compared as values: an earlier version may have had fewer options.
    is_alike = choices_from_text(holding.choices) == (request.choices, request.access.names)
    return is_alike and holding.archive_digest == download.digest


def _has_all(ledger: Ledger, holding: Holding, plan: Plan) -> bool:
    """Whether a holding has exactly the files that its own archive would place now."""
    layout = plan.layout
    has = {(entry, f"{path}/{name}") for _, path, name, entry in names_of_holding(ledger, holding.number)}
    entries = {entry for entry, _ in has}
    count = 0
    for row in plan.rows():
        entry, above = layout.listing.path(row), plan.snapshot.surveyed(layout.home_of[row]).path
        # What the user edited would come beside its own name, which changes nothing of what the holding has.
        if not {(entry, f"{above}/{plan.name(row)}"), (entry, f"{above}/{layout.name(row)}")} & has:
            return False
        count += 1
    return count == len(entries)


def _locked(case: _Case, archive: Archive, request: Request) -> Decision | None:
    """Return the question for the password, if the content cannot be read without one."""
    with request.access.passwords.known_only(not case.for_adding):
        try:
            archive.unlock()
        except PasswordNeeded as needed:
            return _password_question(needed)
    return None


def _password_question(needed: PasswordNeeded) -> Decision:
    answer = Option(name="password", answer=("--password-file", "-"), files=0, size=0)
    return Decision(question=f"{needed.message} {needed.remedy}", options=(answer,))


def _skip_installed(archive: Archive, layout: Layout, root: str) -> bool:
    """Skip what is where the application itself installs such content; return whether there was anything."""
    installed = rows_installed(archive, layout, root)
    for row, path in installed.items():
        layout.skip(row, SkippedKind.DUPLICATE, layout.reason(f"is installed already, as {path}"))
    return bool(installed)


def _planned(case: _Case, archive: Archive, found: Examined, layout: Layout, root: str, *, is_open: bool) -> Plan:
    """Return what each placement meets on this disk."""
    choices = found.request.choices
    named: set[int] = set()
    updating = found.updates.number if found.updates else None
    going = Going(case.ledger, updating) if case.ledger and updating is not None else None
    while True:
        snapshot = survey(layout, root, case.ledger, named, going)
        if move_beside(layout, snapshot):
            continue
        if refuse_leading_out(layout, snapshot):
            if not choices.skip_unsafe:
                raise unsafe(archive, layout.refused, has_rest=True)
            continue
        skip_dangling(layout, snapshot)
        if updating is not None:
            add_digests_of(layout, snapshot, updating)
        same = rows_already_there(archive, layout, snapshot) if is_open else set()
        plan = plan_of(layout, snapshot, choices, same, updating)
        if plan.unnamed:
            named |= plan.unnamed
            continue
        # A piece that meets another of its name goes beside it as a whole, and is surveyed there.
        if not (pieces := pieces_beside(plan)):
            return plan
        move_pieces(layout, snapshot, pieces)


def _named(case: _Case, found: Examined, plan: Plan, same: Sequence[Holding]) -> Naming:
    """Return the name of the holding; one that is updated keeps its name."""
    ledger = case.ledger
    if ledger is None or found.updates:
        return Naming(name=found.name)

    def is_taken(name: str) -> bool:
        return holding_named(ledger, name) is not None

    is_wished = found.request.name is not None
    return naming(plan, os.path.basename(found.path), found.name, same, is_taken, is_wished=is_wished)


def _questions(case: _Case, found: Examined, plan: Plan, named: Naming) -> Iterator[Decision]:
    """Yield what the user has to decide about a plan."""
    request, ledger = found.request, case.ledger
    if found.facts and (question := names_question(plan, found.facts)):
        yield question
    if not request.choices.autostart and (question := autostart_question(plan, searched_directories())):
        yield question
    if plan.open_conflicts:
        yield conflict_question(plan)
    if named.question:
        yield named.question
    is_update = found.updates is not None and not found.extends
    if ledger and not (named.question or request.conflict_is_said or is_update):
        own = found.updates.number if found.updates else None
        if question := others_question(plan, partial(name_of_holding, ledger), own):
            yield question


def _nothing_left(found: Examined, layout: Layout) -> Refused:
    return found.as_outcome(Refused, error=nothing_left(layout))


def _finds_programs(case: _Case, variant: Variant, request: Request) -> bool:
    """Look at content whose names do not say whether it can run; return whether the listing knows more programs now.

    If it is to be added, this happens as it is unpacked; if it is only shown, only where it takes a moment.
    """
    layout, listing = variant.layout, variant.layout.listing
    application = layout.application
    if application is None or (request.choices.programs or application.programs) is Programs.ALLOW:
        return False
    known, idle = set(listing.programs), set(listing.harmless)
    entries = [row for row, name in enumerate(listing.names) if _may_be_idle(name, listing.sizes[row])]
    if 0 < len(entries) <= _MOST_ENTRIES and not idle and variant.archive.is_divisible:
        with request.access.passwords.known_only():
            listing.harmless.update(idle_entries_among(variant.archive, entries))
    if request.known_programs:
        listing.programs.update(row for row in layout.placed_rows() if listing.path(row) in request.known_programs)
    placed, kinds = layout.home_of, listing.kinds
    untold = (row for row in Tree.of(listing).untold if placed[row] >= 0 and kinds[row] == EntryKind.FILE)
    rows = sorted(islice(untold, _MOST_FILES_LOOKED_AT + 1))
    # A packed stream must be unpacked up to the last of them.
    looked_at = rows if variant.archive.is_divisible else range(len(listing))
    size = sum(map(listing.sizes.__getitem__, looked_at))
    if not case.for_adding and 0 < len(rows) <= _MOST_FILES_LOOKED_AT and size <= _MOST_LOOKED_AT:
        with request.access.passwords.known_only():
            listing.programs.update(programs_among(variant.archive, rows))
    return listing.programs != known or listing.harmless != idle


def _may_be_idle(name: str, size: int) -> bool:
    return name.endswith(".desktop") and size <= _LARGEST_ENTRY
