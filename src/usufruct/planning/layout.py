"""Apply the rules in their order: from the entries of an archive to a Layout."""

from collections.abc import Iterator, Mapping, Sequence

from usufruct.model.applications import Application
from usufruct.model.choices import Choices
from usufruct.model.entries import TOP, EntryKind, Listing
from usufruct.model.layout import Layout
from usufruct.model.rulings import Decision, Evidence, Put, Refuse, SkippedKind, Unwrap
from usufruct.planning.alternatives import decide_alternatives, unify_spellings
from usufruct.planning.claims import NO_CLAIMS, Claims
from usufruct.planning.folder_names import folder_and_below
from usufruct.planning.formats import prefer_formats
from usufruct.planning.into import place_into
from usufruct.planning.links import judge_links
from usufruct.planning.names import folded, spelling_key, tidy_name
from usufruct.planning.places import Places
from usufruct.planning.plumbing import skip_manifests, skip_plumbing
from usufruct.planning.remainder import place_by_pattern, skip_notes, skip_notes_and_archives
from usufruct.planning.sayings import says_nothing
from usufruct.planning.selection import judge_programs, leave_out, leave_taken_out, matching_nothing, skip_junk
from usufruct.planning.tree import Tree
from usufruct.planning.variants import decide_variants

NOTHING_KNOWN: Mapping[int, bytes] = {}


def layout_of(
    listing: Listing,
    application: Application,
    tidy_name: str,
    choices: Choices,
    digests: Mapping[int, bytes] = NOTHING_KNOWN,
    claims: Claims = NO_CLAIMS,
) -> Layout:
    """Where each entry of an archive belongs in an application.

    `digests` maps rows to content digests, where known; see `Layout.undecided`. `claims` are what all
    applications that are known claim, its own among them.
    """
    layout = Layout(listing, application, tidy_name)
    tree = Tree.of(listing)
    layout.follow(skip_junk(tree, application.leave))
    layout.follow(skip_plumbing(layout, tree))
    places = Places(layout, tree, application, claims, choices.choose)
    if choices.into is not None:
        named = folder_and_below(application, choices.into)
        assert named, "the folder was looked up before"
        place_into(layout, tree, places, *named)
    else:
        places.read_archive(TOP)
        layout.follow(skip_notes(layout, tree))
        layout.follow(skip_manifests(layout, tree))
        layout.follow(place_by_pattern(layout, tree, application, places.foreign))
    layout.follow(skip_notes_and_archives(layout, tree))
    layout.skip_open(SkippedKind.NOT_TAKEN, f"{application.title} has no folder for it")
    _decide(layout, tree, choices, digests, application)
    return layout


def outside_layout(
    listing: Listing, tidy_name: str, choices: Choices, digests: Mapping[int, bytes] = NOTHING_KNOWN
) -> Layout:
    """Where each entry goes below a directory of the user's choice, without an application.

    One file alone goes straight in, a single top directory under its own name, several top entries into a
    directory of the archive's name, so that nothing spills.
    """
    layout = Layout(listing, None, tidy_name)
    tree = Tree.of(listing)
    layout.follow(skip_junk(tree))
    tops = {
        listing.directories[here].partition("/")[0]
        for here in range(len(tree.rows))
        if layout.open_among(tree.rows[here])
    }
    if len(tops) == 1 and not any(layout.is_open(row) for row in tree.rows[TOP]):
        top = next(child for child in tree.children[TOP] if tree.names[child] in tops)
        inner = _innermost_repeat(layout, tree, top, is_flat=choices.flat)
        base, above = inner, tree.names[inner if choices.flat else top]
        why = f"the archive's one top directory, {above}, goes in under its own name"
        if inner != top:
            layout.follow([Unwrap(tree.path(top), "repeats its own name inside")])
        if says_nothing(above):
            layout.follow([Unwrap(tree.path(inner), "says nothing about what is in it")])
            above, why = tidy_name, f"goes together into {tidy_name}, for {above} says nothing"
    else:
        base, above = TOP, tidy_name
        why = f"several entries at the archive's top go together into {tidy_name}"
    for directory in tree.below(base):
        if here := layout.open_among(tree.rows[directory]):
            relative = tree.relative(directory, base)
            if choices.flat:
                relative = _without_wrappers(layout, tree, directory, base)
            path = f"{above}/{relative}" if relative else above
            layout.follow([Put(here, None, path, why, Evidence.NONE)])
    _decide(layout, tree, choices, digests, None)
    alone = list(layout.placed_rows())
    if len(alone) == 1 and listing.kinds[alone[0]] == EntryKind.FILE:
        layout.follow([Put(alone, None, "", "one file alone goes straight in", Evidence.NONE)])
    return layout


