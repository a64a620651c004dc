"""Find out what an archive is, where its entries would go and what is there."""

import logging
import os
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from usufruct.actions.again import from_this_archive, has_all, is_made_so, to_add_more, to_update
from usufruct.actions.context import Context
from usufruct.actions.download import Download, Variant
from usufruct.actions.outcomes import AlreadyThere, Asked, Examined, Ready, Refused
from usufruct.actions.programs import finds_programs
from usufruct.actions.refusals import empty, matches_nothing, nothing_left, unread, unsafe
from usufruct.actions.request import Request
from usufruct.actions.taking import Taken, taken
from usufruct.archives.reading import Archive
from usufruct.errors import PasswordNeeded, UsufructError
from usufruct.files.file_systems import file_system_of
from usufruct.files.origin import origin_of
from usufruct.files.paths import real_path, searched_directories
from usufruct.files.printable import nameable
from usufruct.ledger import Ledger
from usufruct.ledger.holdings import holding_named, holdings_of_tidy_name, name_of_holding
from usufruct.model.entries import Refusal
from usufruct.model.holdings import Holding
from usufruct.model.layout import Layout
from usufruct.model.plan import Plan
from usufruct.model.rulings import Decision, Option, Refuse, Rename, Skip, SkippedKind
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
from usufruct.survey.contents import rows_already_there, rows_installed
from usufruct.survey.going import Going
from usufruct.survey.homes import add_digests_of, move_beside, move_pieces, survey
from usufruct.survey.links import refuse_leading_out, skip_dangling
from usufruct.survey.own import refuse_own

_log = logging.getLogger(__name__)
_log.addHandler(logging.NullHandler())


@contextmanager
def examined(
    context: Context, paths: Sequence[Path], request: Request, ledger: Ledger | None, *, for_adding: bool
) -> Iterator[Examined]:
    """Examine an archive (or several as one); gives Refused, Asked, AlreadyThere or Ready, and is open while inside.

    `for_adding`: it is placed at once, and its content is read then, so that it need not be read before.
    """
    with closing(_Examination(context, paths, ledger, for_adding=for_adding)) as one:
        yield one.outcome(request)


