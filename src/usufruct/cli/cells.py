"""Text as a terminal shows it: how many cells it takes, cut and filled to a number of them, in signs it can spell."""

import re
import unicodedata

_ELSEWHERE = str.maketrans({
    "…": "...", "·": "-", "•": "*", "“": '"', "”": '"', "‘": "'", "’": "'", "–": "-", "—": "-", "→": "->", "─": "-",
    "│": "|", "└": "`", "├": "|", "█": "#", "▏": "", "▎": "", "▍": "", "▌": "", "▋": "", "▊": "", "▉": "", "×": "x",
    "✓": "+", "ß": "ss", "ø": "o", "Ø": "O", "æ": "ae", "Æ": "AE", "ł": "l", "Ł": "L", "đ": "d", "Đ": "D",
    "\u00a0": " ",
})  # fmt: skip
"""Signs of ours, and letters that are no others with a mark, for an encoding that has none of them."""
_NARROW = re.compile("[ -~\u00a1-\u00ac\u00ae-\u02ff\u2010-\u2027\u2190-\u21ff\u2500-\u259f]*")
"""Signs that take one cell each: letters of the west, punctuation, arrows and lines."""
_BEYOND = re.compile(r"[^\x00-\x7f]")


def cells(text: str) -> int:
    """Cells of a terminal that a text takes: signs of the far east take two, marks upon others none."""
    # Most texts need no tables, and these take longer to read than most commands.
    if text.isascii() or _NARROW.fullmatch(text):
        return len(text)
    from wcwidth import wcswidth, wcwidth

    found = wcswidth(text)
    return found if found >= 0 else sum(max(0, wcwidth(sign)) for sign in text)


def cut(text: str, room: int) -> str:
    """The text in at most so many cells, with a sign where something is left out."""
    if cells(text) <= room:
        return text
    if text.isascii():
        return text[: max(0, room - 1)] + "…"
    kept = text[: max(0, room - 1)]
    while kept and cells(kept) > room - 1:
        kept = kept[:-1]
    # A mark belongs to the sign before it.
    while len(kept) < len(text) and unicodedata.combining(text[len(kept)]):
        kept += text[len(kept)]
    return kept + "…"


def left(text: str, width: int) -> str:
    """The text with blanks behind it, to fill so many cells."""
    return text + " " * (width - cells(text))


def right(text: str, width: int) -> str:
    """The text with blanks before it, to fill so many cells."""
    return " " * (width - cells(text)) + text


def lines_of(text: str, room: int) -> list[str]:
    """The text in lines of at most so many cells, broken between words where they fit."""
    if text.isascii():
        import textwrap

        return textwrap.wrap(text, room, break_on_hyphens=False)
    lines: list[str] = []
    here = ""
    for word in text.split():
        while True:
            joined = f"{here} {word}" if here else word
            if cells(joined) <= room:
                here = joined
                break
            if here:
                lines.append(here)
                here = ""
                continue
            # A word wider than a line, or a text in a script that sets none apart.
            part = word
            while cells(part) > room:
                part = part[:-1] if len(part) > 1 else part
                if len(part) == 1:
                    break
            lines.append(part)
            word = word[len(part) :]
            if not word:
                break
    return [*lines, here] if here else lines


def spelled(text: str, encoding: str) -> str:
    """The text in signs that an encoding has: others are written otherwise, and what cannot be is a question mark."""
    try:
        text.encode(encoding)
    except (UnicodeEncodeError, LookupError):
        return "".join(sign if _has(sign, encoding) else _otherwise(sign, encoding) for sign in text)
    return text


def _has(sign: str, encoding: str) -> bool:
    try:
        sign.encode(encoding)
    except UnicodeEncodeError:
        return False
    except LookupError:
        return sign.isascii()
    return True


def _otherwise(sign: str, encoding: str) -> str:
    found = sign.translate(_ELSEWHERE)
    if found != sign:
        return found
    # `é` as `e`, where the encoding has no such letter.
    plain = "".join(part for part in unicodedata.normalize("NFKD", sign) if not unicodedata.combining(part))
    if plain and all(_has(part, encoding) for part in plain):
        return plain
    return "" if unicodedata.combining(sign) else "?"


def escaped(text: str, encoding: str) -> str:
    r"""JSON for an output of this encoding: it is UTF-8, or everything beyond ASCII is written as `\u00e9`."""
    if encoding.lower().replace("_", "-") in ("utf-8", "utf8"):
        return text
    return _BEYOND.sub(lambda found: _units(found[0]), text)


def _units(sign: str) -> str:
    data = sign.encode("utf-16-be", "surrogatepass")
    return "".join(f"\\u{int.from_bytes(data[at : at + 2], 'big'):04x}" for at in range(0, len(data), 2))
