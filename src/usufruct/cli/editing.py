"""Edit a text in the user's own editor."""

import click

from usufruct.errors import MachineError


def edited(text: str) -> str | None:
    """Return a definition as the user's editor leaves it; None if it was left as it was.

    Raises MachineError if the editor cannot be started, or ends with an error.
    """
    try:
        changed = click.edit(text, extension=".toml", require_save=True)
    except click.ClickException as error:
        raise MachineError(
            f"The editor could not be used ({error.message.removesuffix('.')}).",
            remedy="Name one that works here in the variable EDITOR, for example EDITOR=nano.",
        ) from None
    return None if changed is None or changed == text else changed