class _Examination:
    """The way of one archive from the command to the plan. Close it after use."""

    def __init__(self, context: Context, paths: Sequence[Path], ledger: Ledger | None, *, for_adding: bool) -> None:
        self._context = context
        self._paths = [path.absolute() for path in paths]
        self._ledger = ledger
        self._for_adding = for_adding
        self._download: Download | None = None
        self._found: Examined
        """What is known so far; the result if there is an error."""

    def close(self) -> None:
        """Close the archive."""
        if self._download:
            self._download.close()

    def outcome(self, request: Request) -> Examined:
        """Return the result; each safe answer is taken, if those are to be taken."""
        found = self._outcome(request)
        while isinstance(found, Asked) and request.takes_safe:
            safe = next((decision.safe for decision in found.decisions if decision.safe), None)
            if safe is None:
                break
            found = self._outcome(found.request.with_answer(safe.answer))
        return found

    def _outcome(self, request: Request) -> Examined:
        self._found = Examined(path=str(self._paths[0]), request=request)
        try:
            return self._examined(request)
        except PasswordNeeded as needed:
            return self._found.as_outcome(Asked, decisions=(_password_question(needed),))
        except UsufructError as error:
            # Ask nothing: every answer would be refused for the same reason.
            return self._found.as_outcome(Refused, error=error)
        except (Exception, MemoryError) as error:  # noqa: BLE001 - one file must not keep all others from their turn
            _log.error("%s", self._found.path, exc_info=error)
            return self._found.as_outcome(Refused, error=unread(self._paths[0], error))

    def _examined(self, request: Request) -> Examined:
        download, holding = self._opened(request)
        archive = download.archive
        self._learn(
            request=download.request,
            format=archive.format,
            size=archive.size,
            origin=origin_of(archive.path),
            updates=self._holding_called(download.request.update),
        )
        if holding:
            return self._learn(name=holding.name).as_outcome(AlreadyThere, holding=holding)
        way = self._taken(download)
        if way.variant is None:
            self._refuse_unsafe(archive.listing.refused)
            if way.unmatched:
                raise matches_nothing(way.unmatched[0], archive.listing, archive)
            return self._found.as_outcome(Asked, decisions=way.decisions)
        root = self._laid_out(download, way.variant)
        if not way.variant.layout.files:
            return self._found.as_outcome(Asked, decisions=way.decisions) if way.decisions else self._nothing_left()
        return self._met(download, way.variant, root, way.decisions)

    def _learn(self, **more: object) -> Examined:
        self._found = replace(self._found, **more)
        return self._found

    def _opened(self, request: Request) -> tuple[Download, Holding | None]:
        """Open the download. Return it with the holding from this very archive, if that is the result.

        If the holding can be added to, the download's request asks for that instead.
        """
        download = self._under(to_update(request, self._ledger))
        holding = from_this_archive(download, self._ledger) if self._ledger else None
        if holding is None or holding.application not in (None, *(one.name for one in request.applications)):
            return download, holding
        return self._under(to_update(to_add_more(holding, download.request), self._ledger)), None

    def _under(self, request: Request) -> Download:
        """Return the open download as this request takes it."""
        if self._download and not self._download.is_read_alike(request):
            self._download.close()
            self._download = None
        self._download = self._download.under(request) if self._download else Download(self._paths, request)
        return self._download

    def _holding_called(self, name: str | None) -> Holding | None:
        return holding_named(self._ledger, name) if self._ledger and name is not None else None

    def _taken(self, download: Download) -> Taken:
        """Decide for which application it is."""
        archive, request, updates = download.archive, download.request, self._found.updates
        name = request.name or (updates.name if updates else nameable(download.tidy_name))
        self._learn(facts=archive.facts, listing=archive.listing, name=name)
        if not len(archive.listing) and not archive.listing.refused:
            raise empty(archive)
        way = taken(download)
        if way.variant and finds_programs(way.variant, request, in_all=not self._for_adding):
            way = taken(download)
        self._learn(verdict=way.verdict)
        return way

    def _laid_out(self, download: Download, variant: Variant) -> str:
        """Return the directory below which the layout's files go; refuse what can never be placed."""
        layout, request = variant.layout, download.request
        if unmatched := layout.unmatched or matching_nothing(layout, request.patterns):
            raise matches_nothing(unmatched[0], layout.listing, download.archive)
        root = request.to or (layout.application.root if layout.application else "")
        layout.follow(spell_for(layout, file_system_of(root, self._context.system()).names))
        self._learn(layout=layout, listing=layout.listing)
        self._refuse_unsafe(layout.refused)
        return root

    def _refuse_unsafe(self, refused: Sequence[Refusal]) -> None:
        """Raise UnsafeArchive if any entry is refused, unless refused entries may be left out and others remain."""
        assert self._download, "it was opened"
        archive, has_rest = self._download.archive, bool(len(self._download.archive.listing))
        if refused and not (self._found.request.choices.skip_unsafe and has_rest):
            raise unsafe(archive, refused, has_rest=has_rest)

    def _met(self, download: Download, variant: Variant, root: str, decisions: Sequence[Decision]) -> Examined:
        """Compare the layout with what is on this disk and on record, and return the result."""
        layout, archive, ledger = variant.layout, variant.archive, self._ledger
        archive.refuse_unreadable((*layout.placed_rows(), *layout.rows_skipped(SkippedKind.NOTES)))
        name = layout.application.name if layout.application else None
        same = holdings_of_tidy_name(ledger, name, real_path(root), layout.tidy_name) if ledger else []
        made_so = next((holding for holding in same if is_made_so(holding, download)), None)
        locked = self._locked(archive)
        is_installed = not locked and _skip_installed(archive, layout, real_path(root))
        plan = self._planned(archive, layout, root, is_open=not locked)
        updates = self._learn(plan=plan).updates
        if ledger and updates and self._found.extends and has_all(ledger, updates, plan):
            return self._found.as_outcome(AlreadyThere, holding=updates)
        refuse_own(plan, self._context.paths.own())
        named = self._named(plan, same)
        if made_so or named.is_there or (is_installed and not layout.files):
            there = made_so or (same[0] if named.is_there else None)
            found = self._learn(name=there.name) if there else self._found
            return found.as_outcome(AlreadyThere, holding=there)
        self._learn(name=named.name)
        if decisions := (*decisions, *filter(None, (locked,)), *self._questions(plan, named)):
            name_of = partial(name_of_holding, ledger) if ledger else str
            both = {row: in_the_way(plan, row, name_of) for row in plan.open_conflicts}
            return self._found.as_outcome(Asked, decisions=decisions, in_the_way=both)
        if next(plan.rows(), None) is None:
            return self._nothing_left()
        return self._found.as_outcome(Ready, archive=archive, download=download)

    def _nothing_left(self) -> Refused:
        assert self._found.layout, "something was laid out"
        return self._found.as_outcome(Refused, error=nothing_left(self._found.layout))

    def _locked(self, archive: Archive) -> Decision | None:
        """Return the question for the password, if the content cannot be read without one."""
        with self._found.request.access.passwords.known_only(not self._for_adding):
            try:
                archive.unlock()
            except PasswordNeeded as needed:
                return _password_question(needed)
        return None

    def _planned(self, archive: Archive, layout: Layout, root: str, *, is_open: bool) -> Plan:
        """Return what each placement meets on this disk."""
        choices, ledger = self._found.request.choices, self._ledger
        named: set[int] = set()
        updating = self._found.updates.number if self._found.updates else None
        going = Going(ledger, updating) if ledger and updating is not None else None
        while True:
            snapshot = survey(layout, root, ledger, named, going)
            if layout.follow(move_beside(layout, snapshot)):
                continue
            if any(isinstance(one, Refuse) for one in layout.follow(refuse_leading_out(layout, snapshot))):
                if not choices.skip_unsafe:
                    raise unsafe(archive, layout.refused, has_rest=True)
                continue
            layout.follow(skip_dangling(layout, snapshot))
            if updating is not None:
                add_digests_of(layout, snapshot, updating)
            same = rows_already_there(archive, layout, snapshot) if is_open else set()
            plan = plan_of(layout, snapshot, choices, same, updating)
            if plan.unnamed:
                named |= plan.unnamed
                continue
            # What was placed beside a file before keeps its name, and is surveyed there.
            kept: dict[str, str] = {}
            if ledger and updating is not None and plan.beside:
                from usufruct.survey.kept_names import kept_names  # imported here: few files have a free name

                rows, kept = kept_names(plan, ledger, updating)
                if rows:
                    layout.follow(map(Rename, rows, rows.values()))
                    continue
            # A piece that conflicts with another gets a free name as a whole, and is surveyed there.
            if not (pieces := pieces_beside(plan)):
                return plan
            layout.follow(move_pieces(layout, snapshot, pieces, kept))

    def _named(self, plan: Plan, same: Sequence[Holding]) -> Naming:
        """Return the name of the holding; one that is updated keeps its name."""
        found, ledger = self._found, self._ledger
        if ledger is None or found.updates:
            return Naming(name=found.name)

        def is_taken(name: str) -> bool:
            return holding_named(ledger, name) is not None

        is_wished = found.request.name is not None
        return naming(plan, os.path.basename(found.path), found.name, same, is_taken, is_wished=is_wished)

    def _questions(self, plan: Plan, named: Naming) -> Iterator[Decision]:
        """Yield what the user has to decide about a plan."""
        found, ledger = self._found, self._ledger
        request = found.request
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


def _password_question(needed: PasswordNeeded) -> Decision:
    answer = Option(name="password", answer=("--password-file", "-"), files=0, size=0)
    return Decision(question=f"{needed.message} {needed.remedy}", options=(answer,))


def _skip_installed(archive: Archive, layout: Layout, root: str) -> bool:
    """Skip what is where the application itself installs such content; return whether there was anything."""
    installed = rows_installed(archive, layout, root)
    layout.follow(
        Skip([row], SkippedKind.DUPLICATE, f"is installed already, as {path}") for row, path in installed.items()
    )
    return bool(installed)
