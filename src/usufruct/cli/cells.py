"""Text on a terminal: counting its cells, cutting and filling it, and writing it in signs that the terminal has."""

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
    """Return the cells that a text takes on a terminal: East Asian characters take two, combining marks none."""
    # Most texts need no width tables, which take longer to load than most commands.
    if text.isascii() or _NARROW.fullmatch(text):
        return len(text)
    from wcwidth import wcswidth, wcwidth

    found = wcswidth(text)
    return found if found >= 0 else sum(max(0, wcwidth(sign)) for sign in text)


def cut(text: str, room: int) -> str:
    """Cut a text to at most so many cells; a sign shows that something is left out."""
    if cells(text) <= room:
        return text
    if text.isascii():
        return text[: max(0, room - 1)] + "…"
    kept = text[: max(0, room - 1)]
    while kept and cells(kept) > room - 1:
        kept = kept[:-1]
    # A combining mark belongs to the character before it.
    while len(kept) < len(text) and unicodedata.combining(text[len(kept)]):
        kept += text[len(kept)]
    return kept + "…"


def left(text: str, width: int) -> str:
    """Fill a text with blanks behind it, to so many cells."""
    return text + " " * (width - cells(text))


def right(text: str, width: int) -> str:
    """Fill a text with blanks before it, to so many cells."""
    return " " * (width - cells(text)) + text


def lines_of(text: str, room: int) -> list[str]:
    """Break a text into lines of at most so many cells, between words if possible."""
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
            # A word wider than a line, or a script without spaces.
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
    """Write a text in the signs of an encoding: others are replaced by similar ones, or by a question mark."""
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
    r"""Write JSON for an output in this encoding: if it is not UTF-8, everything beyond ASCII becomes `\u00e9`."""
    if encoding.lower().replace("_", "-") in ("utf-8", "utf8"):
        return text
    return _BEYOND.sub(lambda found: _units(found[0]), text)


def _units(sign: str) -> str:
    data = sign.encode("utf-16-be", "surrogatepass")
    return "".join(f"\\u{int.from_bytes(data[at : at + 2], 'big'):04x}" for at in range(0, len(data), 2))
