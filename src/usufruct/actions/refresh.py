"""Telling an application that its files changed."""

import subprocess

from usufruct.model.applications import Application

_PATIENCE = 60
"""Seconds that the command may take."""


def run_after(application: Application) -> str:
    """Run the command that the definition names, without a shell; gives what went wrong, or nothing."""
    if not application.after:
        return ""
    called = application.after[0]
    try:
        done = subprocess.run(application.after, capture_output=True, timeout=_PATIENCE, check=False)
    except FileNotFoundError:
        if application.is_shipped:
            return ""  # not every system has it, and where it is missing nothing needs telling
        return f"{called} is not installed, so {application.title} was not told of the change"
    except (OSError, subprocess.TimeoutExpired) as error:
        return f"{called} could not be run: {error}"
    return f"{called} ended with {done.returncode}" if done.returncode else ""
