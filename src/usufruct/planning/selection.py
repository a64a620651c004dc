"""Decide which entries take part: junk is skipped first, then what the user's patterns and choices leave out."""

from collections.abc import Iterable

from usufruct.model.applications import Application, Programs
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Decision, Layout, Option, SkippedKind
from usufruct.planning.dangers import programs_in
from usufruct.planning.junk import can_run
from usufruct.planning.marks import marks_of
from usufruct.planning.names import joined
from usufruct.planning.patterns import Patterns, letters_of
from usufruct.planning.tree import Tree


def skip_junk(layout: Layout, tree: Tree, leave: tuple[str, ...] = ()) -> None:
    """Skip what systems and editors leave behind, and what the `leave` of the definition matches."""
    if leave:
        _skip_left_out(layout, tree, Patterns(leave))
    left_behind = layout.reason("left behind by a system or an editor")
    for row in tree.junk:
        layout.skip(row, SkippedKind.JUNK, left_behind)


def _skip_left_out(layout: Layout, tree: Tree, patterns: Patterns) -> None:
    why_below = [-1] * len(tree.names)
    names, directories = layout.listing.names, layout.listing.directory_of
    for directory in range(1, len(tree.names)):
        why_below[directory] = why_below[tree.parent(directory)]
        if why_below[directory] < 0:
            why_below[directory] = _left(layout, patterns, tree.names[directory], tree.path(directory))
    # Only a pattern with a path, or a directory that is left out, requires a look at every entry.
    looks_at_all = patterns.has_paths or any(why >= 0 for why in why_below)
    for row in range(len(names)) if looks_at_all else sorted({*patterns.found_in(tree.by_form)}):
        if layout.listing.kinds[row] == EntryKind.DIRECTORY:
            continue
        directory = directories[row]
        why = why_below[directory]
        if why < 0:
            why = _left(layout, patterns, names[row], joined(tree.path(directory), names[row]))
        if why >= 0:
            layout.skip(row, SkippedKind.JUNK, why)


def _left(layout: Layout, patterns: Patterns, name: str, path: str) -> int:
    pattern = patterns.by_name(name) or patterns.by_path(path)
    return layout.reason(f"the definition leaves out {pattern}") if pattern else -1


def matching_nothing(layout: Layout, patterns: Iterable[str]) -> tuple[str, ...]:
    """Return the patterns that match neither an entry nor a path as the plan shows it."""
    return tuple(pattern for pattern in patterns if not _matches(layout, pattern))


def _matches(layout: Layout, pattern: str) -> bool:
    """Whether a pattern of the user's matches an entry or a path as the plan shows it."""
    patterns, listing = Patterns([pattern]), layout.listing
    return any(patterns.match(listing.path(row)) for row in range(len(listing))) or any(
        patterns.match(_shown_path(layout, row)) for row in layout.placed_rows()
    )


def _shown_path(layout: Layout, row: int) -> str:
    home = layout.homes[layout.home_of[row]].path
    return f"{home}/{layout.name(row)}" if home else layout.name(row)


def leave_out(layout: Layout, choices: Choices) -> None:
    """Skip placements that `--only` does not match or `--skip` does."""
    layout.unmatched = matching_nothing(layout, (*choices.only, *choices.skip))
    if choices.only:
        only = Patterns(choices.only)
        reason = layout.reason(f"not among --only {' '.join(choices.only)}")
        for row in list(layout.placed_rows()):
            if not (only.match(layout.listing.path(row)) or only.match(_shown_path(layout, row))):
                layout.skip(row, SkippedKind.LEFT_OUT, reason)
    if choices.picked is not None:
        picked, reason = frozenset(choices.picked), layout.reason("not picked")
        for row in list(layout.placed_rows()):
            if layout.listing.path(row) not in picked:
                layout.skip(row, SkippedKind.LEFT_OUT, reason)
    if choices.skip:
        skip = Patterns(choices.skip)
        for row in list(layout.placed_rows()):
            if pattern := skip.match(layout.listing.path(row)) or skip.match(_shown_path(layout, row)):
                layout.skip(row, SkippedKind.LEFT_OUT, layout.reason(f"left out by --skip {pattern}"))


def leave_taken_out(layout: Layout, choices: Choices) -> None:
    """Skip what was taken out of the holding before, unless the user names it again.

    This comes after all other rules: nothing is placed instead of it.
    """
    if not choices.taken_out:
        return
    again, out = Patterns(choices.again), frozenset(choices.taken_out)
    reason = layout.reason("was taken out before; --only names it again")
    for row in list(layout.placed_rows()):
        path = layout.listing.path(row)
        if path in out and not (again.match(path) or again.match(_shown_path(layout, row))):
            layout.skip(row, SkippedKind.LEFT_OUT, reason)


def _is_expected(layout: Layout, row: int) -> bool:
    """Whether the folder that a row goes to takes its type by name.

    Then the executable mark in the archive means nothing. That the content is a program does, unless it is a type of
    program that the folder takes.
    """
    name = layout.listing.names[row]
    if row in layout.listing.programs and not can_run(name, is_marked=False):
        return False
    folder = layout.homes[layout.home_of[row]].folder
    named = [pattern for pattern in folder.takes if letters_of(pattern)] if folder else []
    return bool(named) and Patterns(named).by_name(name) is not None


def _rows_of_marks(layout: Layout, application: Application) -> set[int]:
    tree = Tree.of(layout.listing)
    paths = {
        joined(tree.path(piece), mark)
        for marked in marks_of(tree, application).values()
        for piece, mark in marked.items()
    }
    return {row for row in layout.placed_rows() if layout.listing.path(row) in paths}


def judge_programs(layout: Layout, application: Application, choices: Choices) -> None:
    """Place files that can run only if the definition or the user allows it."""
    policy = choices.programs or application.programs
    if policy is Programs.ALLOW or next(layout.placed_rows(), None) is None:
        return
    listing = layout.listing
    programs = [row for row in programs_in(listing) if layout.home_of[row] >= 0 and not _is_expected(layout, row)]
    # Without its marker file it would not be a piece.
    marks = _rows_of_marks(layout, application) if programs else ()
    programs = [row for row in programs if row not in marks and row not in listing.harmless]
    if not programs:
        return
    if policy is Programs.REFUSE:
        reason = layout.reason(f"it is a program file, and {application.title} gets none")
        for row in programs:
            layout.skip(row, SkippedKind.NOT_TAKEN, reason)
        return
    size = sum(listing.sizes[row] for row in programs)
    example = listing.path(programs[0])
    refuse = Option(
        name="refuse",
        answer=("--programs", "refuse"),
        files=layout.files - len(programs),
        size=layout.size - size,
    )
    allow = Option(name="allow", answer=("--programs", "allow"), files=layout.files, size=layout.size, example=example)
    what = f"{len(programs)} files are program files" if len(programs) > 1 else f"{example} is a program file"
    layout.decisions.append(
        Decision(
            question=f"{what}, and {application.title} does not expect any. Leave them out or place them?",
            options=(refuse, allow),
            safe=refuse if refuse.files else None,
        )
    )
