"""Saving files that the user changed, before anything earlier takes their place."""

from collections.abc import Iterable

from usufruct.actions.context import Context
from usufruct.files.trash import copy_to_trash


def save_changed(context: Context, files: Iterable[tuple[str, str | None]]) -> tuple[str, ...]:
    """Put a copy of each file into the trash, given by its path and where its bytes lie if not there.

    Gives the paths of those that the trash could not take and that are kept among our own files instead.
    """
    kept = []
    for path, content in files:
        where = copy_to_trash(path, context.places.saved, context.system(), content)
        if where:
            kept.append(where)
    return tuple(kept)
