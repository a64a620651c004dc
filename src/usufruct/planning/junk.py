"""Tell by its name whether something is junk, notes, or a file that can run."""

import re
import unicodedata
from collections.abc import Iterable, Sequence
from operator import itemgetter

from usufruct.planning.everyday import EVERYDAY, suffix_of
from usufruct.planning.names import folded, lowered

# Compared without case but otherwise to the letter: folding would make "__MACOSX" of a folder "Mac OS X"
# and "._*" of every dotted name.
_JUNK_NAMES = frozenset(
    [
        "icon\r",
        "thumbs.db",
        "ehthumbs.db",
        "ehthumbs_vista.db",
        "desktop.ini",
        "system volume information",
        "lost+found",
        "cvs",
    ]
)
_JUNK_FORMS = re.compile(
    r"__macosx|\.ds_store|\._.*|\.appledouble|\.apdisk|\.lsoverride|\.localized|\.volumeicon\.icns"
    r"|\.thumbnails|\.spotlight-v100|\.trashes|\.trash-\d+|\.fseventsd|\.temporaryitems|\.documentrevisions-v100"
    r"|\$recycle\.bin|\.directory|@eadir|#recycle|\.fuse_hidden.*|\.nfs[0-9a-f]{8,}"
    r"|.*~|~\$.*|\.~lock\..*#|\.#.*|#.*#|\.[^/]*\.sw[opx]"
    r"|\.git|\.gitignore|\.gitattributes|\.gitmodules|\.svn|\.hg|\.hgignore|\.bzr"
    r"|\.idea|\.vscode|\.vs|\.editorconfig",
    re.IGNORECASE | re.DOTALL,
)
_AT_ONCE = 10_000
"""Names that are lowered at once, so that all of very many are never there twice."""
_FIRSTS, _LASTS = frozenset("_.$@#~"), frozenset("~")
"""With one of these a name of such a form begins, or ends."""

_TEXT = frozenset(
    ["", *"txt text md markdown rst rtf pdf html htm doc docx odt asc adoc org 1st tex log "
    "de en es fr it ja nl pl pt ru zh ofl mit gpl gpl2 gpl3 lgpl bsd cc0 apache lesser".split()]
)  # fmt: skip
_ALWAYS_NOTES = frozenset(["nfo", "diz", "url", "webloc"])
_IMAGES = frozenset("png jpg jpeg gif webp bmp tif tiff avif".split())
_READABLE = _IMAGES | _TEXT - {""}
_MOST_WORDS = 4
"""Words of a name that is one of notes as a whole: `Please read me first`."""
_ACCENTED = re.compile(r"([A-Za-z])[\u0300-\u036f]+")
_SIGNS_IN_FRONT = re.compile(r"^[\W\d_]+")
_BEGINS = re.compile(
    r"readme|read(?:this|it)?first|readthis|licen[cs]e|licen[cstz]|lizenz|liesmich|lisezmoi|leggimi|leeme|leiame|leesmij"
    r"|changelog|versionhistory|releasenotes|whatsnew|termsofuse|nutzungsbedingungen|przeczytaj|czytaj|licencja"
    r"|прочти|прочитай|читать|лицензия|読んで|お読み|はじめに|説明|ライセンス|利用規約|请读|請讀|说明|說明|使用说明|许可|授权|읽어|라이선스|라이센스"
)
_FIRST_WORDS = frozenset(
    "copying copyright copyrights credit credits author authors contributors acknowledgements acknowledgments install "
    "installation installing instructions instruction howto fontlog ofl eula disclaimer attribution danksagung "
    "urheber autoren installationsanleitung anleitung instrucciones instalacion istruzioni".split()
)
_WHOLE = frozenset(
    "changes history news notice notices terms version versions about manifest usage manual faq thanks todo info "
    "credits authors copyright help support donate checksums sha256sums sha1sums md5sums md5 autores auteurs autori "
    "hinweise".split()
)
_PREVIEW_NAMES = re.compile(
    r"(?:previews?|covers?|screenshots?|thumbnails?|thumbs?|vorschau)(?:[\W\d]|(?<=\d)x(?=\d))*"
)
"""With a number, a date or a size behind."""
_ENDS = re.compile(r"readme|licen[cs]es?|lizenz|copying|changelog|credits|ofl")
_PACKED = frozenset(["gz", "bz2", "xz", "zst"])
_OF_NOTES = frozenset(
    "doc docs documentation documents manual manuals handbook readme readmes license licenses licence licences legal "
    "preview previews screenshot screenshots thumbnail thumbnails thumbs dokumentation lizenzen vorschau".split()
)
"""Names of directories of notes and previews."""

_PROGRAMS = frozenset(
    # Windows.
    "exe com bat cmd msi msix msp mst msc scr pif ps1 psm1 psd1 vbs vbe jse ws wsf wsh wsc sct hta cpl reg "
    "lnk scf xll wll ocx ax dll sys drv appref-ms gadget pyw pyz "
    "application appinstaller appcontent-ms settingcontent-ms library-ms search-ms searchconnector-ms chm diagcab msu "
    "xbap ps1xml psc1 shb shs vb website "
    # Everywhere.
    "jar jnlp sh bash zsh fish csh tcsh ksh run bin elf out so appimage desktop service timer socket "
    # macOS.
    "app command workflow terminal dylib kext prefpane pkg mpkg scpt scptd".split()
)
_OTHERS_TOO = frozenset("bin so out com run sys drv".split())
"""Suffixes of programs that other files have as well: only their mode or content tells."""
_LIBRARY = re.compile(r"\.so(?:\.\d+)+$", re.IGNORECASE)
"""A shared library with its version behind."""


