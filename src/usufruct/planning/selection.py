"""Decide which entries take part: junk is skipped first, then what the user's patterns and choices leave out."""

from collections.abc import Iterable, Iterator

from usufruct.model.applications import Application, Programs
from usufruct.model.choices import Choices
from usufruct.model.entries import EntryKind
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Option, Skip, SkippedKind
from usufruct.planning.dangers import programs_in
from usufruct.planning.junk import can_run
from usufruct.planning.marks import marks_of
from usufruct.planning.names import joined
from usufruct.planning.patterns import Patterns, letters_of
from usufruct.planning.tree import Tree


def skip_junk(tree: Tree, leave: tuple[str, ...] = ()) -> Iterator[Skip]:
    """Skip what systems and editors leave behind, and what the `leave` of the definition matches."""
    if leave:
        for pattern, rows in _left_by_pattern(tree, Patterns(leave)).items():
            yield Skip(rows, SkippedKind.JUNK, f"the definition leaves out {pattern}")
    yield Skip(tree.junk, SkippedKind.JUNK, "left behind by a system or an editor")


def _left_by_pattern(tree: Tree, patterns: Patterns) -> dict[str, list[int]]:
    """Return the rows that patterns leave out, by the first pattern that matches them or a directory above."""
    names, directories, kinds = tree.listing.names, tree.listing.directory_of, tree.listing.kinds

    def left(name: str, path: str) -> str:
        return patterns.by_name(name) or patterns.by_path(path) or ""

    left_below = [""] * len(tree.names)
    for directory in range(1, len(tree.names)):
        above = left_below[tree.parent(directory)]
        left_below[directory] = above or left(tree.names[directory], tree.path(directory))
    found: dict[str, list[int]] = {}
    # Only a pattern with a path, or a directory that is left out, requires a look at every entry.
    looks_at_all = patterns.has_paths or any(left_below)
    for row in range(len(names)) if looks_at_all else sorted({*patterns.found_in(tree.by_form)}):
        directory, name = directories[row], names[row]
        if kinds[row] != EntryKind.DIRECTORY and (
            pattern := left_below[directory] or left(name, joined(tree.path(directory), name))
        ):
            found.setdefault(pattern, []).append(row)
    return found


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


def leave_out(layout: Layout, choices: Choices) -> Iterator[Skip]:
    """Skip placements that `--only` does not match, that were not picked or that `--skip` matches."""
    if not choices.only and not choices.skip and choices.picked is None:
        return
    only, skip = Patterns(choices.only), Patterns(choices.skip)
    picked = None if choices.picked is None else frozenset(choices.picked)
    left: dict[str, list[int]] = {}
    for row in layout.placed_rows():
        path, shown = layout.listing.path(row), _shown_path(layout, row)
        if choices.only and not (only.match(path) or only.match(shown)):
            left.setdefault(f"not among --only {' '.join(choices.only)}", []).append(row)
        elif picked is not None and path not in picked:
            left.setdefault("not picked", []).append(row)
        elif pattern := skip.match(path) or skip.match(shown):
            left.setdefault(f"left out by --skip {pattern}", []).append(row)
    for why, rows in left.items():
        yield Skip(rows, SkippedKind.LEFT_OUT, why)


def leave_taken_out(layout: Layout, choices: Choices) -> Iterator[Skip]:
    """Skip what was taken out of the holding before, unless the user names it again.

    This comes after all other rules: nothing is placed instead of it.
    """
    if not choices.taken_out:
        return
    again, out = Patterns(choices.again), frozenset(choices.taken_out)
    rows = [
        row
        for row in layout.placed_rows()
        if (path := layout.listing.path(row)) in out
        and not (again.match(path) or again.match(_shown_path(layout, row)))
    ]
    yield Skip(rows, SkippedKind.LEFT_OUT, "was taken out before; --only names it again")


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


def judge_programs(layout: Layout, application: Application, choices: Choices) -> Iterator[Skip | Decision]:
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
        yield Skip(programs, SkippedKind.NOT_TAKEN, f"it is a program file, and {application.title} gets none")
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
    yield Decision(
        question=f"{what}, and {application.title} does not expect any. Leave them out or place them?",
        options=(refuse, allow),
        safe=refuse if refuse.files else None,
    )
