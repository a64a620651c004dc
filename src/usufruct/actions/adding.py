"""Add archives: each becomes a holding, or it is said why not."""

import logging
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from usufruct.actions.afterwards import PutAway, put_away
from usufruct.actions.context import Context
from usufruct.actions.examine import examined
from usufruct.actions.looking import groups, refuse_name
from usufruct.actions.outcomes import AlreadyThere, Examined, Ready
from usufruct.actions.refresh import run_after
from usufruct.actions.request import Request, choices_as_text
from usufruct.errors import Interrupted, UsufructError
from usufruct.files.file_systems import file_system_of
from usufruct.files.shells import quoted
from usufruct.ledger.holdings import volumes_of
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Holding, Volume
from usufruct.model.rulings import SkippedKind
from usufruct.model.settings import KEEP
from usufruct.planning.names import tidy_name, version_of
from usufruct.survey.drives import refuse_away, refuse_destination
from usufruct.survey.room import check_room
from usufruct.transaction.place import Placed, ProgramsFound, ToPlace, place_holding
from usufruct.transaction.work import Resources

_log = logging.getLogger(__name__)


class Added(Struct, kw_only=True):
    """What became of one archive."""

    examined: Examined
    state: str
    """`added`, `updated`, `already added`, `refused` (nothing was begun) or `failed` (begun and reversed)."""
    error: UsufructError | None = None
    placed: Placed | None = None
    after: str = ""
    """What went wrong with the application's own command, if it did."""
    put_away: PutAway | None = None
    """What became of the archive, where it was not simply kept."""


def _seen(found: Examined) -> str:
    """Describe for the log what an archive was found to be."""
    application = found.application.name if found.application else "no application"
    return f"{found.format or 'unread'} of {found.size:,} bytes for {application} as {found.name or 'nothing'}"


def _why_it_stays(found: Examined) -> str:
    """Say why an archive should not be moved away after it was added; empty if there is no reason."""
    if found.facts and found.facts.is_rescued:
        return "it is damaged, and a better copy may yet complete it"
    if found.facts and found.facts.unread:
        return "Usufruct did not recognise part of it"
    placed, content = _share(found)
    return f"only {placed} of {content} files in it were placed" if 2 * placed < content else ""


def _share(found: Examined) -> tuple[int, int]:
    """Return how many files of an archive are placed, and how many it has that are neither junk nor notes."""
    layout = found.layout
    if layout is None:
        return 1, 1
    kinds = SkippedKind.JUNK, SkippedKind.NOTES, SkippedKind.DUPLICATE, SkippedKind.OTHER_FORMAT
    apart = len(layout.rows_skipped(*kinds))
    files = sum(map(EntryKind.DIRECTORY.__ne__, layout.listing.kinds))
    return layout.files, files - apart


def _is_in(added: Added) -> bool:
    """Whether everything that was asked for is placed, now or earlier."""
    return added.state in ("added", "updated", "already added")


def add_archives(
    context: Context,
    archives: Sequence[Path],
    request: Request,
    tell: Callable[[Added], None],
    afterwards: str = KEEP,
) -> list[Added]:
    """Place each archive (or all as one) as a holding; `tell` is called with each result.

    `afterwards` says what happens to an archive once everything that was asked for is placed. If the user interrupts,
    the command ends; what was done stays.
    """
    results = []
    refuse_name(request)
    with context.writing(f"add {' '.join(path.name for path in archives)}") as resources:
        # What is unpacked for the listing need not be unpacked again for placing.
        spool = str(context.paths.data / "spool")
        request = replace(request, access=replace(request.access, spool=spool, watch=context.watch))
        errands = request.each()
        for paths in groups(archives, request):
            for number, one in enumerate(errands, 1):
                result = _added(context, resources, paths, one)
                found = result.examined
                if result.placed and found.application:
                    result.after = run_after(context, found.application)
                _log.info("%s: %s, %s", found.path, _seen(found), result.error or result.state)
                results.append(result)
                of_these = results[-number:]
                if afterwards != KEEP and number == len(errands) and all(map(_is_in, of_these)):
                    if why := _why_it_stays(found):
                        lets_go = f"`usufruct archives {quoted(found.name)} --{afterwards}`"
                        fault = f"The archive stays, for {why}; {lets_go} lets it go all the same"
                        result.put_away = PutAway(afterwards, fault=fault)
                    else:
                        result.put_away = put_away(context, resources, found.name, afterwards)
                tell(result)
                if isinstance(result.error, Interrupted):
                    return results
    return results


