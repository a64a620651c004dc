"""Finding out what an archive is, where its entries would go and what they would meet there."""

import logging
import os
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path

from blake3 import blake3
from msgspec import Struct, field
from msgspec.structs import replace

from usufruct.actions.download import Download, Variant
from usufruct.actions.request import Request, choices_from_text
from usufruct.actions.sources import volume_at
from usufruct.archives.reading import Archive
from usufruct.errors import (
    DecisionNeeded,
    EmptyArchive,
    MachineError,
    PasswordNeeded,
    UnsafeArchive,
    UsufructError,
    WrongUsage,
)
from usufruct.files.origin import origin_of
from usufruct.files.paths import real_path
from usufruct.files.platform import Platform, this_platform
from usufruct.files.printable import nameable, printable
from usufruct.files.shells import quoted
from usufruct.files.volumes import volume_of
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import (
    all_holdings,
    holding_named,
    holdings_of_size,
    holdings_of_tidy_name,
    name_of_holding,
)
from usufruct.model.applications import Application, Programs
from usufruct.model.choices import combined
from usufruct.model.entries import EntryKind, Listing, Refusal
from usufruct.model.facts import Facts
from usufruct.model.holdings import Holding, Volume
from usufruct.model.layout import AsideKind, Decision, Layout, Option
from usufruct.model.plan import Clash, Plan
from usufruct.planning.clashes import pieces_beside, plan_of
from usufruct.planning.competition import Standing, also_for, offered, verdict_on
from usufruct.planning.junk import only_content_tells
from usufruct.planning.layout import into_options, sought
from usufruct.planning.names import compared_versions, folded, free_name, spelling_key, version_of
from usufruct.planning.questions import autostart_question, clash_question, others_question
from usufruct.planning.spelling import spell_for
from usufruct.survey.contents import programs_among, rows_already_there, rows_installed
from usufruct.survey.homes import move_pieces, survey, with_digests_of
from usufruct.survey.links import refuse_leading_out, set_dangling_aside

_log = logging.getLogger(__name__)
_log.addHandler(logging.NullHandler())
_MOST_SHOWN = 3
"""Files in the way that a question shows."""
_MOST_LOOKED_AT = 64 << 20
"""Bytes of content that are unpacked only to see whether any of it is a program."""
_MOST_FILES_LOOKED_AT = 1000
_MOST_OF_PATH = 160
"""Characters of an entry's path in an error."""


class Examined(Struct, kw_only=True):
    """What an archive is and would do."""

    path: str
    request: Request
    """What was asked, safe answers added."""
    format: str = ""
    size: int = 0
    volumes: tuple[Volume, ...] = ()
    """The files that it consists of; empty where they were not needed."""
    digest: bytes = b""
    """BLAKE3 of the file, or of the digests of several; empty where it was not needed."""
    origin: str = ""
    """Where it was downloaded from, where that was recorded."""
    facts: Facts | None = None
    listing: Listing | None = None
    """What it holds; archives inside opened where they are for the layout."""
    archive: Archive | None = None
    """What the layout's rows are read from; open while the examination is."""
    application: Application | None = None
    layout: Layout | None = None
    plan: Plan | None = None
    runners_up: tuple[tuple[str, str], ...] = ()
    """Applications that fitted too, each with why it lost."""
    standings: tuple[Standing, ...] = ()
    """What was weighed: the applications that fitted, the strongest first."""
    also_for: tuple[tuple[str, int], ...] = ()
    """Applications that take what this one does not, each with how many files."""
    holding: str = ""
    """The name it has or would have among the holdings."""
    updates: Holding | None = None
    """The holding that it takes the place of."""
    extends: bool = False
    """That holding came from this very archive, by other choices, and is added to."""
    already: Holding | None = None
    """The holding that has this very content."""
    is_installed: bool = False
    """Some of its content lies already where the application's folders say it may."""
    decisions: tuple[Decision, ...] = ()
    both_words: dict[int, str] = field(default_factory=dict)
    """Rows of which it is asked what becomes of the file in their way → size, time and owner of both."""
    error: UsufructError | None = None

    @property
    def obstacle(self) -> UsufructError | None:
        """Why `add` would not place it; None if it would."""
        if self.error:
            return self.error
        if self.decisions and not self.already:
            return DecisionNeeded(
                self.decisions[0].question, remedy="Answer by adding the words of one option to the command."
            )
        if self.plan and next(self.plan.rows(), None) is None and not self.already:
            return DecisionNeeded(
                "Nothing is left to place: every file that is there already stays.",
                remedy="Another --on-clash places them, `replace` or `both` for one.",
            )
        return None


