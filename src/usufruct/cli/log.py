"""The log: what each command that may change something did, and what lay behind an error."""

import logging
import sys
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

from usufruct.files.printable import printable
from usufruct.files.state_places import StatePlaces

_MOST, _OLDER = 1_000_000, 3
"""Bytes of the log before a new one is begun, and how many older ones are kept."""


class _Printable(logging.Formatter):
    """What is logged holds names from archives and from the disk: each line is made fit to be shown."""

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802 - the library's name
        record.message = printable(record.message)
        return super().formatMessage(record)

    def formatException(self, ei: Any) -> str:  # noqa: N802 - the library's name
        return "\n".join(map(printable, super().formatException(ei).split("\n")))


def keep_log(*, is_told: bool = False) -> tuple[logging.Logger, Path]:
    """Begin to write the log, and to standard error too where that `is_told`; gives the logger and the log's path.

    A log that cannot be written is done without: it must not keep anybody from taking a holding out.
    """
    path = StatePlaces.found().log
    logger = logging.getLogger("usufruct")
    if logger.handlers:
        return logger, path
    logger.setLevel(logging.INFO)
    logger.propagate = False
    logging.raiseExceptions = False
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        file = RotatingFileHandler(path, maxBytes=_MOST, backupCount=_OLDER, encoding="utf-8", delay=True)
    except OSError:
        logger.addHandler(logging.NullHandler())
        return logger, path
    file.setFormatter(_Printable("%(asctime)s %(process)d %(levelname)s %(message)s"))
    logger.addHandler(file)
    if is_told:
        shown = logging.StreamHandler(sys.stderr)
        shown.setFormatter(_Printable("%(asctime)s %(message)s", "%H:%M:%S"))
        logger.addHandler(shown)
    return logger, path
