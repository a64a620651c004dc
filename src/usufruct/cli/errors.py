"""How an error reaches the user: three sentences, or a JSON document."""

from pathlib import Path
from typing import Any

from usufruct.cli.screen import echo, echo_json_error, path_words, styled, wrapped
from usufruct.errors import UsufructError


def error_document(error: UsufructError | None) -> dict[str, Any] | None:
    """An error as JSON tells it."""
    if error is None:
        return None
    return {"code": error.code, "message": error.message, "kept": error.kept, "remedy": error.remedy}


def tell_error(error: UsufructError, *, as_json: bool, log: Path | None = None) -> None:
    """Say what happened, what was left as it was, what to do next, and where the details are."""
    if as_json:
        echo_json_error({"error": error_document(error)})
    lines = wrapped(f"usufruct: {error.message}", "") + wrapped(f"{error.kept} {error.remedy}", "")
    if log:
        lines += wrapped(f"Details are in {path_words(str(log))}.", "")
    lines[0] = lines[0].replace("usufruct:", styled("usufruct:", "bad"), 1)
    for line in lines:
        echo(line, err=True)
