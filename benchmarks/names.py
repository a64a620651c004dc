"""How often names that do not say their encoding are read right, on words from a system's dictionaries.

    python -m benchmarks.names --seed 1 --sets 40          # with the packages of docs/formats.md installed

Words come from /usr/share/dict and /usr/share/hunspell, and for languages without such a list from the translated names
of countries, languages and currencies (iso-codes). Nothing of them is kept.
"""

import argparse
import gettext
import random
import re
import sys
from collections import Counter
from pathlib import Path

from usufruct.archives.readings import BOTH, DOS, are_close, readings_of

_DICTIONARIES = {
    "de": "ngerman", "fr": "french", "es": "spanish", "it": "italian", "pl": "polish", "sv": "swedish", "da": "danish",
    "pt": "portuguese", "nl": "dutch", "uk": "ukrainian", "bg": "bulgarian", "ca": "catalan",
}  # fmt: skip
_SPELLERS = {
    "ru": "ru_RU", "el": "el_GR", "cs": "cs_CZ", "hu": "hu_HU", "tr": "tr_TR", "he": "he_IL", "ro": "ro_RO",
    "lt": "lt_LT", "lv": "lv_LV", "et": "et_EE", "hr": "hr_HR", "sk": "sk_SK", "is": "is_IS", "ar": "ar", "th": "th_TH",
}  # fmt: skip
_PACKED_IN = {
    "de": "cp437 cp850 cp1252", "fr": "cp850 cp1252 cp437", "es": "cp850 cp1252", "it": "cp850 cp1252",
    "pl": "cp852 cp1250 iso8859_2", "sv": "cp850 cp1252", "da": "cp850 cp865 cp1252", "pt": "cp850 cp860 cp1252",
    "nl": "cp850 cp1252", "uk": "cp1251 koi8_u cp866", "bg": "cp1251", "ca": "cp850 cp1252",
    "ru": "cp866 cp1251 koi8_r", "el": "cp737 cp1253", "cs": "cp852 cp1250", "hu": "cp852 cp1250", "tr": "cp857 cp1254",
    "he": "cp862 cp1255", "ro": "cp852 cp1250", "lt": "cp775 cp1257", "lv": "cp775 cp1257", "et": "cp775 cp1257",
    "hr": "cp852 cp1250", "sk": "cp852 cp1250", "is": "cp861 cp1252", "ar": "cp720 cp1256", "th": "cp874",
    "ja": "cp932 euc_jp", "zh_CN": "gb18030", "zh_TW": "big5", "ko": "cp949",
}  # fmt: skip
_ENOUGH = 50
_SIZES = (1, 3, 5, 10)


def words_of(language: str) -> list[str]:
    """Words of a language, as this system has them; none where it has not."""
    if language in _DICTIONARIES:
        file = Path("/usr/share/dict", _DICTIONARIES[language])
        words = file.read_text("utf-8", "replace").split() if file.exists() else []
    elif language in _SPELLERS:
        words = _speller(Path("/usr/share/hunspell", _SPELLERS[language]))
    else:
        words = []
        for domain in ("iso_3166-1", "iso_639-2", "iso_4217"):
            file = Path("/usr/share/locale", language, "LC_MESSAGES", f"{domain}.mo")
            if file.exists():
                with file.open("rb") as texts:
                    found = gettext.GNUTranslations(texts)._catalog  # type: ignore[attr-defined]
                words += sorted({text for text in found.values() if isinstance(text, str) and len(text) < 40})
    return [word for word in words if len(word) > 2 and "/" not in word]


def _speller(stem: Path) -> list[str]:
    if not stem.with_suffix(".dic").exists():
        return []
    said = re.search(rb"^SET\s+(\S+)", stem.with_suffix(".aff").read_bytes(), re.MULTILINE)
    encoding = said[1].decode().replace("microsoft-", "") if said else "utf-8"
    lines = stem.with_suffix(".dic").read_bytes().decode(encoding, "replace").splitlines()[1:]
    return [re.split(r"[/\t]", line)[0].strip() for line in lines]


def set_of(words: list[str], encoding: str, count: int, chance: random.Random) -> list[str]:
    """So many names that are not plain ASCII, made of one or two words, as people write them; fewer if none fit."""
    names: list[str] = []
    for _ in range(300 * count):
        name = " ".join(chance.choice(words) for _ in range(chance.choice((1, 1, 2))))
        name = chance.choice((str.lower, str, str.capitalize, str.upper))(name) + chance.choice((".gel", ".png", ""))
        try:
            raw = name.encode(encoding)
        except UnicodeEncodeError:
            continue
        if not raw.isascii():
            names.append(name)
            if len(names) == count:
                break
    return names


def outcome(names: list[str], encoding: str) -> str:
    """How these names fare in an encoding."""
    found = readings_of([name.encode(encoding) for name in names], is_from_dos=encoding in (*DOS, *BOTH))
    right = tuple(dict.fromkeys(names))
    is_close = len(found) > 1 and are_close(found[0], found[1])
    if is_close:
        return "asked" if right in (found[0].names, found[1].names) else "asked, both wrong"
    return "right" if found and found[0].names == right else "wrong"


def main() -> None:
    """Tell the table."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--sets", type=int, default=40, help="in each encoding of each language")
    asked = parser.parse_args()
    lists = {language: words for language in _PACKED_IN if len(words := words_of(language)) > _ENOUGH}
    sys.stdout.write(f"{len(lists)} languages; not here: {', '.join(sorted(set(_PACKED_IN) - set(lists))) or 'none'}\n")
    for count in _SIZES:
        chance, found = random.Random(asked.seed), Counter[str]()
        for language, words in lists.items():
            for encoding in _PACKED_IN[language].split():
                for _ in range(asked.sets):
                    if len(names := set_of(words, encoding, count, chance)) == count:
                        found[outcome(names, encoding)] += 1
        total = found.total()
        shares = ", ".join(f"{what} {number} ({number / total:.1%})" for what, number in found.most_common())
        sys.stdout.write(f"{count:>3} names: {total} sets: {shares}\n")


if __name__ == "__main__":
    main()