def _added(context: Context, resources: Resources, paths: Sequence[Path], request: Request) -> Added:
    """Examine and place one archive, or several as one."""
    with examined(context, paths, request, resources.ledger, for_adding=True) as found:
        result = _add(resources, found)
    if isinstance(result.error, ProgramsFound) and not request.known_programs:
        # Now that the programs are known, the rules decide about them.
        return _added(context, resources, paths, replace(request, known_programs=result.error.entries))
    return result


def _add(resources: Resources, found: Examined) -> Added:
    if isinstance(found, AlreadyThere):
        return Added(examined=found, state="already added")
    if not isinstance(found, Ready):
        return Added(examined=found, state="refused", error=found.obstacle)
    request, identity_of = found.request, resources.platform.identity_of_drive
    try:
        refuse_destination(resources.ledger, identity_of, found.plan.snapshot.root)
        if found.updates:
            refuse_away(resources.ledger, identity_of, found.updates)
        check_room(found.plan, lambda path: file_system_of(path, resources.platform), resources.backups.top)
    except UsufructError as error:
        return Added(examined=found, state="refused", error=error)
    try:
        wanted = ToPlace(
            plan=found.plan,
            holding=_holding(found, resources.now()),
            volumes=_volumes(resources, found),
            updates=found.updates,
            programs_allowed=request.allows_programs(found.application),
            claims=request.choices.claim,
            refuse_written=found.download.untouched.refuse_written,
        )
        placed = place_holding(resources, found.archive, wanted)
    except UsufructError as error:
        return Added(examined=found, state="failed", error=error)
    is_update = found.updates and not found.extends
    return Added(examined=found, state="updated" if is_update else "added", placed=placed)


def _volumes(resources: Resources, found: Ready) -> Sequence[Volume]:
    """Return the files that the holding comes from: the recorded ones, if it was added from the same files before."""
    if found.updates and found.extends:
        return volumes_of(resources.ledger, found.updates.number)
    return found.download.volumes


def _choices(found: Ready) -> Choices:
    """Return the choices that the holding has from now on: entries that come again are no longer taken out."""
    choices = found.request.choices
    if choices.taken_out:
        placed = {found.plan.layout.listing.path(row) for row in found.plan.rows()}
        out = tuple(entry for entry in choices.taken_out if entry not in placed)
        choices = replace(choices, taken_out=out, again=())
    return choices


def _holding(found: Ready, now: int) -> Holding:
    file_name, request = Path(found.path).name, found.request
    if found.updates and found.extends:
        # It is the same archive, whatever its file is called now.
        choices = _choices(found)
        is_partial = bool(choices.taken_out)
        text = choices_as_text(choices, request.access.names)
        return replace(found.updates, number=0, choices=text, added=now, files=0, size=0, is_partial=is_partial)
    return Holding(
        number=0,
        name=found.name,
        application=found.application.name if found.application else None,
        root=found.plan.snapshot.root,
        archive=found.path,
        archive_size=found.size,
        archive_digest=found.download.digest,
        format=found.format,
        tidy_name=tidy_name(file_name),
        version=version_of(file_name),
        origin=found.origin or request.origin,
        choices=request.choices_as_text(),
        added=now,
        files=0,
        size=0,
    )
