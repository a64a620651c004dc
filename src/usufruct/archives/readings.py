"""Possible readings of names whose encoding is not stated, and how likely each is.

Readings differ in invalid bytes, letters that no one language has together, capitals within words, signs between
letters, mixed scripts, and rare characters. Each reading has a cost, roughly a logarithm: a difference of one is two to
three times as likely.

Sources: Unicode's character database; the alphabets of the languages (CLDR's exemplar characters); the levels of JIS X
0208, GB 2312, Big5 and KS X 1001, which list the common characters first.
"""

import math
import os
import unicodedata
from collections import Counter
from collections.abc import Iterable, Sequence
from functools import lru_cache

from msgspec import Struct

DOS = (
    "cp437", "cp850", "cp852", "cp866", "cp857", "cp775", "cp737", "cp862", "cp855", "cp860", "cp861", "cp865", "cp720",
)  # fmt: skip
WINDOWS = ("cp1252", "cp1250", "cp1251", "cp1253", "cp1254", "cp1255", "cp1256", "cp1257")
BOTH = ("cp932", "gb18030", "big5", "cp949", "cp874")
ELSEWHERE = ("koi8_r", "koi8_u", "iso8859_2", "iso8859_5", "iso8859_7", "iso8859_15", "euc_jp", "mac_roman")
ENCODINGS = (*DOS, *WINDOWS, *BOTH, *ELSEWHERE)

_MISPLACED, _OTHER_O, _OTHER_A = "\ue000", "\ue001", "\ue002"
_LETTERS = {
    "de": "ä\ue002üöß", "fr": "éèàêâçîôùûïëœüÿæ", "es": "óíáéñúü", "pt": "ãçáéíóêõâúôà", "it": "àèòìùé",
    "nl": "ëéïèöóüáêíçä\ue002âûîúàñ",
    "sv": "ä\ue002åöé", "da": "øåæé", "fi": "ä\ue002öå", "is": "íáðóúéöþæý", "pl": "ąęłóśżćńź", "cs": "íáéýřžěčšůúťďňó",
    "sk": "áíéčýžšľťúňôďäŕĺó", "hu": "áéőíóöűüú", "ro": "ăîţşâțș", "hr": "čšžćđ", "tr": "ışğüçöİâ",
    "et": "ä\ue002\ue001õüöšž",
    "lv": "āīēūšķļņģžč", "lt": "ėųšžąęįčū", "ca": "éàóèíòçúïü",
}  # fmt: skip
"""Language → its letters beyond those of ASCII, about the most used first."""
_NOT_OF = {
    "de": "", "fr": "kw", "es": "kw", "pt": "kwy", "it": "jkwxy", "nl": "q", "sv": "qwz", "da": "qwxz", "fi": "cqwxz",
    "is": "cqwz", "pl": "qvx", "cs": "qwx", "sk": "qwx", "hu": "qwx", "ro": "kqwy", "hr": "qwxy", "tr": "qwx",
    "et": "cqwxyz", "lv": "qwxy", "lt": "qwx", "ca": "kwy",
}  # fmt: skip
"""Language → letters of ASCII that its own words hardly have."""
_DOUBLED = ("ss", "rr", "ll", "ff", "pp", "tt", "cc", "gg")
_WITHOUT_DOUBLED = frozenset(("cs", "sk", "pl", "hr", "ro", "lt", "lv", "tr"))
"""Languages whose own words hardly have these pairs."""
_SCRIPT_OF = {
    "ru": "cyrillic", "uk": "cyrillic", "bg": "cyrillic", "sr": "cyrillic", "be": "cyrillic", "mk": "cyrillic",
    "el": "greek", "he": "hebrew", "ar": "arabic", "fa": "arabic", "th": "thai", "ja": "kana", "zh": "han",
    "ko": "hangul",
}  # fmt: skip

