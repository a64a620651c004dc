"""What `look` and `add` print about an archive."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import repeat
from pathlib import Path
from typing import TYPE_CHECKING

from usufruct.actions.outcomes import AlreadyThere, Asked, Examined, Ready, Refused
from usufruct.cli.cells import cells, left
from usufruct.cli.screen import (
    Urgent,
    count_words,
    headed,
    in_lines,
    is_plain,
    is_quiet,
    page,
    path_words,
    shell_words,
    shortened,
    size_words,
    styled,
    time_words,
    wrapped,
)
from usufruct.cli.trees import IN_IT, Branch, Marks, drawn
from usufruct.errors import UsufructError
from usufruct.files.printable import printable
from usufruct.files.shells import quoted
from usufruct.model.entries import EntryKind, Listing
from usufruct.model.layout import Home, Layout
from usufruct.model.plan import Conflict, Plan
from usufruct.model.rulings import Decision, SkippedKind
from usufruct.model.settings import TRASH

if TYPE_CHECKING:
    from usufruct.actions.adding import Added
    from usufruct.actions.afterwards import PutAway
    from usufruct.actions.elsewhere import ReadElsewhere
    from usufruct.actions.reading import Verified
    from usufruct.transaction.place import Placed

_CONFLICT_MARKS = {Conflict.REPLACES: "replaces the one there", Conflict.SAME: "is there already"}
_MARKS = Marks(
    roles={_CONFLICT_MARKS[Conflict.SAME]: "quiet"},
    counted={_CONFLICT_MARKS[Conflict.REPLACES]: "replace what is there"},
)
_INDENT = "  "
_MOST_REFUSED = 8
_MOST_REASONS = 4
_KIND_WORDS = {
    SkippedKind.JUNK: ("junk file", "junk files"),
    SkippedKind.NOTES: ("readme file", "readme files"),
    SkippedKind.DUPLICATE: ("duplicate", "duplicates"),
    SkippedKind.NOT_TAKEN: ("file", "files"),
    SkippedKind.NOT_CHOSEN: ("file not chosen", "files not chosen"),
    SkippedKind.OTHER_FORMAT: ("file in another format", "files in another format"),
    SkippedKind.LEFT_OUT: ("file", "files"),
    SkippedKind.CLASH: ("conflict", "conflicts"),
    SkippedKind.ARCHIVE: ("archive inside", "archives inside"),
}
"""What one and several entries that are skipped for a reason of a kind are called."""


def look_report(result: Examined, *, in_full: bool) -> Iterator[str]:
    """Yield the lines that say what an archive is and what adding it would do."""
    from usufruct.cli.facts import fact_lines

    yield from _headline(result)
    yield from fact_lines(result)
    layout, plan = result.layout, result.plan
    if layout:
        yield from _destination_lines(result)
    if isinstance(result, AlreadyThere):
        plan = None  # the message already says that each file is there
        what = f"Added already as {styled(result.name, 'title')}" if result.holding else "It is installed already"
        yield f"{_INDENT}{what}: there is nothing to do."
    if layout:
        if layout.files:
            yield ""
            said = _because(layout) if result.application else ""
            yield from tree_lines(result, layout, plan, in_full=in_full, said=said)
        yield from remark_lines(result, layout, in_full=in_full, is_added=isinstance(result, AlreadyThere))
    elif isinstance(result, Asked) and result.listing and result.format != "file":
        yield ""
        yield from _content_tree(result.listing, in_full=in_full)
    if isinstance(result, Refused):
        if layout:
            yield ""
        if is_quiet():
            yield from map(Urgent, _headline(result))
        yield from _error_lines(result.error)
    yield from decision_lines(result)


def _content_tree(listing: Listing, *, in_full: bool) -> Iterator[str]:
    """Yield the content of an archive as it is, if it is not known where it would go."""
    top = Branch()
    branches = list(map(top.at, listing.directories))
    for directory, name, size, kind in zip(
        listing.directory_of, listing.names, listing.sizes, listing.kinds, strict=True
    ):
        here = branches[directory]
        if kind == EntryKind.DIRECTORY:
            here.at(name)
        else:
            here.hold(name, size)
    yield from (f"{_INDENT}{line}" for line in drawn(IN_IT, top, in_full=in_full))


def content_report(result: Examined) -> Iterator[str]:
    """Yield every entry of an archive with its size and time, placed or not; nothing is cut."""
    from usufruct.cli.facts import fact_lines

    yield from _headline(result)
    yield from fact_lines(result)
    if isinstance(result, Refused):
        yield from _error_lines(result.error)
    listing = result.listing
    for row in range(len(listing)) if listing else ():
        assert listing
        is_directory = listing.kinds[row] == EntryKind.DIRECTORY
        modified = listing.modified(row)
        when = time_words(modified) if modified is not None else ""
        size = "" if is_directory else size_words(listing.sizes[row])
        target = f" -> {printable(listing.targets[row])}" if listing.kinds[row] == EntryKind.LINK else ""
        path = printable(listing.path(row)) + ("/" if is_directory else target)
        yield f"{_INDENT}{styled(f'{when:16}  {size:>8}', 'quiet')}  {path}"


def _headline(result: Examined) -> list[str]:
    name = printable(result.path.replace("\\", "/").rpartition("/")[2])
    facts = []
    if result.format == "file":
        what = result.facts.what if result.facts else ""
        facts = [f"{printable(what) or 'a file'}, not an archive", size_words(result.size)]
    elif result.format:
        facts.append(result.format)
    if result.format != "file" and (listing := result.listing) is not None:
        entries = len(listing) - listing.kinds.count(EntryKind.DIRECTORY) + len(listing.refused)
        facts.append(count_words(entries, "entry", "entries"))
        facts.append(f"{size_words(sum(listing.sizes))} unpacked from {size_words(result.size)}")
    return headed(name, facts)


def _destination_lines(result: Examined) -> Iterator[str]:
    """Yield which application it is for, why, and the name of the holding."""
    name, about = printable(result.name), "for no program"
    if result.application:
        layout = result.layout
        about = f"for {result.application.title}"
        about += f", because {_because(layout)}" if layout and layout.files else ""
    for line in wrapped(f"{about} · name: {name}", _INDENT):
        told = f"{line.removesuffix(name)}{styled(name, 'title')}" if line.endswith(name) else line
        yield f"{_INDENT}{told}"


def _because(layout: Layout) -> str:
    """Say why the first of the files with the strongest evidence goes where it does."""
    strongest = layout.evidence
    row = next(row for row in layout.placed_rows() if layout.evidence_of[row] == strongest)
    return printable(layout.reasons[layout.reason_of[row]].partition(";")[0])


def verified_lines(result: Verified) -> Iterator[str]:
    """Yield the result of reading an archive completely."""
    read = f"{count_words(result.files, 'file')}, {size_words(result.size)} read"
    name = styled(printable(result.path.replace("\\", "/").rpartition("/")[2]), "title")
    if result.error:
        yield f"{styled('bad', 'bad')}   {name}  {read}"
        yield from _error_lines(result.error)
        return
    what = "every checksum holds" if result.is_checked else "but the format has no checksums of its content"
    if result.unread:
        from usufruct.cli.facts import unread_words

        yield f"{styled('part', 'care')}  {name}  {read}, {what}"
        yield f"{_INDENT}{unread_words(result.unread)}"
        return
    yield f"{styled('fine', 'good')}  {name}  {read}, {what}"


def _root_of(result: Examined) -> str:
    return result.plan.snapshot.root if result.plan else (result.application.root if result.application else ".")


def tree_lines(result: Examined, layout: Layout, plan: Plan | None, *, in_full: bool, said: str = "") -> Iterator[str]:
    """Yield the tree of destinations, one for each of their tops. `said`: a reason that was told already."""
    root = _root_of(result)
    trees: dict[str, Branch] = {}
    reasons: set[tuple[int, int]] = set()
    remarks = _marks_of(layout, plan)
    words = [_CONFLICT_MARKS.get(conflict, "") for conflict in Conflict]
    names, sizes, kinds = layout.listing.names, layout.listing.sizes, layout.listing.kinds
    for number, rows in enumerate((plan or layout).rows_by_home()):
        if not rows:
            continue
        top, below = _place_of(layout.homes[number], root)
        branch = trees.setdefault(top, Branch()).at(below)
        reasons.update(zip(repeat(number), set(map(layout.reason_of.__getitem__, rows))))
        if EntryKind.DIRECTORY in kinds:
            for row in rows:
                if kinds[row] == EntryKind.DIRECTORY:
                    trees[top].at(f"{below}/{names[row]}".lstrip("/"))
            rows = [row for row in rows if kinds[row] != EntryKind.DIRECTORY]
        plain = [row for row in rows if row not in remarks] if remarks else rows
        branch.names.extend(map(names.__getitem__, plain))
        branch.sizes.extend(map(sizes.__getitem__, plain))
        branch.marks.extend([words[plan.conflict_of[row]] for row in plain] if plan else repeat("", len(plain)))
        for row in rows if remarks else ():
            if row in remarks:
                name, mark = remarks[row]
                branch.hold(name, sizes[row], mark)
    whys: dict[tuple[str, str], set[str]] = {}
    for number, reason in reasons:
        home = layout.homes[number]
        top, below = _place_of(home, root)
        piece = home.piece if home.piece and not home.is_elsewhere else below
        whys.setdefault((top, piece), set()).add(layout.reasons[reason])
    for (top, path), texts in whys.items():
        trees[top].at(path).remark = " · ".join(sorted(texts))
    for top, tree in trees.items():
        yield from (
            f"{_INDENT}{line}" for line in drawn(path_words(top), tree, in_full=in_full, marks=_MARKS, said=said)
        )


def _place_of(home: Home, root: str) -> tuple[str, str]:
    """Return the top of the tree that a home is drawn in, and its path below."""
    return (home.path, "") if home.is_elsewhere else (root, home.path)


def _marks_of(layout: Layout, plan: Plan | None) -> dict[int, tuple[str, str]]:
    """Return marks for the rows that are remarkable for more than replacing a file."""
    listing = layout.listing
    beside = plan.beside if plan else {}
    twice: set[int] = set()
    if layout.decisions:
        rows_of: dict[tuple[str, str], list[int]] = {}
        for row in layout.placed_rows():
            rows_of.setdefault((layout.homes[layout.home_of[row]].path, layout.name(row)), []).append(row)
        twice.update(row for rows in rows_of.values() if len(rows) > 1 for row in rows)
    marks: dict[int, tuple[str, str]] = {}
    for row in {*beside, *twice, *layout.renamed}:
        name = beside.get(row) or layout.name(row)
        mark = f"beside {printable(layout.name(row))}" if row in beside else ""
        mark = _CONFLICT_MARKS.get(plan.conflict(row), mark) if plan else mark
        if row in twice:
            mark = f"in {printable(listing.directories[listing.directory_of[row]])}"
        elif name != listing.names[row]:
            mark = f"{mark}  called {printable(listing.names[row])} in the archive".strip()
        marks[row] = name, mark
    return marks


def remark_lines(result: Examined, layout: Layout, *, in_full: bool, is_added: bool) -> Iterator[str]:
    """Yield what was dropped, what is skipped and why, what is refused, and who else would have taken it."""
    remarks: list[tuple[str, str, list[str]]] = []
    for reason in dict.fromkeys(layout.wrappers.values()):
        dropped = [path for path, why in layout.wrappers.items() if why == reason]
        inner = [path for path in dropped if not any(other.startswith(path + "/") for other in dropped)]
        why = f": {reason}" if in_full else ""
        remarks.append(("skipped", f"folder {', '.join(_named(inner, in_full=in_full))}{why}", []))
    skipped = [*layout.skipped, *(result.plan.skipped if result.plan else ())]
    grouped: dict[tuple[SkippedKind, str], list[str]] = {}
    for one in skipped:
        grouped.setdefault((one.kind, one.reason), []).append(layout.listing.path(one.row))
    if not in_full:
        grouped = _like_with_like(grouped)
    for (kind, reason), paths in grouped.items():
        one, many = _KIND_WORDS[kind]
        if kind is SkippedKind.NOTES and not in_full:
            when = "" if is_added else " once it is added"
            said = f"{count_words(len(paths), 'file')} kept to read{when}: usufruct show {quoted(result.name)} --notes"
            remarks.append(("readme", said, _named(paths, in_full=in_full)))
            continue
        remarks.append(("left out", f"{count_words(len(paths), one, many)}: {reason}", _named(paths, in_full=in_full)))
    shown = layout.refused if in_full or len(layout.refused) <= _MOST_REFUSED else layout.refused[:_MOST_REFUSED]
    remarks.extend(("refused", f"{printable(refusal.entry)}: {refusal.reason}", []) for refusal in shown)
    if len(shown) < len(layout.refused):
        remarks.append(("refused", f"and {len(layout.refused) - len(shown):,} more; --full names them", []))
    verdict = result.verdict
    if in_full:
        remarks.extend(("also fits", f"{name}: {why}", []) for name, why in verdict.runners_up)
    if verdict.also_for and result.application:
        apps = " ".join(f"--app {name}" for name in (result.application.name, *(name for name, _ in verdict.also_for)))
        takes = ", ".join(f"{count_words(count, 'other file')} for {name}" for name, count in verdict.also_for)
        remarks.append(("also for", f"{takes}; {apps} places all", []))
    if remarks:
        yield ""
    for label, words, names in remarks:
        role = "bad" if label == "refused" else "care" if label == "left out" else "quiet"
        first, *others = wrapped(words, _INDENT + " " * 10)
        yield f"{_INDENT}{styled(label.ljust(8), role)}  {first}"
        yield from (f"{_INDENT}{'':10}{line}" for line in others)
        yield from (f"{_INDENT}{'':10}{styled(line, 'quiet')}" for line in in_lines(names, _INDENT + " " * 10))


def _like_with_like(grouped: dict[tuple[SkippedKind, str], list[str]]) -> dict[tuple[SkippedKind, str], list[str]]:
    """Return the same with kinds that have many reasons, one for each entry, as one group each."""
    reasons = Counter(kind for kind, _ in grouped)
    merged: dict[tuple[SkippedKind, str], list[str]] = {}
    first: dict[SkippedKind, str] = {}
    for (kind, reason), paths in grouped.items():
        if reasons[kind] > _MOST_REASONS:
            reason = first.setdefault(kind, f"{reason}, and similar reasons; --full shows all")
        merged.setdefault((kind, reason), []).extend(paths)
    return merged


def _named(paths: list[str], *, in_full: bool) -> list[str]:
    """Return the paths to show: all of them, or enough to see what they are."""
    shown = paths if in_full or len(paths) <= 5 else paths[:4]
    more = [f"and {len(paths) - len(shown):,} more"] if len(shown) < len(paths) else []
    return [printable(path) for path in shown] + more


def decision_lines(result: Examined, *, is_headed: bool = False) -> Iterator[str]:
    """Yield each question with its options and the words that answer it; `is_headed`: the archive was named."""
    from usufruct.cli.questions import answering_command

    if not isinstance(result, Asked):
        return
    if is_quiet() and not is_headed:
        yield from map(Urgent, _headline(result))
    for decision in result.decisions:
        yield Urgent("")
        yield from map(Urgent, _question_lines(decision))
    if command := answering_command(result):
        yield Urgent("")
        yield Urgent(f"{_INDENT}{styled('answer', 'quiet')}    {command}")


def _question_lines(decision: Decision) -> Iterator[str]:
    from usufruct.cli.questions import option_facts

    first, *others = wrapped(decision.question, _INDENT + "  ")
    yield f"{_INDENT}{styled('?', 'care')} {first}"
    yield from (f"{_INDENT}  {line}" for line in others)
    for thought in decision.detail:
        yield from (f"{_INDENT}  {styled(line, 'quiet')}" for line in wrapped(thought, _INDENT + "  "))
    # The answer "place nothing" needs no line if nobody is asked.
    options = [option for option in decision.options if option.answer]
    answers = [shell_words(option.answer) for option in options]
    wide = max(map(cells, answers), default=0)
    facts = [option_facts(option) for option in options]
    facts_wide = max(map(len, facts), default=0)
    for option, answer, fact in zip(options, answers, facts, strict=True):
        if is_plain():
            yield f"{_INDENT}{answer}, {fact}"
            continue
        room = page() - wide - facts_wide - 10
        example = shortened(path_words(option.example), room) if option.example and room > 12 else ""
        line = f"{_INDENT}    {styled(left(answer, wide), 'title')}  {fact.ljust(facts_wide)}"
        yield f"{line}  {styled(example, 'quiet')}" if example else line.rstrip()


def _error_lines(error: UsufructError, before: str = "") -> Iterator[str]:
    kept = "" if error.kept in ("Nothing was changed.", "Nothing was placed.") else f"{error.kept} "
    yield from (Urgent(f"{_INDENT}{styled(line, 'bad')}") for line in wrapped(before + error.message, _INDENT))
    yield from (Urgent(f"{_INDENT}{line}") for line in wrapped(kept + error.remedy, _INDENT))


def add_report(added: Added, *, in_full: bool, asks: bool = False) -> Iterator[str]:
    """Yield the lines that say what happened to an archive; with `asks` its questions are asked later."""
    result, placed = added.examined, added.placed
    name = styled(printable(result.name), "title")
    if isinstance(result, AlreadyThere):
        if result.holding:
            yield f"{name} was added already from {path_words(result.path)}: nothing was changed."
        else:
            yield f"All that is in {path_words(result.path)} is installed already: nothing was changed."
        return
    if not isinstance(result, Ready) or not placed:
        yield from _headline(result)
        if added.error and not isinstance(result, Asked):
            if is_quiet():
                yield from map(Urgent, _headline(result))
            yield from _error_lines(added.error, "Nothing was placed: ")
            return
        if result.layout:
            yield from _destination_lines(result)
            yield from tree_lines(result, result.layout, result.plan, in_full=in_full)
        elif result.listing and result.format != "file":
            yield from _content_tree(result.listing, in_full=in_full)
        if not asks:
            yield f"{_INDENT}{styled('Nothing was placed yet.', 'care')}"
            yield from decision_lines(result)
        return
    yield from _added_lines(added, result, placed, in_full=in_full)


def _added_lines(added: Added, result: Ready, placed: Placed, *, in_full: bool) -> Iterator[str]:
    """Yield what was placed, what it replaced, and how to remove it."""
    from usufruct.cli.facts import rescued_words, unread_words

    name, layout, plan = styled(printable(result.name), "title"), result.layout, result.plan
    where = result.application.title if result.application else path_words(plan.snapshot.root)
    done = "Updated" if added.state == "updated" else "Added to" if result.extends else "Added"
    counted = f"{count_words(placed.files, 'file')}, {size_words(placed.size)}"
    if result.extends and result.updates:
        yield f"{styled(done, 'good')} {name} in {where}: {counted} now, {result.updates.files:,} before"
    else:
        yield f"{styled(done, 'good')} {name} {'in' if added.state == 'updated' else 'to'} {where}: {counted}"
    yield from tree_lines(result, layout, plan, in_full=in_full)
    yield from remark_lines(result, layout, in_full=in_full, is_added=True)
    yield ""
    if result.facts and result.facts.is_rescued:
        words = f"rescued from a damaged archive: {rescued_words(result)}"
        yield from (f"{_INDENT}{styled(line, 'care')}" for line in wrapped(words, _INDENT))
    if result.facts and result.facts.unread:
        words = unread_words(result.facts.unread)
        yield from (f"{_INDENT}{styled(line, 'care')}" for line in wrapped(words, _INDENT))
    if placed.replaced:
        what = count_words(len(placed.replaced), "existing file was", "existing files were")
        yield f"{_INDENT}{what} backed up and replaced"
    if placed.renewed:
        yield f"{_INDENT}{count_words(placed.renewed, 'file')} of the earlier version replaced"
    if placed.taken:
        yield f"{_INDENT}{count_words(placed.taken, 'file')} of the earlier version removed"
    if placed.kept:
        what = count_words(len(placed.kept), "file that you changed stays", "files that you changed stay")
        yield f"{_INDENT}{what}: {', '.join(map(path_words, placed.kept[:4]))}"
    if placed.claimed:
        what = count_words(placed.claimed, "existing file", "existing files")
        yield f"{_INDENT}{what} with the same content adopted; removing it removes them too"
    if alike := len(placed.shared) - placed.claimed:
        yield f"{_INDENT}{count_words(alike, 'file')} already there with the same content, left alone"
    name = quoted(result.name)
    if added.after:
        yield f"{_INDENT}{styled(added.after, 'care')}"
    if result.application and result.application.tell:
        yield from (f"{_INDENT}{line}" for line in wrapped(result.application.tell, _INDENT))
    if added.put_away:
        yield from _put_away_lines(added.put_away)
    yield f"{_INDENT}To remove it: usufruct remove {name}"


def short_report(added: Added) -> str:
    """Return in one line what happened to one of many archives."""
    result, placed = added.examined, added.placed
    name = printable(result.path.replace("\\", "/").rpartition("/")[2])
    holding = styled(printable(result.name), "title")
    if placed and isinstance(result, Ready):
        where = result.application.title if result.application else path_words(result.plan.snapshot.root)
        done = "Updated" if added.state == "updated" else "Added to" if result.extends else "Added"
        into = "in" if result.extends or added.state == "updated" else "to"
        what = f"{holding} {into} {where}: {count_words(placed.files, 'file')}"
        if placed.replaced:
            what += f"; {count_words(len(placed.replaced), 'earlier file')} backed up"
        if left := len(result.layout.rows_skipped(SkippedKind.NOT_TAKEN, SkippedKind.ARCHIVE)):
            what += f"; {left:,} left out"
        if result.facts and result.facts.lost:
            what += f"; {styled(f'{len(result.facts.lost):,} lost with the damage', 'care')}"
        return f"{styled(done, 'good')} {what}"
    if added.state == "already added":
        return f"{styled('There already', 'quiet')} {holding or name}"
    if isinstance(result, Asked):
        return Urgent(f"{styled('Needs an answer', 'care')} {name}")
    return Urgent(f"{styled('Not added', 'bad')} {name}")


_MOST_LEFT = 3
"""Archives named, of those that were not reached."""


def summary_lines(results: Sequence[Added], left: Sequence[Path]) -> Iterator[str]:
    """Yield what happened to many archives: what was added, what needs an answer by which command, what failed and why.

    `left` are those that were not reached.
    """
    done = [one for one in results if one.placed]
    there = [one for one in results if one.state == "already added"]
    asked = [one for one in results if isinstance(one.examined, Asked)]
    failed = [one for one in results if one not in done and one not in there and one not in asked]
    yield ""
    files = sum(one.placed.files for one in done if one.placed)
    size = sum(one.placed.size for one in done if one.placed)
    parts = [f"{len(done)} added ({count_words(files, 'file')}, {size_words(size)})" if done else "none added"]
    parts += [f"{len(there)} there already"] if there else []
    parts += [f"{len(asked)} need{'s' if len(asked) == 1 else ''} an answer"] if asked else []
    parts += [f"{len(failed)} not added"] if failed else []
    parts += [f"{len(left)} not reached"] if left else []
    yield f"Of {count_words(len(results) + len(left), 'archive')}: {', '.join(parts)}."
    for one in asked:
        yield Urgent("")
        yield from map(Urgent, _headline(one.examined))
        yield from (line for line in decision_lines(one.examined, is_headed=True) if line)
    by_error: dict[tuple[str, str], list[Added]] = {}
    for one in failed:
        said = (one.error.message, one.error.remedy) if one.error else ("", "")
        by_error.setdefault(said, []).append(one)
    for alike in by_error.values():
        yield Urgent("")
        for one in alike:
            yield from map(Urgent, _headline(one.examined))
        if error := alike[0].error:
            yield from _error_lines(error)
    if left:
        names = [printable(path.name) for path in left[:_MOST_LEFT]]
        names += [f"and {len(left) - _MOST_LEFT:,} more"] if len(left) > _MOST_LEFT else []
        yield f"{_INDENT}{styled('not reached', 'quiet')}  {', '.join(names)}"
    if done:
        yield ""
        yield f"{_INDENT}To take all of it back: usufruct undo"


def _put_away_lines(put_away: PutAway) -> Iterator[str]:
    """Yield what happened to the archive afterwards."""
    if put_away.fault:
        yield f"{_INDENT}{styled(put_away.fault, 'care')}"
    elif put_away.paths:
        more = f" and {len(put_away.paths) - 1} more" if len(put_away.paths) > 1 else ""
        yield f"{_INDENT}The archive is kept as {path_words(put_away.paths[0])}{more}"
    elif put_away.how == TRASH:
        yield f"{_INDENT}The archive is in the trash"


def elsewhere_lines(found: Sequence[ReadElsewhere]) -> Iterator[str]:
    """Yield holdings in folders that their application does not read any more, and what to do."""
    for one in found:
        names = f"{printable(one.holdings[0])}{f' and {len(one.holdings) - 1} more' if len(one.holdings) > 1 else ''}"
        is_or_are = "is" if len(one.holdings) == 1 else "are"
        old, new = path_words(one.old), path_words(one.new)
        yield from wrapped(f"{one.application} now uses {new}, but {names} {is_or_are} still in {old}.", "")
        yield "  If the program copied the files along, record them there:"
        yield f"    usufruct recover --moved {shell_words((one.old, one.new))}"
        yield "  If it did not, remove each and add its archive again."
