"""Undo and redo: everything that one command did is one step."""

from collections.abc import Callable, Iterator, Sequence, Set
from pathlib import Path

from msgspec import Struct

from usufruct.actions.applications import known_applications
from usufruct.actions.context import Context
from usufruct.actions.history import Step, steps_of
from usufruct.actions.refresh import run_after
from usufruct.actions.request import with_taken_out
from usufruct.actions.sources import row_for, source_of
from usufruct.archives.reading import Access
from usufruct.errors import WrongUsage
from usufruct.ledger.altered import lies_over, past_layers
from usufruct.ledger.changes import enter_reversed
from usufruct.ledger.directories import directory_number
from usufruct.ledger.holdings import holding_named, holding_numbered, is_there, name_of_holding
from usufruct.ledger.layers import claims_of
from usufruct.model.changes import Change, ChangeKind
from usufruct.model.holdings import Holding
from usufruct.survey.drives import refuse_away
from usufruct.transaction.detach import remove_holding
from usufruct.transaction.mend import lay_back, put_before
from usufruct.transaction.together import Leaving, remove_together
from usufruct.transaction.work import Resources


class Reversed(Struct, frozen=True):
    """The result of undoing or redoing one change."""

    change: Change
    """The change of the history that it is about."""
    holding: str
    is_in: bool
    """The holding, or what of it the change was about, is in again; otherwise it is out."""
    files: int
    """Files placed or taken out."""
    left: tuple[str, ...] = ()
    """Paths of files that were changed since and stay."""


def undo(
    context: Context,
    access: Access,
    number: int | None = None,
    archive: Path | None = None,
    *,
    before: Callable[[Step], None] = lambda _: None,
    tell: Callable[[Reversed], None] = lambda _: None,
) -> list[Reversed]:
    """Undo the newest step that is not undone, or the one with this number.

    `archive` is the path of the archive that is needed, if it is not where it was. `before` is called with the step
    before anything is done, `tell` with each change as it is undone. Raises WrongUsage if nothing can be undone or
    something later depends on it; MachineError if something that is needed is missing.
    """
    with context.writing("undo") as resources:
        reversal = Reversal(context, resources, access, archive)
        return _carried_out(reversal, *reversal.to_undo(number), before, tell)


def redo(
    context: Context,
    access: Access,
    archive: Path | None = None,
    *,
    before: Callable[[Step], None] = lambda _: None,
    tell: Callable[[Reversed], None] = lambda _: None,
) -> list[Reversed]:
    """Undo the last undo; raises the same errors as `undo`."""
    with context.writing("redo") as resources:
        reversal = Reversal(context, resources, access, archive)
        return _carried_out(reversal, *reversal.to_redo(), before, tell)


def _carried_out(
    reversal: "Reversal",
    step: Step,
    changes: Sequence[Change],
    before: Callable[[Step], None],
    tell: Callable[[Reversed], None],
) -> list[Reversed]:
    before(step)
    results = []
    for result in reversal.reverse(step, changes):
        results.append(result)
        tell(result)
    return results


