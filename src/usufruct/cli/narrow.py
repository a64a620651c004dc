"""Help for a page too narrow for two columns, as a large script or a braille line leaves it."""

from collections.abc import Iterable

import click

_FIRST = 10
"""Columns beside which what an option or a command does still fits; longer ones have it below."""


class NarrowHelp(click.HelpFormatter):
    """The library's help, with each meaning below its option."""

    def write_dl(self, rows: Iterable[tuple[str, str]], col_max: int = _FIRST, col_spacing: int = 2) -> None:
        """Write options with their meanings; `col_max` is the library's, and is not followed."""
        super().write_dl(rows, min(col_max, _FIRST), col_spacing)


def be_narrow() -> None:
    """Let every command's help be written so."""
    click.Context.formatter_class = NarrowHelp
