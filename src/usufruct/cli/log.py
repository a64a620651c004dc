"""The log: what each command that may change something did, and what lay behind an error."""

import logging
import sys
from io import TextIOWrapper
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

from usufruct.files.printable import printable
from usufruct.files.private import make_private, private_opener
from usufruct.files.state_paths import StatePaths

_MOST, _OLDER = 1_000_000, 3
"""Bytes of the log before a new one is begun, and how many older ones are kept."""


class _Printable(logging.Formatter):
    """What is logged holds names from archives and from the disk: each line is made fit to be shown."""

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802 - the library's name
        record.message = printable(record.message)
        return super().formatMessage(record)

    def formatException(self, ei: Any) -> str:  # noqa: N802 - the library's name
        return "\n".join(map(printable, super().formatException(ei).split("\n")))


class _LogFile(RotatingFileHandler):
    """The log's file, which is made with the first line in it, for the user alone."""

    def _open(self) -> TextIOWrapper:
        make_private(Path(self.baseFilename).parent)
        return open(self.baseFilename, "a", encoding=self.encoding, errors=self.errors, opener=private_opener)


def keep_log(*, is_told: bool = False) -> tuple[logging.Logger, Path]:
    """Begin to write the log, and to standard error too where that `is_told`; gives the logger and the log's path.

    A log that cannot be written is done without: it must not keep anybody from taking a holding out.
    """
    path = StatePaths.found().log
    logger = logging.getLogger("usufruct")
    if logger.handlers:
        return logger, path
    logger.setLevel(logging.INFO)
    logger.propagate = False
    logging.raiseExceptions = False
    file = _LogFile(path, maxBytes=_MOST, backupCount=_OLDER, encoding="utf-8", delay=True)
    file.setFormatter(_Printable("%(asctime)s %(process)d %(levelname)s %(message)s"))
    logger.addHandler(file)
    if is_told:
        shown = logging.StreamHandler(sys.stderr)
        shown.setFormatter(_Printable("%(asctime)s %(message)s", "%H:%M:%S"))
        logger.addHandler(shown)
    return logger, path