def is_junk(name: str) -> bool:
    """Whether operating systems, file managers, editors or version control leave something of this name behind."""
    return name.lower() in _JUNK_NAMES or _JUNK_FORMS.fullmatch(name) is not None


def may_hold_junk(names: Sequence[str]) -> bool:
    """Whether any of these names may be junk: a quick test, for nearly always none is."""
    if not _FIRSTS.isdisjoint(map(itemgetter(0), names)) or not _LASTS.isdisjoint(map(itemgetter(-1), names)):
        return True
    some = (names[start : start + _AT_ONCE] for start in range(0, len(names), _AT_ONCE))
    return not all(_JUNK_NAMES.isdisjoint(lowered(part)) for part in some)


def may_be_notes(suffix: str) -> bool:
    """Whether names with a suffix (with its dot, in lower case) may be those of notes."""
    return len(suffix) < 2 or suffix[1:] in _TEXT | _IMAGES | _ALWAYS_NOTES | _PACKED


def is_notes(name: str, *, by_whole_name: bool = False) -> bool:
    """Whether a file is a readme, a licence or the like, or a preview: made for people, not for the application.

    With `by_whole_name` the whole name must say so: `Authors of gardens.txt` does not.
    """
    stem, dot, suffix = name.rpartition(".")
    if not dot or not stem:
        stem, suffix = name, ""
    suffix = suffix.lower()
    if suffix in _PACKED:
        # `changelog.Debian.gz`: the middle part says who wrote it.
        return is_notes(stem, by_whole_name=by_whole_name) or is_notes(stem.partition(".")[0], by_whole_name=True)
    if suffix in _TEXT:
        stem = _without_accents(stem)
        plain = _SIGNS_IN_FRONT.sub("", folded(stem))
        words = re.findall(r"[^\W\d_]+", stem.lower())
        if plain in _WHOLE or (len(words) == 1 and (words[0] in _WHOLE or words[0] in _FIRST_WORDS)):
            return True
        begins = _BEGINS.match(plain)
        if begins:
            return not by_whole_name or len(words) <= _MOST_WORDS
        if words and suffix and not by_whole_name and _ENDS.fullmatch(words[-1]):
            return True
        together = "".join(words[:2])
        return (
            together in _FIRST_WORDS and len(words) == 2
            if by_whole_name
            else not _FIRST_WORDS.isdisjoint({*words[:1], together})
        )
    if suffix in _IMAGES:
        return _PREVIEW_NAMES.fullmatch(folded(stem)) is not None
    return suffix in _ALWAYS_NOTES


def _without_accents(name: str) -> str:
    """Return `Leeme` for `Léeme`. The marks of other scripts are letters of their own and stay."""
    if name.isascii():
        return name
    return unicodedata.normalize("NFC", _ACCENTED.sub(r"\1", unicodedata.normalize("NFD", name)))


def is_directory_of_notes(name: str) -> bool:
    """Whether a directory of this name holds documentation, licences or previews."""
    return _SIGNS_IN_FRONT.sub("", folded(name)) in _OF_NOTES


def can_be_read(name: str) -> bool:
    """Whether a person can read or view the file: a text, a document or a picture."""
    return suffix_of(name) in _READABLE


def may_be_programs(suffixes: Iterable[str]) -> bool:
    """Whether a name with one of these suffixes, in lower case and with their dot, may be of a file that can run."""
    return any(suffix[1:] in _PROGRAMS or suffix[1:].isdecimal() for suffix in suffixes)


def can_run(name: str, *, is_marked: bool) -> bool:
    """Whether the system could start a file of this name.

    The executable mark of the archive counts only for names without an everyday type: on file systems without modes,
    archives mark every picture as executable.
    """
    suffix = suffix_of(name)
    if suffix in _PROGRAMS and suffix not in _OTHERS_TOO:
        return True
    if suffix.isdecimal() and _LIBRARY.search(name):
        return True
    return is_marked and suffix not in EVERYDAY


_ELF, _SCRIPT, _WINDOWS = b"\x7fELF", b"#!", b"MZ"
_MACH = tuple(bytes.fromhex(mark) for mark in ("feedface", "feedfacf", "cefaedfe", "cffaedfe", "cafebabe"))
HEAD = 64
"""Bytes by which a program is known."""


def begins_program(head: bytes) -> bool:
    """Whether a file's first bytes are those of a program or a script."""
    if head.startswith((_ELF, *_MACH)):
        return True
    if head.startswith(_SCRIPT):
        return head[2:].lstrip(b" \t").startswith((b"/", b"env ", b"C:"))
    return head.startswith(_WINDOWS) and len(head) >= HEAD and b"\0" in head


_TOLD = EVERYDAY | (_PROGRAMS - _OTHERS_TOO)


def only_content_tells(name: str) -> bool:
    """Whether the name does not say if the file is a program, so that its content must be looked at."""
    suffix = suffix_of(name)
    return suffix not in _TOLD and not (suffix.isdecimal() and _LIBRARY.search(name))
