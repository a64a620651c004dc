"""Entries of one archive that want the same destination: duplicates, or alternatives the user chooses from."""

import posixpath
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence, Set
from itertools import chain, combinations, permutations

from msgspec import Struct, field

from usufruct.model.choices import Choices
from usufruct.model.entries import TOP, EntryKind, Listing
from usufruct.model.layout import Layout
from usufruct.model.rulings import Compare, Decision, Move, Option, Rename, Ruling, Skip, SkippedKind, Used
from usufruct.planning.names import folded, folded_path, free_name, spelling_key, spelling_keys
from usufruct.planning.tree import Tree

HERE = "."
"""The alternative that stands directly above the others."""
_MOST_COMPARED = 24
"""Alternatives that are compared two by two; nobody chooses among more with care."""
FIRST, LAST = "first", "last"


class _Group(Struct):
    """Alternatives that part below one directory; -1: of equal names, told apart only by their order."""

    parent: int
    options: dict[str, int] = field(default_factory=dict)
    """Name → the directory whose sub-tree it is."""
    conflicts: list[list[int]] = field(default_factory=list)
    """Rows of one destination each."""
    is_partial: bool = False
    """They meet in less than half of the smaller one: only what meets is asked about, the rest of all goes in."""


def unify_spellings(layout: Layout) -> Iterator[Move]:
    """Treat destination directories whose names differ only in case or Unicode form as one directory."""
    spellings: dict[str, str] = {}
    for home in layout.homes:
        key = ""
        for part in home.path.split("/"):
            key += spelling_key(part) + "/"
            spellings[key] = min(part, spellings.get(key, part))
    for home, rows in zip(layout.homes, layout.rows_by_home(), strict=True):
        path = _spelled(home.path, spellings)
        if path != home.path:
            yield Move(rows, path, _spelled(home.piece, spellings))


def _spelled(path: str, spellings: dict[str, str]) -> str:
    key, parts = "", []
    for part in path.split("/"):
        key += spelling_key(part) + "/"
        parts.append(spellings.get(key, part))
    return "/".join(parts)


def decide_alternatives(layout: Layout, tree: Tree, choices: Choices, digests: Mapping[int, bytes]) -> None:
    """Skip the alternatives that were not chosen, ask where nothing was chosen, and place equal content once.

    `digests` gives the content digests that are known. A choice leaves out whole sub-trees, which may settle other
    alternatives, so each is carried out before the next is looked at.
    """
    if next(_shared_destinations(layout), None) is None:
        return
    while groups := _groups(layout, tree, digests):
        heard = [ruling for group in groups for ruling in layout.follow(_chosen(layout, tree, group, choices))]
        if all(isinstance(ruling, Used) for ruling in heard):
            layout.follow(_question(layout, tree, group) for group in groups)
            break
    asked = {row for group in groups for rows in group.conflicts for row in rows}
    layout.follow(_once(layout, rows) for rows in _shared_destinations(layout) if asked.isdisjoint(rows))


def _shared_destinations(layout: Layout) -> Iterator[list[int]]:
    """The rows of every destination that two or more rows have."""
    names = layout.names
    same_path: dict[str, list[Sequence[int]]] = {}
    for home, placed in zip(layout.homes, layout.rows_by_home(), strict=True):
        same_path.setdefault(spelling_key(home.path), []).append(placed)
    for several in same_path.values():
        rows = several[0] if len(several) == 1 else sorted(chain(*several))
        keys = spelling_keys([names[row] for row in rows])
        if len({*keys}) == len(rows):
            continue
        by_name: dict[str, list[int]] = {}
        for row, key in zip(rows, keys, strict=True):
            by_name.setdefault(key, []).append(row)
        yield from (shared for shared in by_name.values() if len(shared) > 1)


def _are_equal(listing: Listing, one: int, other: int, digests: Mapping[int, bytes]) -> bool | None:
    """Whether two entries have the same content; None: it must be compared."""
    if _leads_to(listing, one, other) or _leads_to(listing, other, one):
        return True
    if listing.kinds[one] != listing.kinds[other]:
        return False
    if listing.kinds[one] == EntryKind.LINK:
        return _end_of(listing, one) == _end_of(listing, other)
    if listing.sizes[one] != listing.sizes[other]:
        return False
    if listing.kinds[one] == EntryKind.DIRECTORY or not listing.sizes[one]:
        return True
    checksums = listing.checksum(one), listing.checksum(other)
    if None not in checksums and checksums[0] != checksums[1]:
        return False
    if one in digests and other in digests:
        return digests[one] == digests[other]
    return None


