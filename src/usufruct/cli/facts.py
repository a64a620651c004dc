"""What `look` says about an archive, besides where it would go."""

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from usufruct.cli.screen import count_words, in_lines, styled, wrapped
from usufruct.files.printable import printable
from usufruct.model.entries import Listing
from usufruct.model.rulings import Evidence
from usufruct.planning.dangers import disguised_in, links_in, programs_in

if TYPE_CHECKING:
    from usufruct.actions.outcomes import Examined

_INDENT = "  "
_NAMED = 3
"""Entries that are named as examples of a danger."""
_METHOD_WORDS = {"gz": "gzip", "bz2": "bzip2", "zst": "zstandard", "lz": "lzip", "Z": "compress"}
"""Packings that are called by their suffix elsewhere."""


def evidence_label(evidence: Evidence) -> str:
    """Return `folder-name` for FOLDER_NAME, for programs."""
    return evidence.name.lower().replace("_", "-")


def fact_lines(result: "Examined") -> Iterator[str]:
    """Yield how it is packed and locked, how its names were read, its origin, and what deserves a second look."""
    facts, listing = result.facts, result.listing
    if facts:
        methods = ", ".join(_METHOD_WORDS.get(method, method) for method in facts.packing)
        packing = [f"with {methods}"] if methods else []
        if facts.packing == ("stored",):
            packing = ["not compressed"]
        if facts.is_solid:
            packing.append("as one solid stream")
        if len(facts.volumes) > 1:
            packing.append(f"in {len(facts.volumes)} files")
        if packing:
            yield from _said("packed", " ".join(packing))
        if facts.locks:
            locked = "its names too" if facts.hides_names else count_words(facts.locked_entries, "file")
            yield from _said("locked", f"with {' and '.join(facts.locks)}, {locked}")
        if facts.encoding:
            how = "which is a guess; --names ENCODING sets another" if facts.is_encoding_guessed else "as you said"
            yield from _said("names", f"read as {facts.encoding}, {how}")
        if facts.is_program:
            yield from _said("program", f"self-extracting: read as the {result.format} it carries, never run", "care")
        if facts.said_format:
            yield from _said("careful", f"called {facts.said_format}, but it is {result.format}", "care")
        if facts.has_better_names:
            what = "these are the short ISO names; the UDF part of this disc image may have longer ones"
            yield from _said("careful", f"{what}. Mount the image to get them", "care")
        if facts.behind:
            which = "the second is shown as the folder" if facts.behind == 1 else "the others are shown as folders,"
            name = printable(result.path.replace("\\", "/").rpartition("/")[2])
            what = f"this file contains {facts.behind + 1} archives; {which} {name}#2"
            yield from _said("careful", what + (" and so on" if facts.behind > 1 else ""), "care")
        if facts.is_rescued:
            yield from _said("rescued", rescued_words(result), "care")
        if facts.unread:
            yield from _said("careful", unread_words(facts.unread), "care")
        if facts.comment:
            first, *more = facts.comment.splitlines() or [""]
            yield from _said("comment", printable(first) + (" …" if more else ""))
    if result.origin:
        yield from _said("origin", printable(result.origin))
    if listing:
        for what, rows in _dangers(listing).items():
            one, many = _DANGER_WORDS[what]
            names = [printable(listing.names[row]) for row in rows[:_NAMED]]
            names += [f"and {len(rows) - _NAMED:,} more"] if len(rows) > _NAMED else []
            yield from _said("careful", f"{count_words(len(rows), one, many)}: {' '.join(in_lines(names, ''))}", "care")


def rescued_words(result: "Examined") -> str:
    """Say what `--rescue` found in a damaged archive, and what it could not."""
    facts, listing = result.facts, result.listing
    assert facts and listing is not None, "a rescued archive is listed"
    if not facts.lost:
        return "every entry that it names is intact; whether there were more cannot be known"
    names = [printable(name) for name in facts.lost[:_NAMED]]
    names += [f"and {len(facts.lost) - _NAMED:,} more"] if len(facts.lost) > _NAMED else []
    return f"only the intact files; lost: {', '.join(names)}"


def unread_words(stretches: Sequence[tuple[int, int]]) -> str:
    """Say which parts of the file are unknown."""
    said = [f"{count_words(size, 'byte')} at offset {offset:,}" for offset, size in stretches[:_NAMED]]
    said += [f"and {len(stretches) - _NAMED:,} more stretches"] if len(stretches) > _NAMED else []
    return f"Usufruct did not recognise part of this file: {', '.join(said)}"


_DANGER_WORDS = {
    "programs": ("program file", "program files"),
    "links": ("link", "links"),
    "disguised": ("name that shows as another", "names that show as others"),
}


def _dangers(listing: Listing) -> dict[str, list[int]]:
    found = {"programs": programs_in(listing), "links": links_in(listing), "disguised": disguised_in(listing)}
    return {what: rows for what, rows in found.items() if rows}


def _said(label: str, words: str, role: str = "quiet") -> Iterator[str]:
    first, *others = wrapped(words, _INDENT + " " * 10)
    yield f"{_INDENT}{styled(label.ljust(8), role)}  {first}"
    yield from (f"{_INDENT}{'':10}{line}" for line in others)


def facts_document(result: "Examined") -> dict[str, Any] | None:
    """Return the same as JSON."""
    facts, listing = result.facts, result.listing
    if facts is None:
        return None
    return {
        "packing": list(facts.packing),
        "solid": facts.is_solid,
        "volumes": list(facts.volumes),
        "locks": list(facts.locks),
        "locked_entries": facts.locked_entries,
        "hides_names": facts.hides_names,
        "names": {"encoding": facts.encoding, "guessed": facts.is_encoding_guessed} if facts.encoding else None,
        "self_extracting": facts.is_program,
        "called": facts.said_format or None,
        "what": facts.what or None,
        "comment": facts.comment or None,
        "rescued": facts.is_rescued,
        "lost": list(facts.lost),
        "better_names": facts.has_better_names,
        "behind": facts.behind,
        "unread": [{"offset": offset, "bytes": size} for offset, size in facts.unread],
        "careful": {what: [listing.path(row) for row in rows] for what, rows in _dangers(listing).items()}
        if listing
        else {},
    }