class Reversal:
    """Undoing or redoing: what will be reversed is known and told first."""

    def __init__(self, context: Context, resources: Resources, access: Access, archive: Path | None) -> None:
        self._context, self._resources = context, resources
        self._access, self._archive = access, archive
        self._applications = tuple(known_applications(context))
        self.steps = steps_of(resources.ledger)

    def to_undo(self, number: int | None) -> tuple[Step, list[Change]]:
        """Return the newest step that is not undone, or the one with this number, and its changes, the newest first.

        Raises WrongUsage if there is none, or if something later depends on it.
        """
        if number is None:
            step = next((one for one in self.steps if one.done or (not one.reversible and not _is_repair(one))), None)
            if step is None:
                raise WrongUsage(
                    "There is nothing to undo." if self.steps else "Nothing has been changed yet.",
                    remedy="`usufruct history` lists what was done."
                    if self.steps
                    else "`usufruct add` places an archive.",
                )
            if not (changes := self._on_record(step)):
                before = next((one for one in self.steps if one.number < step.number and self._on_record(one)), None)
                raise WrongUsage(
                    f"The last change, {_said(step)}, cannot be undone.",
                    remedy=f"`usufruct undo {before.number}` undoes the one before it."
                    if before
                    else "`usufruct history` lists what was done.",
                )
            return step, changes
        step = next((one for one in self.steps if number in (change.number for change in one.changes)), None)
        if step is None:
            raise WrongUsage(
                f"There is no change {number}.", remedy="`usufruct history` lists all changes with their numbers."
            )
        if not step.done:
            why = "is undone already" if step.is_undone else "cannot be undone"
            raise WrongUsage(
                f"Change {number}, {_said(step)}, {why}.", remedy="`usufruct history` lists what was done."
            )
        if dependents := self._dependents(step):
            raise WrongUsage(
                f"A later change depends on change {step.number}: {'; '.join(dependents)}.", remedy="Undo that first."
            )
        if not (changes := self._on_record(step)):
            raise WrongUsage(
                f"Change {number}, {_said(step)}, cannot be undone, because what it added was forgotten.",
                remedy="`usufruct history` lists what was done.",
            )
        return step, changes

    def to_redo(self) -> tuple[Step, list[Change]]:
        """Return the step that was undone last, and its changes in the order in which they are done again.

        Raises WrongUsage if there is none, or if something was changed since.
        """
        undone = [(step.latest(change), change, step) for step in self.steps for change in step.reversible
                  if step.is_change_undone(change)]  # fmt: skip
        if not undone:
            raise WrongUsage("There is nothing to redo.", remedy="`usufruct undo` comes first.")
        last, _, step = max(undone, key=lambda one: one[0].number)
        newest = max((change.number for one in self.steps for change in one.changes if not _is_repair(one)), default=0)
        if newest > last.number:
            raise WrongUsage(
                "There is nothing to redo, because another change was made after the last undo.",
                remedy="`usufruct history` lists what was done.",
            )
        # The last one undone is redone first.
        again = [(latest, change) for latest, change, _ in undone if latest.command == last.command]
        return step, [change for _, change in sorted(again, key=lambda pair: -pair[0].number)]

    def reverse(self, step: Step, changes: Sequence[Change]) -> Iterator[Reversed]:
        """Reverse these changes one after the other; yield the result of each."""
        held = [one for change in changes for one in self._concerned(step.latest(change))]
        for one in held:
            refuse_away(self._resources.ledger, self._resources.platform.identity_of_drive, one)
        try:
            waiting = list(changes)
            while waiting:
                done = self._taken_together(step, waiting) or [self._reversed(waiting[0], step.latest(waiting[0]))]
                del waiting[: len(done)]
                yield from done
        finally:
            for application in self._applications:
                if application.name in {one.application for one in held}:
                    run_after(self._context, application)

    def _taken_together(self, step: Step, changes: Sequence[Change]) -> list[Reversed]:
        """Reverse the first of these together, as many as are whole removals; perhaps none."""
        removed = remove_together(self._resources, self._leaving(step, changes))
        return [Reversed(root, root.about, False, one.taken) for root, one in zip(changes, removed, strict=False)]

    def _leaving(self, step: Step, changes: Sequence[Change]) -> Iterator[Leaving]:
        """Yield the holdings that reversing these removes, up to the first that is not removed as a whole."""
        for root in changes:
            change, ledger = step.latest(root), self._resources.ledger
            brought = holding_numbered(ledger, change.brought) if change.brought is not None else None
            is_update = change.took not in (None, change.brought)
            if not brought or is_update or change.is_partial or not is_there(ledger, brought.number):
                return
            if claims_of(ledger, brought.number):
                return
            yield Leaving(brought, root.number)

    def _concerned(self, change: Change) -> list[Holding]:
        numbers = [number for number in (change.brought, change.took) if number is not None]
        found = [holding_numbered(self._resources.ledger, number) for number in numbers]
        return [one for one in found if one]

    def _reversed(self, root: Change, change: Change) -> Reversed:
        ledger = self._resources.ledger
        brought = holding_numbered(ledger, change.brought) if change.brought is not None else None
        took = holding_numbered(ledger, change.took) if change.took is not None else None
        if brought and took and brought.number != took.number:
            return self._put_before(root, change, brought, took)
        if brought and is_there(ledger, brought.number):
            part = self._part_of(root, brought) if change.is_partial and root.kind is ChangeKind.REMOVE else None
            removed = remove_holding(
                self._resources,
                brought,
                only=part.names if part else None,
                keeps=claims_of(ledger, brought.number),
                choices_without=part.choices_without if part and root.is_named_part else None,
                root=root.number,
            )
            return Reversed(root, brought.name, False, removed.taken, removed.left)
        if took:
            return self._lay_back(root, change, took)
        raise WrongUsage(
            f"{root.kind.capitalize()} of {root.about} left nothing on record that could be put back.",
            remedy="`usufruct history` lists what was done.",
        )

    def _part_of(self, root: Change, holding: Holding) -> "_Part":
        """Return the part that a partial removal took, which is removed again."""
        past = past_layers(self._resources.ledger, root.number)
        if not past:
            raise _forgotten(holding)
        part = _Part(holding, {}, {})
        for one in past:
            directory = directory_number(self._resources.ledger, one.path)
            if directory is not None and one.layer.holding == holding.number:
                part.names.setdefault(directory, set()).add(one.name)
                part.entries[directory, one.name] = one.layer.entry
        return part

    def _lay_back(self, root: Change, change: Change, took: Holding) -> Reversed:
        ledger = self._resources.ledger
        was_there = is_there(ledger, took.number)
        other = holding_named(ledger, took.name)
        if other and other.number != took.number:
            raise WrongUsage(
                f"Another holding is called {took.name} by now.", remedy=f"Undo that first, or remove {other.name}."
            )
        past = past_layers(ledger, change.number)
        if not past and was_there:
            # The user had changed all of its files, and they stayed: there is nothing to put back.
            enter_reversed(ledger, root, self._resources.now())
            return Reversed(root, took.name, True, 0)
        if not past:
            raise _forgotten(took)
        entries = {one.layer.entry for one in past}
        choices = with_taken_out(took.choices, entries, are_back=True) if was_there else None
        with source_of(self._resources, took, self._applications, self._access, self._archive) as (source, rows):
            source.unlock()
            pairs = [(one, row_for(one.layer, rows, took)) for one in past]
            files = lay_back(
                self._resources,
                took,
                pairs,
                source,
                was_partial=was_there,
                is_partial=was_there and self._is_still_partial(root, took),
                choices=choices,
                root=root.number,
            )
        return Reversed(root, took.name, True, files)

    def _is_still_partial(self, root: Change, holding: Holding) -> bool:
        """Whether another part of a holding is still out once this one is back."""
        return any(
            change.took == holding.number and change.is_partial and change.number != root.number
            for step in self.steps
            for change in step.done
        )

    def _put_before(self, root: Change, change: Change, brought: Holding, took: Holding) -> Reversed:
        """Undo an update: the earlier holding replaces the new one."""
        ledger = self._resources.ledger
        past = past_layers(ledger, change.number)
        with source_of(self._resources, took, self._applications, self._access, self._archive) as (source, rows):
            source.unlock()
            pairs = [(one, row_for(one.layer, rows, took)) for one in past]
            files, left = put_before(self._resources, brought, took, pairs, source, root=root.number)
        return Reversed(root, took.name, True, files, left)

    def _on_record(self, step: Step) -> list[Change]:
        """Return those changes of a step that can be undone now, the newest first.

        What was added and then forgotten cannot be taken out; an earlier version can be put back even so.
        """
        ledger = self._resources.ledger

        def is_forgotten(change: Change) -> bool:
            return change.took is None and change.brought is not None and not is_there(ledger, change.brought)

        return [change for change in step.done if not is_forgotten(step.latest(change))]

    def _dependents(self, step: Step) -> list[str]:
        """Say what lies on what a step changed, and was done later."""
        ledger = self._resources.ledger
        later = [one for one in self.steps if one.number > step.number]
        found: dict[str, None] = {}
        for change in step.done:
            latest = step.latest(change)
            mine = {latest.brought, latest.took} - {None}
            over = set(lies_over(ledger, latest.number, latest.brought))
            for one in later:
                if any(mine & {other.brought, other.took} or other.brought in over for other in one.done):
                    found[f"{one.number} ({_said(one)})"] = None
                    over -= {other.brought for other in one.done}
            found |= dict.fromkeys(name_of_holding(ledger, number) for number in sorted(over))
        return [*found]


class _Part(Struct):
    """A part of a holding that is removed."""

    holding: Holding
    names: dict[int, set[str]]
    """By directory."""
    entries: dict[tuple[int, str], str]
    """By directory and name."""

    def choices_without(self, left: Set[tuple[int, str]]) -> str:
        """Return the holding's choices once the part is removed, except for what stays."""
        return with_taken_out(self.holding.choices, {entry for at, entry in self.entries.items() if at not in left})


def _forgotten(holding: Holding) -> WrongUsage:
    return WrongUsage(
        f"What {holding.name} had is no longer on record: that is kept for the last changes only.",
        remedy="Add its archive again.",
    )


def _is_repair(step: Step) -> bool:
    # A repair restores what should be there, so there is nothing to undo.
    return all(change.kind is ChangeKind.REPAIR for change in step.changes)


def _said(step: Step) -> str:
    """Return a step in a few words: `add of owl-family`."""
    first, *others = step.changes
    more = f" and {len(others)} more" if others else ""
    return f"{first.kind} of {first.about}{more}"