def _leads_to(listing: Listing, link: int, file: int) -> bool:
    """Whether a link only gives the file beside it another spelling: where both are one name, the file is enough."""
    return (
        listing.kinds[link] == EntryKind.LINK
        and listing.kinds[file] == EntryKind.FILE
        and listing.directory_of[link] == listing.directory_of[file]
        and listing.targets[link] == listing.names[file]
    )


def _end_of(listing: Listing, link: int) -> str:
    """Return the path in the archive that a link leads to, in one spelling."""
    return posixpath.normpath(posixpath.join(listing.directories[listing.directory_of[link]], listing.targets[link]))


def _groups(layout: Layout, tree: Tree, digests: Mapping[int, bytes]) -> list[_Group]:
    """The alternatives among the placed rows, outermost first; what must be compared counts as equal so far."""
    groups: dict[int, _Group] = {}
    called: dict[int, dict[int, str]] = {}
    for rows in _shared_destinations(layout):
        equal = {row: _are_equal(layout.listing, rows[0], row, digests) for row in rows[1:]}
        if False not in equal.values():
            layout.follow([Compare([rows[0], row]) for row, is_equal in equal.items() if is_equal is None])
            continue
        directories = [layout.listing.directory_of[row] for row in rows]
        parent = tree.common(set(directories))
        sides = {_side(tree, directory, parent) for directory in directories}
        if parent not in called:
            called[parent] = _names_below(tree, parent)
        names = {called[parent][side]: side for side in sides}
        if len({spelling_key(name) for name in names}) < len(sides) or len(sides) == 1:
            group = groups.setdefault(-1, _Group(-1, {FIRST: 0, LAST: 0}))
        else:
            group = groups.setdefault(parent, _Group(parent))
            group.options.update(names)
        group.conflicts.append(rows)
    for group in groups.values():
        group.is_partial = group.parent >= 0 and _meet_in_little(layout, tree, group)
    return [groups[parent] for parent in sorted(groups)]


def _names_below(tree: Tree, parent: int) -> dict[int, str]:
    """Name the directories that alternatives come from: `parent` itself and those directly in it.

    Archives with the same tidy name are called by their file names.
    """
    nested, children = tree.listing.nested, tree.children[parent]
    alike = Counter(spelling_key(tree.names[child]) for child in children if child in nested)
    names = {child: tree.names[child] for child in children}
    for child in nested.keys() & names.keys():
        if alike[spelling_key(names[child])] > 1:
            names[child] = tree.listing.directories[child].rpartition("/")[2]
    return {parent: HERE, **names}


def _meet_in_little(layout: Layout, tree: Tree, group: _Group) -> bool:
    """Whether every two alternatives share less than half of the files of the smaller one."""
    if len(group.options) > _MOST_COMPARED:
        return False
    directories = layout.listing.directory_of
    names = {directory: name for name, directory in group.options.items()}
    meets: Counter[tuple[str, str]] = Counter()
    for rows in group.conflicts:
        met = sorted({names[_side(tree, directories[row], group.parent)] for row in rows})
        meets.update(combinations(met, 2))
    sizes = {name: len(_rows_of(layout, tree, group, name)) for name in group.options}
    return all(2 * count < min(sizes[one], sizes[other]) for (one, other), count in meets.items())


def _meeting_rows(layout: Layout, tree: Tree, group: _Group, name: str) -> list[int]:
    """Return the rows of an option that share a destination with rows of others; of a piece, all of its rows."""
    own = _rows_of(layout, tree, group, name)
    return _with_pieces(layout, own, {row for rows in group.conflicts for row in rows}.intersection(own))


def _with_pieces(layout: Layout, own: Sequence[int], rows: Set[int]) -> list[int]:
    """Return these rows of an option, and all other rows of the pieces that they belong to."""
    pieces = {layout.homes[layout.home_of[row]].piece for row in rows} - {""}
    return [row for row in own if row in rows or layout.homes[layout.home_of[row]].piece in pieces]


def _side(tree: Tree, directory: int, parent: int) -> int:
    """Return the directory directly below `parent` that contains `directory`, or `parent` itself."""
    while directory != parent and tree.parent(directory) != parent:
        directory = tree.parent(directory)
    return directory


def _rows_of(layout: Layout, tree: Tree, group: _Group, name: str) -> list[int]:
    """The placed rows that an option stands for."""
    if group.parent < 0:
        picked = min if name == FIRST else max
        return [picked(rows) for rows in group.conflicts]
    directory = group.options[name]
    directories = [directory] if name == HERE else list(tree.below(directory))
    rows = [row for here in directories for row in tree.rows[here] if layout.home_of[row] >= 0]
    empty = [tree.empty_rows[here] for here in directories if here in tree.empty_rows and name != HERE]
    return rows + [row for row in empty if layout.home_of[row] >= 0]