_COSTS = {
    **dict.fromkeys("оеаинтсрвл", 2.4), **dict.fromkeys("кмдпуяыьгз", 3.1), **dict.fromkeys("бчйхжшюцщэфъ", 4.0),
    **dict.fromkeys("ёіїє", 3.6), **dict.fromkeys("ґўђјљњћџ", 5.0),
    **dict.fromkeys("αοιετσνηρ", 2.4), **dict.fromkeys("υπκμλςωάόίέ", 2.9), **dict.fromkeys("γδθχφβξζψήύώ", 3.8),
    **dict.fromkeys("יוהלארתבשמ", 2.3), **dict.fromkeys("נםפחקדעכצגטןזסךףץ", 3.3),
    **dict.fromkeys("اليمونرتبة", 2.3), **dict.fromkeys("عدسفكهحقجشطصخزضذغثظءأإآىؤئ", 3.4),
}  # fmt: skip
"""Letters of the smaller alphabets, the often used the cheaper."""
_OTHER = {"cyrillic": 7.0, "greek": 6.0, "hebrew": 6.0, "arabic": 6.0, "thai": 3.2, "kana": 3.6}
_JAPANESE = ("cp932", "euc_jp")
_ALL_CAPITALS = 0.4
_HAN, _RARE_HAN, _UNKNOWN_HAN, _HANGUL, _RARE_HANGUL = 5.2, 9.0, 12.0, 4.8, 9.0
_NARROW_KANA = 5.5
_FOREIGN_LETTER, _FOREIGN_ASCII = 12.0, 0.8
_NEIGHBOURS = 1.8
"""Two letters of a Latin alphabet beside each other, neither of which is of ASCII."""
_CAPITAL_WITHIN = 5.0
_MIXED = 6.0
"""Letters of two scripts beside each other."""
_SIGN, _SIGN_WITHIN = 4.0, 8.0
_BREAKS = "\t\r\n"
_GENTLE_SIGNS = frozenset("’‘–—“”«»„°№·´…§®™©")
_CJK = frozenset(("han", "kana", "hangul"))
_SELDOM = {
    "cp775": 1.5, "cp1257": 1.5, "cp860": 1.5, "cp861": 1.5, "cp865": 1.0, "cp855": 2.5, "cp720": 1.0, "koi8_u": 0.5,
    "iso8859_2": 0.5, "iso8859_5": 2.0, "iso8859_7": 4.0, "iso8859_15": 1.0, "euc_jp": 0.5, "mac_roman": 2.5,
}  # fmt: skip
"""What encodings cost that few packers wrote names in."""
_FROM_ELSEWHERE = 2.0
"""What a packer of the other kind costs."""
_OWN_LANGUAGE = 1.5
_MOST_NAMES, _MOST_BYTES = 300, 1 << 14
_EXAMPLES = 3
_CLOSE, _CLOSE_AT_ONE, _CLOSE_OF_FEW, _FEW = 3.0, 4.0, 5.0, 3
"""A reading whose cost is that near to the best is plausible too: in general, where both differ in one letter of all
names, and where there are few names."""


class Reading(Struct, frozen=True):
    """One way to read names."""

    encoding: str
    cost: float
    names: tuple[str, ...]
    """The names that were weighed, as they are read."""


def readings_of(names: Iterable[bytes], *, is_from_dos: bool, language: str = "") -> list[Reading]:
    """Return the possible readings of these raw names, the likeliest first; equal results count once."""
    sample = _sample(names)
    found: dict[tuple[str, ...], Reading] = {}
    for encoding in ENCODINGS:
        try:
            read = tuple(name.decode(encoding) for name in sample)
        except UnicodeDecodeError:
            continue
        cost = _cost(read, encoding, language)
        if cost is None:
            continue
        cost += _SELDOM.get(encoding, 0)
        if encoding not in BOTH and (encoding in DOS) != is_from_dos:
            cost += _FROM_ELSEWHERE
        if read not in found or cost < found[read].cost:
            found[read] = Reading(encoding, cost, read)
    return sorted(found.values(), key=lambda reading: reading.cost)


def are_close(best: Reading, other: Reading) -> bool:
    """Whether another reading is nearly as likely as the best."""
    if len(best.names) < _FEW:
        limit = _CLOSE_OF_FEW
    else:
        pairs = zip("".join(best.names), "".join(other.names), strict=False)
        limit = _CLOSE_AT_ONE if sum(one != two for one, two in pairs) == 1 else _CLOSE
    return other.cost - best.cost < limit


def told_apart(one: Reading, other: Reading) -> tuple[tuple[str, str], ...]:
    """Return some names that differ between two readings."""
    pairs = [pair for pair in zip(one.names, other.names, strict=True) if pair[0] != pair[1]]
    return tuple(pairs[:_EXAMPLES])


