"""The JSON documents that others may build on."""

from typing import TYPE_CHECKING, Any

from usufruct.cli.errors import error_document
from usufruct.cli.screen import time_iso
from usufruct.model.entries import EntryKind
from usufruct.model.holdings import Holding

if TYPE_CHECKING:
    from usufruct.actions.adding import Added
    from usufruct.actions.outcomes import Examined
    from usufruct.actions.reading import Verified
    from usufruct.actions.showing import Shown
    from usufruct.model.layout import Layout
    from usufruct.model.plan import Plan
    from usufruct.model.records import FileState
    from usufruct.model.rulings import Decision


def examined_document(result: "Examined") -> dict[str, Any]:
    """One archive of `look --json`."""
    # Imported here: `list` writes a document too, and needs no archive readers.
    from usufruct.actions.outcomes import AlreadyThere, Asked, Refused
    from usufruct.cli.facts import evidence_label, facts_document

    decisions = result.decisions if isinstance(result, Asked) else ()
    layout = result.layout
    return {
        "path": result.path,
        "format": result.format or None,
        "bytes": result.size,
        "unpacked": sum(result.listing.sizes) if result.listing else None,
        "origin": result.origin or None,
        "facts": facts_document(result),
        "application": result.application.name if result.application else None,
        "evidence": evidence_label(layout.evidence) if layout and result.application else None,
        "holding": result.name or None,
        "updates": result.updates.name if result.updates else None,
        "already_added": isinstance(result, AlreadyThere) and result.holding is not None,
        "placements": _placements(layout, result.plan) if layout else [],
        "aside": [
            {"entry": layout.listing.path(row.row), "kind": row.kind.label, "reason": row.reason}
            for row in (*layout.skipped, *(result.plan.skipped if result.plan else ()))
        ]
        if layout
        else [],
        "refused": [{"entry": refusal.entry, "reason": refusal.reason} for refusal in layout.refused] if layout else [],
        "decision": decision_document(decisions[0]) if decisions else None,
        "further_decisions": [decision_document(decision) for decision in decisions[1:]],
        "also_for": [{"application": name, "files": count} for name, count in result.verdict.also_for],
        "runners_up": [{"application": name, "why": why} for name, why in result.verdict.runners_up],
        "weighed": [
            {
                "application": one.application,
                "evidence": evidence_label(one.evidence),
                "files": one.files,
                "near": one.is_near,
            }
            for one in result.verdict.standings
        ],
        "error": error_document(result.error if isinstance(result, Refused) else None),
    }


def _placements(layout: "Layout", plan: "Plan | None") -> list[dict[str, Any]]:
    """Return where each placed entry would go."""
    out = {row.row for row in plan.skipped} if plan else set()
    renamed = {
        row: f"{layout.homes[layout.home_of[row]].path}/{name}".lstrip("/")
        for row, name in (plan.beside if plan else {}).items()
    }
    return [
        {
            "entry": layout.listing.path(placement.row),
            "to": renamed.get(placement.row, placement.to),
            "folder": placement.home.folder.name if placement.home.folder else None,
            "why": placement.why,
            "clash": plan.conflict(placement.row).label if plan else None,
        }
        for placement in layout.placements
        if placement.row not in out
    ]


def content_document(result: "Examined") -> list[dict[str, Any]]:
    """Return every entry of an archive, placed or not: `look --content --json`."""
    listing = result.listing
    if listing is None:
        return []
    return [
        {
            "entry": listing.path(row),
            "kind": EntryKind(listing.kinds[row]).name.lower(),
            "bytes": listing.sizes[row],
            "modified": time_iso(modified) if (modified := listing.modified(row)) is not None else None,
        }
        for row in range(len(listing))
    ]


def verified_document(result: "Verified") -> dict[str, Any]:
    """One archive of `look --verify --json`."""
    return {
        "path": result.path,
        "files": result.files,
        "bytes": result.size,
        "has_checksums": result.is_checked,
        "unsafe": result.unsafe,
        "unread": [{"offset": offset, "bytes": size} for offset, size in result.unread],
        "error": error_document(result.error),
    }


def decision_document(decision: "Decision") -> dict[str, Any]:
    """A question with its options."""
    return {
        "question": decision.question,
        "detail": list(decision.detail),
        "options": [
            {
                "name": option.name,
                "answer": list(option.answer),
                "files": option.files,
                "bytes": option.size,
                "left_out": option.left_out,
                "example": option.example,
            }
            for option in decision.options
        ],
    }


_STATES = {
    "decision-needed": "asked",
    "password-needed": "locked",
    "wrong-password": "wrong password",
    "unsafe": "unsafe",
    "missing": "missing",
    **dict.fromkeys(("damaged", "still-arriving", "not-an-archive", "misnamed", "empty"), "damaged"),
}
"""Code of an error → the state of an archive that scripts tell apart."""


def _state_of(result: "Added") -> str:
    return _STATES.get(result.error.code, result.state) if result.error else result.state


def added_document(result: "Added") -> dict[str, Any]:
    """One archive of `add --json`."""
    document = examined_document(result.examined)
    document["state"] = _state_of(result)
    document["error"] = error_document(result.error)
    put_away = result.put_away
    document["archive"] = (
        {"afterwards": put_away.how, "paths": list(put_away.paths), "fault": put_away.fault or None}
        if put_away
        else None
    )
    return document


def holding_document(holding: Holding) -> dict[str, Any]:
    """One holding of `list --json`."""
    return {
        "name": holding.name,
        "application": holding.application,
        "archive": holding.archive,
        "files": holding.files,
        "bytes": holding.size,
        "added": time_iso(holding.added),
        "state": holding_state(holding),
    }


def holding_state(holding: Holding) -> str:
    """Return the state of a holding."""
    if holding.is_away:
        return "away"
    return "partly removed" if holding.is_partial else "added"


def shown_document(shown: "Shown") -> dict[str, Any]:
    """The document of `show --json`."""
    return {
        **holding_document(shown.holding),
        "root": shown.holding.root,
        "format": shown.holding.format,
        "version": shown.holding.version or None,
        "origin": shown.holding.origin or None,
        "files": [
            {
                "path": file.path,
                "entry": file.entry,
                "bytes": file.state.size,
                "hash": hash_words(file.state),
                "replaced": file.replaced,
            }
            for file in shown.files
        ],
        "notes": [
            {"entry": note.entry, "path": f"{shown.notes_directory}/{note.file}", "bytes": note.size}
            for note in shown.notes
        ],
    }


def hash_words(state: "FileState") -> str | None:
    """A digest with the name of its algorithm; None for links."""
    return f"blake3:{state.digest.hex()}" if state.digest else None
