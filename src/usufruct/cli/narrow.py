"""Help for a page that is too narrow for two columns, because of large type or a braille display."""

from collections.abc import Iterable

import click

_FIRST = 10
"""Columns beside which what an option or a command does still fits; longer ones have it below."""


class NarrowHelp(click.HelpFormatter):
    """The library's help, with each explanation below its option."""

    def write_dl(self, rows: Iterable[tuple[str, str]], col_max: int = _FIRST, col_spacing: int = 2) -> None:
        """Write options with their explanations; `col_max` is the library's and is ignored."""
        super().write_dl(rows, min(col_max, _FIRST), col_spacing)


def be_narrow() -> None:
    """Print the help of all commands in this form."""
    click.Context.formatter_class = NarrowHelp