def own_language() -> str:
    """Return the two-letter language of the user's system; empty if it states none."""
    said = os.environ.get("LC_ALL") or os.environ.get("LC_CTYPE") or os.environ.get("LANG") or ""
    return said[:2].lower() if said[2:3] in ("_", ".", "") else ""


def _sample(names: Iterable[bytes]) -> list[bytes]:
    sample: dict[bytes, None] = {}
    size = 0
    for name in names:
        last = name.rstrip(b"/").rpartition(b"/")[2]
        for part in (last, *([] if not last.isascii() else name.split(b"/"))):
            if not part.isascii() and part not in sample:
                sample[part] = None
                size += len(part)
        if len(sample) >= _MOST_NAMES or size > _MOST_BYTES:
            break
    return list(sample)


def _cost(names: Sequence[str], encoding: str, language: str) -> float | None:
    """Return the cost of a reading; None for a character that no name has."""
    cost = 0.0
    letters: Counter[str] = Counter()
    plain: Counter[str] = Counter()
    scripts: Counter[str] = Counter()
    for name in names:
        before, before_kind = "", ""
        has_latin = False
        for at, char in enumerate(name):
            if char.isascii():
                if char in _BREAKS:
                    cost += _SIGN_WITHIN * (char != "\n")
                elif char < " " or char == "\x7f":
                    return None
                kind = "ascii" if char.isalpha() else ""
                if kind and before_kind in ("cyrillic", "greek", "hebrew", "arabic", *_CJK):
                    cost += _MIXED if before_kind not in _CJK else _MIXED - 2
                before, before_kind = char, kind
                continue
            kind = _kind(char)
            if kind == "none":
                return None
            following = name[at + 1 : at + 2]
            if kind == "sign":
                within = (before.isalpha() or following.isalpha()) and char not in _GENTLE_SIGNS
                cost += _SIGN_WITHIN if within else _SIGN
            elif kind == "latin":
                has_latin = True
                letters[_by_its_place(char.lower(), before.lower(), name[at + 1 : at + 3].lower())] += 1
                if before_kind == "latin":
                    cost += _NEIGHBOURS
                if char.isupper() and before.isalpha() and before.islower():
                    cost += _CAPITAL_WITHIN
                if char.islower() and (name[at - 2 : at] + following).isupper():
                    cost += _CAPITAL_WITHIN
                if before_kind not in ("", "latin", "ascii", "sign"):
                    cost += _MIXED
            else:
                scripts[kind] += 1
                cost += _of_script(char, kind, encoding, before, following)
                if char.isupper() and before.isalpha() and before.islower():
                    cost += _CAPITAL_WITHIN
                if before_kind == "ascii":
                    cost += _MIXED if kind not in _CJK else _MIXED - 2
                elif before_kind not in ("", "sign", kind) and not {before_kind, kind} <= {"han", "kana"}:
                    cost += _MIXED
            before, before_kind = char, kind
        if has_latin:
            stem = (name.rpartition(".")[0] or name).lower()
            plain.update(stem)
            plain.update({pair: count for pair in _DOUBLED if (count := stem.count(pair))})
    if letters:
        cost += min(_in_language(one, letters, plain) - _OWN_LANGUAGE * (one == language) for one in _LETTERS)
    if language in _SCRIPT_OF and scripts[_SCRIPT_OF[language]]:
        cost -= _OWN_LANGUAGE
    return cost


def _by_its_place(letter: str, before: str, rest: str) -> str:
    """Return the letter, or a placeholder if its language never writes it in this position.

    `rest`: what follows, two characters at most.
    """
    following = rest[:1]
    if letter == "ã":  # Portuguese: irmã, irmãs, pão, pães
        is_ending = not following.isalpha() or (following == "s" and not rest[1:].isalpha())
        return letter if is_ending or following in "oe" else _MISPLACED
    if letter == "õ":  # Portuguese: limões; Estonian anywhere
        return letter if following == "e" else _OTHER_O
    if letter == "ä":  # Slovak: mäso; others anywhere
        return letter if before in tuple("bmpv") else _OTHER_A
    if letter == "ě":  # Czech: něco
        return letter if before in tuple("bdfmnptv") else _MISPLACED
    if letter == "ï":  # Dutch, French, Catalan: maïs
        return letter if before.isalpha() and not _is_consonant(before) else _MISPLACED
    if letter == "ő":  # Hungarian: erdő; that with "es" behind it is Portuguese: leões
        return letter if rest != "es" else _MISPLACED
    if letter in "ŕĺ":  # Slovak: vŕba
        return letter if _is_consonant(before) and _is_consonant(following) else _MISPLACED
    return letter


