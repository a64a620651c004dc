"""Names from archives made fit to be shown: control characters could steer a terminal."""

import re

UNPRINTABLE = re.compile("[\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff]")
"""Control characters, marks that turn the direction of writing, line ends of Unicode's own, broken code points."""


def printable(text: str) -> str:
    r"""The text with control characters, direction marks and broken code points as `\x1b`, `\u202e`."""
    if text.isascii() and text.isprintable():
        return text
    return UNPRINTABLE.sub(lambda found: _escaped(ord(found[0])), text)


def _escaped(code: int) -> str:
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