def _sorted_options(group: _Group) -> list[str]:
    return sorted(group.options, key=lambda name: (name != HERE, folded(name), name))


def _chosen(layout: Layout, tree: Tree, group: _Group, choices: Choices) -> Iterator[Ruling]:
    """Say what the user's choices mean for a group; nothing is skipped or renamed if none is about it."""
    if _are_parts(layout, group):
        parts = sorted(group.options, key=group.options.__getitem__)
        yield from _lay_over(layout, [_rows_of(layout, tree, group, name) for name in parts], parts)
        return
    wanted = {folded_path(word.strip("/")): word for word in choices.choose}
    places_all = "all" in wanted
    chosen = []
    for name in _sorted_options(group):
        path = folded_path(f"{tree.path(group.parent)}/{name}") if group.parent > 0 else folded(name)
        word = wanted.get(folded(name)) or wanted.get(path) or wanted.get("all")
        if word:
            yield Used(word)
            chosen.append(name)
    if not chosen:
        return
    why = f"{' and '.join(chosen)} was chosen instead"
    if group.parent < 0:
        kept, left = _kept_by_order(group, chosen)
    else:
        if not places_all:
            chosen.sort(key=lambda name: _order_of(tree, group, name, choices))
            if group.is_partial:
                if rows := _giving_way(layout, tree, group, chosen):
                    yield Skip(rows, SkippedKind.NOT_CHOSEN, why)
                return
        kept = [_rows_of(layout, tree, group, name) for name in chosen]
        left = [row for name in group.options if name not in chosen for row in _rows_of(layout, tree, group, name)]
    if left:
        yield Skip(left, SkippedKind.NOT_CHOSEN, why)
    if group.parent >= 0 and not places_all:
        yield from _lay_over(layout, kept, chosen)
    else:
        yield from _move_to_free_names(layout, kept)


def _giving_way(layout: Layout, tree: Tree, group: _Group, chosen: list[str]) -> set[int]:
    """Return what shares a destination with a chosen alternative, a piece as a whole; the rest of all stays.

    If several are chosen, the one named later stays.
    """
    names = {directory: name for name, directory in group.options.items()}
    directories = layout.listing.directory_of
    out: set[int] = set()
    for rows in group.conflicts:
        met = {names[_side(tree, directories[row], group.parent)]: row for row in rows}
        stays = next((name for name in reversed(chosen) if name in met), None)
        for name, row in met.items() if stays else ():
            if name != stays:
                out.update(_with_pieces(layout, _rows_of(layout, tree, group, name), {row}))
    return out


def _are_parts(layout: Layout, group: _Group) -> bool:
    """Whether the alternatives are archives that were named together: the later one replaces files of the earlier."""
    listing = layout.listing
    return listing.are_parts and group.parent == TOP and set(group.options.values()) <= listing.nested.keys()


def _order_of(tree: Tree, group: _Group, name: str, choices: Choices) -> int:
    """Return the position of the user's word that chose an option: of two, the later replaces files of the earlier."""
    words = [folded_path(word.strip("/")) for word in choices.choose]
    path = folded_path(f"{tree.path(group.parent)}/{name}") if group.parent > 0 else folded(name)
    return min((number for number, word in enumerate(words) if word in (folded(name), path)), default=len(words))


def _lay_over(layout: Layout, kept: list[list[int]], chosen: list[str]) -> Iterator[Skip]:
    """Let each of several chosen options replace what those before it place at the same destinations."""
    taken: set[tuple[str, str]] = set()
    for rows, name in zip(reversed(kept), reversed(chosen), strict=True):
        mine = {row: _destination(layout, row) for row in rows if layout.home_of[row] >= 0}
        replaced = [row for row, destination in mine.items() if destination in taken]
        if replaced:
            yield Skip(replaced, SkippedKind.NOT_CHOSEN, f"a later part replaces that of {name}")
        taken.update(mine.values())


def _kept_by_order(group: _Group, chosen: list[str]) -> tuple[list[list[int]], list[int]]:
    """For rows of equal names, return those that stay (`first`, `last` or both), in rounds, and those that go."""
    ordered = [sorted(rows) for rows in group.conflicts]
    if len(chosen) > 1:
        most = max(map(len, ordered))
        return [[rows[number] for rows in ordered if number < len(rows)] for number in range(most)], []
    if chosen == [FIRST]:
        return [[rows[0] for rows in ordered]], [row for rows in ordered for row in rows[1:]]
    return [[rows[-1] for rows in ordered]], [row for rows in ordered for row in rows[:-1]]