@contextmanager
def examined(
    paths: Sequence[Path],
    request: Request,
    ledger: Ledger | None,
    *,
    for_adding: bool,
    platform: Platform | None = None,
) -> Iterator[Examined]:
    """What an archive (or several as one) is and would do; the archive is open while inside."""
    result, download = _examined(paths, request, ledger, platform or this_platform(), for_adding=for_adding)
    try:
        yield result
    finally:
        if download:
            download.close()


def _examined(
    paths: Sequence[Path], request: Request, ledger: Ledger | None, platform: Platform, *, for_adding: bool
) -> tuple[Examined, Download | None]:
    """The same, once every question with a safe answer has got it where that was asked for."""
    extends = False
    while True:
        result = Examined(path=str(paths[0].absolute()), request=request, extends=extends)
        download: Download | None = None
        try:
            request, result.updates = _updating(request, ledger)
            download = Download([path.absolute() for path in paths], request)
            result.path, result.origin = download.archive.path, origin_of(download.archive.path)
            if ledger and (known := _known(result, download, request, ledger)):
                if known.application is not None and known.application not in _names_of(request):
                    result.format, result.size = download.archive.format, download.archive.size
                    result.already, result.holding = known, known.name
                    return result, download
                request, extends = _with_choices_of(known, request), True
                download.close()
                continue
            _examine(result, download, request, ledger, platform, for_adding=for_adding)
        except PasswordNeeded as needed:
            result.decisions = (_password_question(needed),)
        except UsufructError as error:
            # No question: what would answer it is refused for the same reason.
            result.error, result.decisions = error, ()
        except (Exception, MemoryError) as error:  # noqa: BLE001 - one file must not keep all others from their turn
            _log.error("%s", result.path, exc_info=error)
            result.error, result.decisions = _unread(paths[0], error), ()
        except BaseException:
            if download:
                download.close()
            raise
        safe = next((decision.safe for decision in result.decisions if decision.safe), None)
        if result.error or not safe or not request.takes_safe:
            return result, download
        if download:
            download.close()
        request = request.with_answer(safe.answer)


def _known(result: Examined, download: Download, request: Request, ledger: Ledger) -> Holding | None:
    """The holding that came from this very archive, unless the user named another place or name for it."""
    if request.update is not None or request.name is not None:
        return None
    named = _names_of(request)
    for holding in holdings_of_size(ledger, download.archive.size):
        if request.to is not None and real_path(request.to) != holding.root:
            continue
        if request.to is None and request.is_named and holding.application not in named:
            continue
        if not result.volumes:
            result.volumes = _volumes_of(download)
            result.digest = _digest_of_all(result.volumes)
        if result.digest == holding.archive_digest:
            return holding
    return None


def _with_choices_of(known: Holding, request: Request) -> Request:
    """The request made to be one that adds to a holding of the same archive."""
    old, encoding = choices_from_text(known.choices)
    if request.choices.claim and not old.claim:
        raise WrongUsage(
            f"{known.name} was added already, without --claim.",
            remedy=f"`usufruct remove {quoted(known.name)}` leaves what is yours; then add it with --claim.",
        )
    choices = combined(old, request.choices)
    return replace(
        request,
        update=known.name,
        choices=choices,
        access=replace(request.access, names=request.access.names or encoding),
    )


