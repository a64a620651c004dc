"""How an error reaches the user: as three sentences or a JSON document, with an exit code."""

import io
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from usufruct.cli.screen import echo, echo_json_error, echo_text, path_words, styled, wrapped
from usufruct.errors import MachineError, UsufructError, WrongUsage


def error_document(error: UsufructError | None) -> dict[str, Any] | None:
    """Return an error as JSON."""
    if error is None:
        return None
    return {"code": error.code, "message": error.message, "kept": error.kept, "remedy": error.remedy}


def tell_error(error: UsufructError, *, as_json: bool, log: Path | None = None) -> None:
    """Print what happened, what was not changed, what to do next, and where the details are."""
    if as_json:
        echo_json_error({"error": error_document(error)})
    lines = wrapped(f"usufruct: {error.message}", "") + wrapped(f"{error.kept} {error.remedy}", "")
    if log:
        lines += wrapped(f"Details are in {path_words(str(log))}.", "")
    lines[0] = lines[0].replace("usufruct:", styled("usufruct:", "bad"), 1)
    for line in lines:
        echo(line, err=True)


def exit_code_of(work: Callable[[], object], *, as_json: bool) -> int:
    """Run a command's work, print the error that ends it, and return the exit code."""
    try:
        result = work()
        return result if isinstance(result, int) else 0
    except UsufructError as error:
        return _told(error, error if error.__cause__ else None, as_json=as_json)
    except click.exceptions.NoArgsIsHelpError as error:
        echo_text(error.format_message())
        return 0
    except click.ClickException as error:
        if as_json:
            echo_json_error({"error": error_document(_misspelled(error))})
        shown = io.StringIO()
        error.show(shown)
        for line in shown.getvalue().splitlines():
            echo(line, err=True)
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        echo("Stopped.", err=True)
        return 130
    except BrokenPipeError:
        # The reader of our output has closed it; prevent an error message at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 0
    except OSError as error:
        from usufruct.files.refused import refusal_of

        return _told(refusal_of(error, _KEPT), error, as_json=as_json)
    except MemoryError as error:
        return _told(_no_memory(), error, as_json=as_json)
    except Exception as error:  # noqa: BLE001 - nobody is shown a traceback; the log keeps it
        return _told(_own_fault(error), error, as_json=as_json)


def _misspelled(error: click.ClickException) -> WrongUsage:
    """Return the JSON for words that do not fit the command."""
    path = error.ctx.command_path if isinstance(error, click.UsageError) and error.ctx else "usufruct"
    message = error.format_message()
    return WrongUsage(message if message.endswith(".") else f"{message}.", remedy=f"`{path} --help` shows its words.")


_KEPT = "What was finished before it stays; a change that was under way was reversed, or is by the next command."


def _own_fault(error: Exception) -> UsufructError:
    """Return the error for a fault of our own; the log has the details."""
    return UsufructError(
        f"This is a fault in Usufruct: {type(error).__name__}: {error}.",
        kept=_KEPT,
        remedy="Please report it with what stands at the end of the log.",
    )


def _no_memory() -> UsufructError:
    return MachineError(
        "There is not enough memory for this.", kept=_KEPT, remedy="Close other programs, then try again."
    )


def _told(error: UsufructError, cause: BaseException | None, *, as_json: bool) -> int:
    """Print an error; if it has a cause, that goes to the log, and its path is printed."""
    log = None
    if cause is not None:
        from usufruct.cli.log import keep_log

        logger, log = keep_log()
        logger.error("%s", error.message, exc_info=cause)
    tell_error(error, as_json=as_json, log=log)
    return error.exit_code
