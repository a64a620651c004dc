"""Tell an application that its files have changed, if the user has agreed to the command for it."""

import json
import subprocess

from usufruct.actions.context import Context
from usufruct.files.copying import replace_text
from usufruct.files.shells import typed
from usufruct.files.small_texts import small_text
from usufruct.model.applications import Application

_PATIENCE = 60
"""Seconds that the command may take."""


def run_after(context: Context, application: Application) -> str:
    """Run the command of the definition, without a shell; return what went wrong, or nothing.

    A command that the user has not agreed to, exactly as it is, is not run.
    """
    if not application.after:
        return ""
    if not is_agreed(context, application):
        return (
            f"{application.title} asks to run `{typed(application.after)}` after each change. It was not run; "
            f"`usufruct app agree {application.name}` allows it"
        )
    called = application.after[0]
    try:
        done = subprocess.run(application.after, capture_output=True, timeout=_PATIENCE, check=False)
    except FileNotFoundError:
        if application.is_shipped:
            return ""  # not every system has the command, and without it nothing needs a refresh
        return f"{called} is not installed, so {application.title} does not know of the change yet"
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        return f"{called} could not be run: {error}"
    return f"{called} ended with {done.returncode}" if done.returncode else ""


def is_agreed(context: Context, application: Application) -> bool:
    """Whether the user has agreed to the command of a definition, to the word; shipped ones need no agreement."""
    return application.is_shipped or _agreed(context).get(application.name) == list(application.after)


def agree(context: Context, application: Application) -> None:
    """Record that the user agrees to the command of a definition as it is now."""
    agreed = {**_agreed(context), application.name: list(application.after)}
    replace_text(context.paths.agreed, json.dumps(agreed, indent=2) + "\n", context.system(), mode=0o600)


def _agreed(context: Context) -> dict[str, list[str]]:
    """Return the command that was agreed to for each application; nothing if that cannot be read."""
    try:
        found = json.loads(small_text(context.paths.agreed))
    except (OSError, ValueError, RecursionError):
        return {}
    return found if isinstance(found, dict) else {}