def _is_consonant(char: str) -> bool:
    return char.isalpha() and char not in "aeiouy"


def _in_language(language: str, letters: "Counter[str]", plain: "Counter[str]") -> float:
    own = _LETTERS[language]
    cost = 0.0
    for letter, count in letters.items():
        rank = own.find(letter)
        cost += count * (_FOREIGN_LETTER if rank < 0 else 0.8 + 0.9 * math.log(1 + rank))
    foreign = sum(plain[letter] for letter in _NOT_OF[language])
    if language in _WITHOUT_DOUBLED:
        foreign += sum(plain[pair] for pair in _DOUBLED)
    return cost + _FOREIGN_ASCII * foreign


def _of_script(char: str, kind: str, encoding: str, before: str, following: str) -> float:
    if kind == "han":
        return _of_han(char, encoding)
    if kind == "hangul":
        return _HANGUL if _in_first_level(char, "euc_kr", range(0xB0, 0xC9)) else _RARE_HANGUL
    if kind == "narrow kana":
        return _NARROW_KANA
    if kind == "kana" and encoding not in _JAPANESE:
        return _FOREIGN_LETTER
    cost = _COSTS.get(char.lower(), _OTHER[kind]) + _ALL_CAPITALS * (char.isupper() and before.isupper())
    is_last = not following.isalpha()
    if (char == "ς" and not is_last) or (char == "σ" and is_last and before) or (char in "ךםןףץ" and not is_last):
        cost += 4
    if unicodedata.combining(char) and not before.isalpha() and not unicodedata.combining(before or " "):
        cost += 5
    return cost


def _of_han(char: str, encoding: str) -> float:
    if encoding == "cp949":
        return _RARE_HAN
    standard, usual, all_of = {
        "cp932": ("euc_jp", range(0xB0, 0xD0), range(0xB0, 0xF5)),
        "euc_jp": ("euc_jp", range(0xB0, 0xD0), range(0xB0, 0xF5)),
        "big5": ("big5", range(0xA4, 0xC7), range(0xA4, 0xFA)),
    }.get(encoding, ("gb2312", range(0xB0, 0xD8), range(0xB0, 0xF8)))
    if _in_first_level(char, standard, usual):
        return _HAN
    return _RARE_HAN if _in_first_level(char, standard, all_of) else _UNKNOWN_HAN


@lru_cache(maxsize=1 << 14)
def _in_first_level(char: str, standard: str, leads: range) -> bool:
    try:
        coded = char.encode(standard)
    except UnicodeEncodeError:
        return False
    return len(coded) == 2 and coded[0] in leads


@lru_cache(maxsize=1 << 14)
def _kind(char: str) -> str:
    """Return a character's script, `sign`, or `none` for one that no name has."""
    code = ord(char)
    category = unicodedata.category(char)
    if category[0] == "C" or 0x2500 <= code <= 0x259F or char == "\ufffd":
        return "none"
    if 0xFF61 <= code <= 0xFF9F:
        return "narrow kana"
    if category[0] not in "LM":
        return "sign"
    if 0x3040 <= code <= 0x30FF:
        return "kana"
    if 0x3400 <= code <= 0x9FFF or 0xF900 <= code <= 0xFAFF or code in (0x3005, 0x3006):
        return "han"
    if 0xAC00 <= code <= 0xD7A3 or 0x3131 <= code <= 0x318E:
        return "hangul"
    name = unicodedata.name(char, "")
    for word, script in (
        ("LATIN", "latin"), ("CYRILLIC", "cyrillic"), ("GREEK", "greek"), ("HEBREW", "hebrew"), ("ARABIC", "arabic"),
        ("THAI", "thai"),
    ):  # fmt: skip
        if name.startswith(word):
            return script
    return "sign"
