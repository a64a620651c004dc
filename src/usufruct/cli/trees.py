"""Draw what goes where, as a tree by destination."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from heapq import nsmallest
from itertools import compress, islice

from msgspec import Struct, field

from usufruct.cli.cells import cells
from usufruct.cli.screen import can_draw, count_words, is_narrow, is_plain, page, shortened, size_words, styled
from usufruct.files.printable import printable
from usufruct.planning.names import by_number

IN_IT = "in it"
"""The root of a tree that shows an archive as it lies."""
_MOST_FILES = 10
"""Files of one directory that are drawn before the rest is only counted."""


_INDENT = 2
"""Columns that stand before every line."""
_MOST_ROWS = 60
"""Rows of a tree before whole levels are only counted."""
_MOST_LEVELS = 64
_EVERY_LEVEL = 1 << 30
_LEAST_MARK, _LEAST_REMARKED = 12, 40
"""Columns that a mark is given at least, and below which no remark takes room from the names."""


class Branch(Struct):
    """One directory of a tree."""

    remark: str = ""
    branches: "dict[str, Branch]" = field(default_factory=dict)
    names: list[str] = field(default_factory=list)
    """Of the files directly in it; columns, for only few of very many are ever drawn."""
    sizes: list[int] = field(default_factory=list)
    """Bytes of each."""
    marks: list[str] = field(default_factory=list)
    """What is remarkable about each, in a word or two."""
    _totals: tuple[int, int] | None = None

    def at(self, path: str) -> "Branch":
        """Return the branch at a path below; it is made if it does not exist."""
        here = self
        for part in path.split("/") if path else ():
            here = here.branches.setdefault(part, Branch())
        return here

    def hold(self, name: str, size: int, mark: str = "") -> None:
        """Add one file."""
        self.names.append(name)
        self.sizes.append(size)
        self.marks.append(mark)

    def shown(self, most: int) -> list[int]:
        """Return the numbers of the files to draw, by name; remarkable ones first."""
        folded = list(map(str.lower, self.names))
        every: Sequence[int] = range(len(folded))
        if len(every) > most:
            remarkable = nsmallest(most, compress(every, self.marks), key=folded.__getitem__)
            ordinary = (number for number in every if not self.marks[number])
            every = [*remarkable, *nsmallest(most - len(remarkable), ordinary, key=folded.__getitem__)]
        return sorted(every, key=lambda number: by_number(self.names[number]))

    def common_remark(self) -> str:
        """Return its own remark, or the one that all directories in it have if there is nothing else in it."""
        if self.remark or self.names or not self.branches:
            return self.remark
        first, *others = {branch.common_remark() for branch in self.branches.values()}
        return "" if others else first

    def marked(self) -> "Counter[str]":
        """Count the files in it and below by mark."""
        return sum((branch.marked() for branch in self.branches.values()), Counter(self.marks))

    def totals(self) -> tuple[int, int]:
        """Return the files and bytes in it and below; counted once, when the tree is complete."""
        if self._totals is None:
            files, size = len(self.names), sum(self.sizes)
            for branch in self.branches.values():
                more_files, more_size = branch.totals()
                files, size = files + more_files, size + more_size
            self._totals = files, size
        return self._totals


class _Row(Struct, frozen=True):
    prefix: str
    name: str
    facts: tuple[str, str]
    """Count and size, each aligned by its own column."""
    remark: str
    is_directory: bool
    mark: str = ""


class Marks(Struct, frozen=True, kw_only=True):
    """What marks of files mean."""

    roles: Mapping[str, str] = field(default_factory=dict)
    """Mark → colour role, where it is not that of what deserves care."""
    counted: Mapping[str, str] = field(default_factory=dict)
    """Mark → what is said of many files that have it and are not drawn, after their number."""

    def of_many(self, marks: "Counter[str]") -> str:
        """Say what is to be said about files that are not drawn."""
        return ", ".join(f"{marks[mark]:,} {words}" for mark, words in self.counted.items() if marks[mark])


_NO_MARKS = Marks()
_MOST_TOLD = 60
"""Files that are told one by one where nothing is drawn."""


def drawn(root: str, tree: Branch, *, in_full: bool = False, marks: Marks = _NO_MARKS, said: str = "") -> list[str]:
    """Yield the lines of a tree below its root, for a page that indents them; shortened unless `in_full`.

    `said`: a remark that stands above the tree already.
    """
    if is_plain():
        return _told(root, tree, said, in_full=in_full)
    rows = list(_rows(tree, "", marks, in_full)) if in_full else _fitting(tree, marks)
    room = page() - _INDENT
    counts = max((cells(row.facts[0]) for row in rows), default=0)
    sizes = max((cells(row.facts[1]) for row in rows), default=0)
    names = max((len(row.prefix) + cells(row.name) for row in rows), default=0)
    if is_narrow() and names + counts + sizes + 4 > room:
        counts = 0  # the names are visible, so a count is not needed
    names = min(names, max(20, room // 2, _room_of_names(rows, room - counts - sizes - 4)))
    lines = [styled(root, "place")]
    for row in rows:
        name = shortened(row.name, names - len(row.prefix))
        pad = " " * (names - len(row.prefix) - cells(name))
        shown = styled(name, "place") if row.is_directory else name
        facts = (f"{row.facts[0].rjust(counts)}  " if counts else "") + row.facts[1].rjust(sizes)
        line = f"{styled(row.prefix, 'quiet')}{shown}{pad}  {styled(facts, 'quiet')}"
        left = room - names - counts - sizes - 6
        below: list[str] = []
        if row.mark and left < min(_LEAST_MARK, cells(row.mark)):
            # On a narrow terminal it goes below the name.
            mark = shortened(row.mark, max(_LEAST_MARK, room - len(row.prefix) - 2))
            below = [" " * (len(row.prefix) + 2) + styled(mark, marks.roles.get(row.mark, "care"))]
        elif row.mark:
            mark = shortened(row.mark, max(_LEAST_MARK, left))
            line += "  " + styled(mark, marks.roles.get(row.mark, "care"))
            left -= cells(mark) + 2
        if row.remark and left >= 16:
            line += "  " + styled(shortened(row.remark, left), "quiet")
        lines += [line.rstrip(), *below]
    return lines


def _room_of_names(rows: Sequence[_Row], room: int) -> int:
    """Return the columns for names beside the rest of each row; remarks without room are left out."""
    marks = min(_LEAST_MARK, max((cells(row.mark) for row in rows), default=0))
    has_remarks = room >= _LEAST_REMARKED and any(row.remark for row in rows)
    return room - (marks + 2 if marks else 0) - (room // 2 if has_remarks else 0)


def _told(root: str, tree: Branch, said: str, *, in_full: bool) -> list[str]:
    """Yield the same where nothing is drawn: the root, and each file by its path from there."""
    every = _leaves(tree, "", "")
    told = list(every if in_full else islice(every, _MOST_TOLD))
    files, _ = tree.totals()
    lines = [root + ":" if root == IN_IT else f"in {root}:"]
    begun = f"{said}; "
    for line, remark in told:
        if remark != said:
            lines += [f"because: {remark.removeprefix(begun)}"] if remark else []
            said = remark
        lines.append(line)
    return [*lines, *([f"and {files - len(told):,} more; --full names them"] if len(told) < files else [])]


def _leaves(branch: Branch, above: str, said: str) -> Iterator[tuple[str, str]]:
    """Yield each file as a line, with the remark that counts for it."""
    remark = branch.remark or said
    for name, child in sorted(branch.branches.items(), key=lambda item: by_number(item[0])):
        if not child.names and not child.branches:
            yield f"{printable(above + name)}/, empty", remark
        yield from _leaves(child, f"{above}{name}/", remark)
    for leaf in branch.shown(len(branch.names)):
        facts = (size_words(branch.sizes[leaf]), branch.marks[leaf])
        yield ", ".join((printable(above + branch.names[leaf]), *filter(None, facts))), remark


def _fitting(tree: Branch, marks: Marks) -> list[_Row]:
    """Return as many levels as fit on a page or two; what is deeper is only counted by its directory."""
    rows: list[_Row] = []
    for levels in range(1, _MOST_LEVELS):
        deeper = list(islice(_rows(tree, "", marks, False, levels), _MOST_ROWS + 1))
        if rows and (len(deeper) > _MOST_ROWS or len(deeper) == len(rows)):
            break
        rows = deeper
    return (
        rows
        if len(rows) <= _MOST_ROWS
        else [*rows[: _MOST_ROWS - 1], _Row("", "… and more; --full shows all", ("", ""), "", False)]
    )


def _rows(
    branch: Branch, prefix: str, marks: Marks, in_full: bool, levels: int = _EVERY_LEVEL, said: str = ""
) -> Iterator[_Row]:
    """Yield the rows below a branch; `said` is the remark from above that counts for all without another."""
    tee, corner, bar, blank = ("├─ ", "└─ ", "│  ", "   ") if can_draw() else ("|- ", "`- ", "|  ", "   ")
    if not levels:
        return
    files = len(branch.names)
    leaves = branch.shown(files if in_full or files <= _MOST_FILES + 1 else _MOST_FILES)
    hidden = files - len(leaves)
    branches = sorted(branch.branches.items(), key=lambda item: by_number(item[0]))
    last = len(branches) + len(leaves) + bool(hidden) - 1
    for number, (name, child) in enumerate(branches):
        files, size = child.totals()
        lead, below = (corner, blank) if number == last else (tee, bar)
        while len(child.branches) == 1 and not child.names and child.remark in ("", said):
            inner, child = next(iter(child.branches.items()))
            name = f"{name}/{inner}"
        remark = child.common_remark()
        facts = (count_words(files, "file"), size_words(size)) if files else ("", "empty")
        folded = marks.of_many(child.marked()) if levels == 1 else ""
        yield _Row(prefix + lead, printable(name), facts, remark if remark != said else "", True, folded)
        yield from _rows(child, prefix + below, marks, in_full, levels - 1, remark or said)
    for number, leaf in enumerate(leaves, len(branches)):
        lead = corner if number == last else tee
        facts = ("", size_words(branch.sizes[leaf]))
        yield _Row(prefix + lead, printable(branch.names[leaf]), facts, "", False, branch.marks[leaf])
    if hidden:
        size = sum(branch.sizes) - sum(map(branch.sizes.__getitem__, leaves))
        unseen = Counter(branch.marks)
        unseen.subtract(map(branch.marks.__getitem__, leaves))
        more = f"… and {count_words(hidden, 'more file')}"
        yield _Row(prefix + corner, more, ("", size_words(size)), "", False, marks.of_many(unseen))