def _without_wrappers(layout: Layout, tree: Tree, directory: int, base: int) -> str:
    """Return a directory's path below another, without directories that contain nothing but one other."""
    kept = []
    for here in tree.chain(directory)[len(tree.chain(base)) :]:
        children = [child for child in tree.children[here] if _holds_open_rows(layout, tree, child)]
        if len(children) != 1 or any(layout.is_open(row) for row in tree.rows[here]):
            kept.append(tree.names[here])
    return "/".join(kept)


def _innermost_repeat(layout: Layout, tree: Tree, top: int, *, is_flat: bool) -> int:
    """Return the deepest directory below `top` that only repeats its name; if `is_flat`, the deepest lone one."""
    while True:
        children = [child for child in tree.children[top] if _holds_open_rows(layout, tree, child)]
        if len(children) != 1 or any(layout.is_open(row) for row in tree.rows[top]):
            return top
        if not is_flat and folded(tidy_name(tree.names[children[0]])) != folded(tidy_name(tree.names[top])):
            return top
        top = children[0]


def _holds_open_rows(layout: Layout, tree: Tree, directory: int) -> bool:
    return any(layout.is_open(row) for here in tree.below(directory) for row in tree.rows[here])


def _decide(
    layout: Layout,
    tree: Tree,
    choices: Choices,
    digests: Mapping[int, bytes],
    application: Application | None,
) -> None:
    """Apply the rules that need all places to be known: who takes part, formats, alternatives, safety."""
    layout.unmatched = matching_nothing(layout, (*choices.only, *choices.skip))
    layout.follow(leave_out(layout, choices))
    if application:
        layout.follow(judge_programs(layout, application, choices))
        if not choices.every_format:
            layout.follow(prefer_formats(layout, tree))
    layout.follow(unify_spellings(layout))
    if application:
        layout.follow(decide_variants(layout, tree, choices))
    decide_alternatives(layout, tree, choices, digests)
    layout.follow(leave_taken_out(layout, choices))
    layout.follow(judge_links(layout))
    layout.follow(_refuse_files_in_the_way(layout))
    if not layout.files and not layout.decisions and (choices.skip_unsafe or not layout.refused):
        layout.follow([_nothing_placed(layout, application, choices)])


def _refuse_files_in_the_way(layout: Layout) -> Iterator[Refuse]:
    """Refuse files whose path is needed as a directory by other entries."""
    kinds = layout.listing.kinds
    paths = {number: spelling_key(layout.homes[number].path) for number in {*layout.home_of} if number >= 0}
    needed: set[str] = set()
    for path in paths.values():
        parts = path.split("/")
        needed.update("/".join(parts[:depth]) for depth in range(1, len(parts) + 1))
    above = {path.rpartition("/")[0] for path in needed}
    suspects = {number for number, path in paths.items() if path in above}
    for row in layout.placed_rows() if suspects else ():
        number = layout.home_of[row]
        if number in suspects and kinds[row] != EntryKind.DIRECTORY:
            name = spelling_key(layout.name(row))
            if (f"{paths[number]}/{name}" if paths[number] else name) in needed:
                yield Refuse([row], "it is a file where other entries need a directory")


def _nothing_placed(layout: Layout, application: Application | None, choices: Choices) -> Decision:
    """Return the question of an archive with nothing for the application."""
    kinds = set(layout.skipped_as)
    if SkippedKind.LEFT_OUT in kinds:
        return Decision(question="--only and --skip leave nothing to place. Which entries do you want?", options=())
    if not application:
        return Decision(question="The archive holds nothing to place. Is it the right one?", options=())
    return Decision(
        question=f"{application.title} has no place for anything in it. Where should it go?",
        detail=(f"looks for {sought(application)}",),
        options=(),
        is_of_whole=not choices.into,
        is_open=not choices.into,
    )


def sought(application: Application) -> str:
    """Say what a definition looks for in an archive."""
    names: Sequence[str] = [folder.name for folder in application.folders]
    marks = [mark for folder in application.folders for mark in folder.mark]
    takes = [pattern for folder in application.folders for pattern in folder.takes]
    parts = [f"folders called {', '.join(names)}"]
    if marks:
        parts.append(f"folders that contain {', '.join(marks)}")
    if takes:
        parts.append(f"files like {', '.join(takes)}")
    return "; ".join(parts)