def _names_of(request: Request) -> set[str]:
    return {application.name for application in request.applications}


def _volumes_of(download: Download) -> tuple[Volume, ...]:
    return tuple(map(volume_at, download.archive.facts.volumes))


def _matches_nothing(layout: Layout, name: str) -> WrongUsage:
    listing, pattern = layout.listing, layout.unmatched[0]
    first = ", ".join(printable(listing.path(row)) for row in range(min(3, len(listing))))
    more = f" and {len(listing) - 3:,} more" if len(listing) > 3 else ""
    return WrongUsage(
        f"{pattern} matches nothing in {name}.",
        remedy=f"It holds {first}{more}; a pattern may be a file's name, or a path from the top as `look` shows it.",
    )


def _unread(path: Path, error: BaseException) -> UsufructError:
    if isinstance(error, MemoryError):
        return MachineError(
            f"There is not enough memory to read {path.name}.", remedy="Close other programs.", path=str(path)
        )
    return UsufructError(
        f"{path.name} made Usufruct fail ({type(error).__name__}).",
        remedy="Please report it, with what `usufruct -v` says of it.",
        path=str(path),
    )


def _updating(request: Request, ledger: Ledger | None) -> tuple[Request, Holding | None]:
    """The holding that is to be updated, and the request made to be for its application or directory."""
    if request.update is None:
        return request, None
    old = holding_named(ledger, request.update) if ledger else None
    if not old:
        raise WrongUsage(f"There is no holding called {request.update}.", remedy="`usufruct list` shows what there is.")
    if old.application is None:
        return replace(request, applications=(), to=old.root), old
    fitting = tuple(one for one in request.applications if one.name == old.application)
    if not fitting:
        raise WrongUsage(
            f"{old.name} belongs to {old.application}.", remedy=f"Say --app {old.application}, or leave --app out."
        )
    return replace(request, applications=fitting, is_named=True), old


def _examine(
    result: Examined,
    download: Download,
    request: Request,
    ledger: Ledger | None,
    platform: Platform,
    *,
    for_adding: bool,
) -> None:
    archive = download.archive
    result.format, result.size, result.facts = archive.format, archive.size, archive.facts
    result.listing = archive.listing
    if not len(archive.listing) and not archive.listing.refused:
        raise EmptyArchive(
            f"{archive.name} is an archive that holds nothing.",
            remedy="Look where it came from for another one; downloading it again gives the same.",
            path=archive.path,
        )
    result.holding = request.name or nameable(download.tidy_name)
    variant, decisions = _find_variant(result, download, request)
    if variant and _finds_programs(variant, request, for_adding=for_adding):
        variant, decisions = _find_variant(result, download, request)
    result.decisions = tuple(decisions)
    has_rest = bool(len(archive.listing))
    if variant is None and archive.listing.refused and not (request.choices.skip_unsafe and has_rest):
        raise _unsafe(archive, archive.listing.refused, has_rest=has_rest)
    if variant is None:
        return
    if variant.layout.unmatched:
        raise _matches_nothing(variant.layout, archive.name)
    layout = result.layout = variant.layout
    result.archive, result.listing = variant.archive, layout.listing
    result.application = layout.application
    root = request.to or (layout.application.root if layout.application else "")
    spell_for(layout, volume_of(root, platform).names)
    _find_holding(result, download, request, ledger, real_path(root), for_adding=for_adding)
    if layout.refused and not (request.choices.skip_unsafe and has_rest):
        raise _unsafe(archive, layout.refused, has_rest=has_rest)
    if not layout.files:
        return
    with request.access.passwords.known_only(not for_adding):
        is_open = _unlock(variant.archive, decisions)
    if is_open:
        for row, path in rows_installed(variant.archive, layout, real_path(root)).items():
            reason = layout.reason(f"is installed already, as {path}")
            layout.set_aside(row, AsideKind.DUPLICATE, reason)
            result.is_installed = True
    _meet(result, variant.archive, request, ledger, root, is_open=is_open)
    assert result.plan, "it was just made"
    if not request.choices.autostart and (question := autostart_question(result.plan)):
        decisions.append(question)
    if result.plan.open_clashes:
        decisions.append(clash_question(result.plan))
        result.both_words = {row: _both_words(result.plan, row, ledger) for row in result.plan.open_clashes}
    if not result.already:
        naming = _naming_question(result, request, ledger, download.tidy_name)
        decisions.extend(naming)
        is_update = result.updates is not None and not result.extends
        is_asked = not (naming or request.clash_is_said or is_update or result.already)
        own = result.updates.number if result.updates else None
        if ledger and is_asked and (question := others_question(result.plan, partial(name_of_holding, ledger), own)):
            rows = [row for row in result.plan.rows() if _is_anothers(result.plan, row, own)][:_MOST_SHOWN]
            shown = tuple(_both_words(result.plan, row, ledger) for row in rows)
            decisions.append(replace(question, detail=shown))
    result.decisions = tuple(decisions)


