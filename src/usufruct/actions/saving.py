"""Save files that the user changed, before they are replaced by earlier ones."""

from collections.abc import Iterable

from usufruct.actions.context import Context
from usufruct.files.trash import copy_to_trash


def save_changed(context: Context, files: Iterable[tuple[str, str | None]]) -> tuple[str, ...]:
    """Put copies of files into the trash, given by their paths and by where their content is, if not there.

    Returns the paths of copies that the trash could not take and that are among our own files instead.
    """
    kept = []
    for path, content in files:
        where = copy_to_trash(path, context.paths.saved, context.system(), content)
        if where:
            kept.append(where)
    return tuple(kept)