def _move_to_free_names(layout: Layout, kept: list[list[int]]) -> Iterator[Move | Rename]:
    """Rename what has a destination of rows that were kept before it: files one by one, a piece as a whole."""
    taken: dict[str, set[str]] = {}
    for row in layout.placed_rows():
        home = layout.homes[layout.home_of[row]]
        taken.setdefault(spelling_key(home.path), set()).add(spelling_key(layout.name(row)))
        if home.piece:
            above, _, name = home.piece.rpartition("/")
            taken.setdefault(spelling_key(above), set()).add(spelling_key(name))
    begun: dict[str, dict[str, int]] = {}
    there: set[tuple[str, str]] = set()
    for later in kept:
        moved: dict[str, str] = {}
        for row in later:
            home = layout.homes[layout.home_of[row]]
            if home.piece and home.piece not in moved and _destination(layout, row) in there:
                above, _, name = home.piece.rpartition("/")
                free = free_name(name, taken[spelling_key(above)], begun.setdefault(f"{above}/", {}))
                taken[spelling_key(above)].add(spelling_key(free))
                moved[home.piece] = f"{above}/{free}" if above else free
        gone: set[tuple[str, str]] = set()
        for row in later:
            home, name = layout.homes[layout.home_of[row]], layout.name(row)
            path = home.path
            if home.piece in moved:
                piece = moved[home.piece]
                path = piece + path[len(home.piece) :]
                yield Move([row], path, piece)
            elif _destination(layout, row) in there:
                names = taken[spelling_key(path)]
                name = free_name(name, names, begun.setdefault(path, {}))
                names.add(spelling_key(name))
                yield Rename(row, name)
            gone.add((spelling_key(path), spelling_key(name)))
        there |= gone


def _destination(layout: Layout, row: int) -> tuple[str, str]:
    return spelling_key(layout.homes[layout.home_of[row]].path), spelling_key(layout.name(row))


def _question(layout: Layout, tree: Tree, group: _Group) -> Decision:
    """The question that a group of alternatives puts."""
    row = group.conflicts[0][0]
    home = layout.homes[layout.home_of[row]]
    example = f"{home.path}/{layout.name(row)}" if home.path else layout.name(row)
    options = []
    rows_of = _meeting_rows if group.is_partial else _rows_of
    reached = {name: _rows_of(layout, tree, group, name) for name in group.options} if group.parent >= 0 else {}
    for name in _sorted_options(group):
        rows = rows_of(layout, tree, group, name)
        size = sum(layout.listing.sizes[row] for row in rows)
        shown = layout.listing.path(rows[0]) if rows else ""
        options.append(Option(name=name, answer=("--choose", name), files=len(rows), size=size, example=shown))
    every, total = sum(option.files for option in options), sum(option.size for option in options)
    options.extend(_laid_over(layout, reached))
    options.append(Option(name="all", answer=("--choose", "all"), files=every, size=total))
    if group.parent < 0:
        count = len(group.conflicts)
        places = "one place" if count == 1 else f"{count} places"
        question = f"Several files of the archive would have {places} (such as {example}). Which do you want?"
    else:
        where = f" (in {tree.path(group.parent)})" if group.parent else ""
        *first, last = _sorted_options(group)
        names = f"{', '.join(first)} and {last}"
        question = f"{names}{where} contain the same files (such as {example}). Which do you want?"
        if group.is_partial:
            count = len(group.conflicts)
            what = f"{count} files (such as {example})" if count > 1 else example
            question = f"{names}{where} differ in {what}. Whose do you want? Everything else of them goes in."
    return Decision(question=question, options=tuple(options))


def _laid_over(layout: Layout, reached: Mapping[str, Sequence[int]]) -> Iterator[Option]:
    """Offer two alternatives together if all destinations of one are among those of the other, as with a core."""
    if len(reached) > _MOST_COMPARED:
        return
    places = {name: {_destination(layout, row) for row in rows} for name, rows in reached.items()}
    for upper, lower in permutations(places, 2):
        if len(places[upper]) < len(places[lower]) and places[upper] and places[upper] <= places[lower]:
            rows = {_destination(layout, row): row for name in (lower, upper) for row in reached[name]}.values()
            size = sum(layout.listing.sizes[row] for row in rows)
            answer = ("--choose", lower, "--choose", upper)
            yield Option(name=f"{lower} + {upper}", answer=answer, files=len(rows), size=size)


def _once(layout: Layout, rows: list[int]) -> Skip:
    """Of rows with equal content and destination, place only the one nearest to the top of the archive."""
    listing = layout.listing
    link = EntryKind.LINK
    kept = min(rows, key=lambda row: (listing.kinds[row] == link, listing.path(row).count("/"), listing.path(row), row))
    others = [row for row in rows if row != kept]
    return Skip(others, SkippedKind.DUPLICATE, f"the same content as {listing.path(kept)}")
