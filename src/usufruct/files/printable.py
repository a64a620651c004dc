"""Make names from archives fit to be shown: control characters could steer a terminal."""

import re

_KINDS = "\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff\ufffe\uffff"
UNPRINTABLE = re.compile(f"[{_KINDS}\ufdd0-\ufdef]")
"""Control characters, marks that turn the direction of writing, line ends of Unicode's own, broken code points, and
characters that no text may have: the first sixteen of these stand for colours in what is yet to be shown.
"""
_BUT_COLOURS = re.compile(f"[{_KINDS}\ufde0-\ufdef]")


def printable(text: str) -> str:
    r"""The text with control characters, direction marks and broken code points as `\x1b`, `\u202e`."""
    if text.isascii() and text.isprintable():
        return text
    return UNPRINTABLE.sub(lambda found: _escaped(ord(found[0])), text)


def nameable(text: str) -> str:
    """The text as a name that can be shown and typed: each of these characters as `_`."""
    return UNPRINTABLE.sub("_", text)


def printable_but_colours(text: str) -> str:
    """The same for a finished line, in which colour sequences stay."""
    return _BUT_COLOURS.sub(lambda found: _escaped(ord(found[0])), text)


def _escaped(code: int) -> str:
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