def _is_anothers(plan: Plan, row: int, own: int | None) -> bool:
    """The row would replace what another holding placed."""
    found = plan.snapshot.found.get(row)
    return bool(
        found and found.stack and found.stack[-1].holding not in (None, own) and plan.clash(row) is Clash.REPLACES
    )


def _both_words(plan: Plan, row: int, ledger: Ledger | None) -> str:
    """Size, time and owner of the file that is there, and size and time of the one that would come."""
    listing, found = plan.layout.listing, plan.snapshot.found[row]
    owner = found.stack[-1].holding if found.stack else None
    whose = f"of {name_of_holding(ledger, owner)}" if ledger and owner is not None else "yours"
    modified = listing.modified(row)
    new = f"{listing.sizes[row]:,} B{f', {_when(modified)}' if modified is not None else ''}"
    return f"{found.name}: there {found.state.size:,} B, {_when(found.state.modified)}, {whose}; in the archive {new}"


def _when(nanoseconds: int) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(nanoseconds // 1_000_000_000))


def _meet(
    result: Examined, archive: Archive, request: Request, ledger: Ledger | None, root: str, *, is_open: bool
) -> None:
    """Make the plan: what each placement meets on this disk."""
    layout, choices = result.layout, request.choices
    assert layout, "there is something to place"
    named: set[int] = set()
    updating = result.updates.number if result.updates else None
    while True:
        snapshot = survey(layout, root, ledger, named)
        if refuse_leading_out(layout, snapshot):
            if not choices.skip_unsafe:
                raise _unsafe(archive, layout.refused, has_rest=True)
            continue
        set_dangling_aside(layout, snapshot)
        if updating is not None:
            snapshot = with_digests_of(layout, snapshot, updating)
        same = rows_already_there(archive, layout, snapshot) if is_open else set()
        result.plan = plan_of(layout, snapshot, choices, same, updating)
        if result.plan.unnamed:
            named |= result.plan.unnamed
            continue
        # A piece that meets another of its name goes beside it as a whole, and is surveyed there.
        if not (pieces := pieces_beside(result.plan)):
            return
        move_pieces(layout, snapshot, pieces)


def _finds_programs(variant: Variant, request: Request, *, for_adding: bool) -> bool:
    """Look at content whose names do not tell whether it can run; True if the listing knows more programs now.

    What is to be added is looked at as it is unpacked, and not twice; what is only shown, where that takes a moment.
    """
    layout, listing = variant.layout, variant.layout.listing
    application = layout.application
    if application is None or (request.choices.programs or application.programs) is Programs.ALLOW:
        return False
    known = set(listing.programs)
    if request.known_programs:
        listing.programs.update(row for row in layout.placed_rows() if listing.path(row) in request.known_programs)
    names, kinds = listing.names, listing.kinds
    rows = [row for row in layout.placed_rows() if kinds[row] == EntryKind.FILE and only_content_tells(names[row])]
    # A packed stream must be unpacked up to the last of them.
    looked_at = rows if variant.archive.is_divisible else range(len(listing))
    size = sum(map(listing.sizes.__getitem__, looked_at))
    if not for_adding and 0 < len(rows) <= _MOST_FILES_LOOKED_AT and size <= _MOST_LOOKED_AT:
        with request.access.passwords.known_only():
            listing.programs.update(programs_among(variant.archive, rows))
    return listing.programs != known


def _find_variant(result: Examined, download: Download, request: Request) -> tuple[Variant | None, list[Decision]]:
    """The way to take the download, or None with the question of which."""
    if request.to:
        variant = download.variant_for(None)
        return variant, list(variant.layout.decisions)
    variants = download.variants()
    if request.is_named and len(request.applications) == 1:
        return variants[0], list(variants[0].layout.decisions)
    layouts = [variant.layout for variant in variants]
    verdict = verdict_on(layouts, download.archive.name)
    result.runners_up, result.standings = verdict.runners_up, verdict.standings
    if verdict.layout:
        result.also_for = also_for(verdict.layout, layouts)
        best = next(variant for variant in variants if variant.layout is verdict.layout)
        return best, list(best.layout.decisions)
    if verdict.decision:
        return None, [_with_directory(verdict.decision, download, layouts), *verdict.common]
    own = (application for application in request.applications if not application.is_shipped)
    nothing = _nothing_fits(request, [download.variant_for(one).layout for one in own])
    return None, [_with_directory(nothing, download, layouts)]


def _with_directory(decision: Decision, download: Download, layouts: Sequence[Layout]) -> Decision:
    """A question of which application, with those that are only offered, and the answer that it is for none."""
    layout = download.variant_for(None).layout
    last = offered(layouts)
    if not layout.files:
        return replace(decision, options=(*decision.options, *last), is_of_whole=True)
    above = os.path.dirname(download.archive.path)
    within = {layout.homes[layout.home_of[row]].path.partition("/")[0] for row in layout.placed_rows()}
    example = f"{above}/{within.pop()}".rstrip("/") if len(within) == 1 else above
    none = Option(
        name="a directory of its own", answer=("--to", above), files=layout.files, size=layout.size, example=example
    )
    return replace(decision, options=(*decision.options, none, *last), is_of_whole=True)


def _nothing_fits(request: Request, layouts: Sequence[Layout]) -> Decision:
    own = [application for application in request.applications if not application.is_shipped]
    looked = tuple(f"{application.name} looked for {sought(application)}" for application in own)
    looked = (*looked, "`usufruct app learn FOLDER` makes a definition from a folder that has such content already")
    options = [
        replace(option, name=f"{option.name} of {layout.application.name}") if len(own) > 1 else option
        for layout in layouts
        if layout.application and not layout.application.is_shipped
        for option in into_options(layout, layout.application)
    ]
    return Decision(
        question="It fits none of the applications. Where shall it go?", detail=looked, options=tuple(options)
    )


def _unlock(archive: Archive, decisions: list[Decision]) -> bool:
    """Whether the archive's content can be read; where only the password is wanting, that is a question."""
    try:
        archive.unlock()
    except PasswordNeeded as needed:
        decisions.append(_password_question(needed))
        return False
    return True


def _password_question(needed: PasswordNeeded) -> Decision:
    return Decision(question=f"{needed.message} {needed.remedy}", options=())


def _unsafe(archive: Archive, refused: Sequence[Refusal], *, has_rest: bool) -> UnsafeArchive:
    first, *others = refused
    more = f" ({len(others)} more entries are unsafe)" if others else ""
    rest = "; `--skip-unsafe` places the rest of it" if has_rest else ""
    return UnsafeArchive(
        f"{_shortened(printable(first.entry))} in {archive.name} is refused: {first.reason}{more}.",
        kept="Nothing was placed.",
        remedy=f"Do not trust this archive{rest}.",
        path=archive.path,
    )


def _shortened(path: str) -> str:
    """A path of which no more is shown than a person reads."""
    return path if len(path) <= _MOST_OF_PATH else f"{path[: _MOST_OF_PATH // 2]}…{path[-_MOST_OF_PATH // 2 :]}"


def _find_holding(
    result: Examined,
    download: Download,
    request: Request,
    ledger: Ledger | None,
    root: str,
    *,
    for_adding: bool,
) -> None:
    """The name the holding would have, or the holding that this archive is already."""
    name = result.application.name if result.application else None
    candidates = holdings_of_tidy_name(ledger, name, root, download.tidy_name) if ledger else []
    if for_adding or any(holding.archive_size == result.size for holding in candidates):
        result.volumes = result.volumes or _volumes_of(download)
        result.digest = _digest_of_all(result.volumes)
    for holding in candidates:
        is_same = holding.archive_digest == result.digest and holding.archive_size == result.size
        # Compared as values: an earlier version may have had fewer options.
        is_alike = choices_from_text(holding.choices) == (request.choices, request.access.names)
        if is_same and is_alike and not holding.is_partial:
            result.already, result.holding = holding, holding.name


def _digest_of_all(volumes: Sequence[Volume]) -> bytes:
    """The digest of the one file, or one over the digests of several."""
    if len(volumes) == 1:
        return volumes[0].digest
    return blake3(b"".join(volume.digest for volume in volumes)).digest()


def _naming_question(result: Examined, request: Request, ledger: Ledger | None, tidy: str) -> list[Decision]:
    """The question of an archive whose name is taken: an update, or another of that name."""
    assert result.plan, "it is asked about what would be placed"
    if not ledger or result.updates:
        result.holding = request.name or (result.updates.name if result.updates else result.holding)
        return []
    holdings = all_holdings(ledger)
    taken = {spelling_key(holding.name) for holding in holdings}
    application = result.application.name if result.application else None
    same = holdings_of_tidy_name(ledger, application, result.plan.snapshot.root, tidy)
    if same and _is_all_there(result.plan, same[0]):
        result.already, result.holding = same[0], same[0].name
        return []
    if same and not request.name:
        return [_update_question(result, same[0], free_name(tidy, taken))]
    if folded(result.holding) in {folded(holding.name) for holding in holdings}:
        beside = free_name(result.holding, taken)
        if request.name:
            return [_naming_decision(result, f"A holding called {request.name} is there already", beside)]
        result.holding = beside
    return []


def _is_all_there(plan: Plan, holding: Holding) -> bool:
    """Whether the very same content is there already as the holding's, though from an archive packed otherwise."""
    files = 0
    for row in plan.rows():
        if plan.clash(row) is not Clash.SAME:
            return False
        if all(layer.holding != holding.number for layer in plan.snapshot.found[row].stack):
            return False
        files += plan.layout.listing.kinds[row] != EntryKind.DIRECTORY
    return files == holding.files and not holding.is_partial


def _update_question(result: Examined, old: Holding, beside: str) -> Decision:
    """Whether the archive takes the place of a holding of its name, or stands beside it."""
    assert result.layout, "there is something to place"
    files, size = result.layout.files, result.layout.size
    new = version_of(Path(result.path).name)
    order = compared_versions(new, old.version)
    known = {1: f", and {new} is newer than {old.version}", -1: f", but {new} is older than {old.version}"}
    return Decision(
        question=f"{old.name} is among the holdings already, from another archive{known.get(order, '')}. "
        "Does this one take its place?",
        options=(
            Option(name="update", answer=("--update", old.name), files=files, size=size),
            Option(name="beside", answer=("--as", beside), files=files, size=size),
        ),
    )


def _naming_decision(result: Examined, fact: str, beside: str) -> Decision:
    assert result.layout
    option = Option(name="beside", answer=("--as", beside), files=result.layout.files, size=result.layout.size)
    return Decision(question=f"{fact}. What shall this one be called?", options=(option,))
