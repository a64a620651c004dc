"""Which names are junk, which are notes and which are files that can run."""

import re
from collections.abc import Sequence
from operator import itemgetter

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
    r"|\.spotlight-v100|\.trashes|\.trash-\d+|\.fseventsd|\.temporaryitems|\.documentrevisions-v100"
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
    [
        "",
        "txt",
        "text",
        "md",
        "markdown",
        "rst",
        "rtf",
        "pdf",
        "html",
        "htm",
        "doc",
        "docx",
        "odt",
        "asc",
        "adoc",
        "org",
        "1st",
        "de",
        "en",
        "es",
        "fr",
        "it",
        "ja",
        "nl",
        "pl",
        "pt",
        "ru",
        "zh",
        "ofl",
        "mit",
        "gpl",
        "gpl2",
        "gpl3",
        "lgpl",
        "bsd",
        "cc0",
        "apache",
        "lesser",
    ]
)
_ALWAYS_NOTES = frozenset(["nfo", "diz", "url", "webloc"])
_IMAGES = frozenset(["png", "jpg", "jpeg", "gif", "webp", "bmp", "tif", "tiff", "avif"])
_BEGINS = re.compile(r"readme|licen[cs]e|changelog")
_FIRST_WORDS = frozenset(
    [
        "copying",
        "copyright",
        "credit",
        "credits",
        "author",
        "authors",
        "contributors",
        "acknowledgements",
        "acknowledgments",
        "install",
        "installation",
        "installing",
        "instructions",
        "howto",
        "fontlog",
        "ofl",
        "eula",
        "lisezmoi",
        "liesmich",
        "leeme",
        "leggimi",
        "releasenotes",
    ]
)
_WHOLE = frozenset(
    [
        "changes",
        "history",
        "news",
        "notice",
        "terms",
        "version",
        "about",
        "manifest",
        "usage",
        "manual",
        "faq",
        "thanks",
        "todo",
    ]
)
_PREVIEW_NAMES = re.compile(r"(?:previews?|covers?|screenshots?|thumbnails?|thumbs?)(?:\W*\d*\W*)")

_PROGRAMS = frozenset(
    [
        "exe",
        "com",
        "bat",
        "cmd",
        "msi",
        "msix",
        "scr",
        "pif",
        "ps1",
        "psm1",
        "vbs",
        "vbe",
        "wsf",
        "wsh",
        "hta",
        "cpl",
        "reg",
        "lnk",
        "jar",
        "app",
        "sh",
        "bash",
        "zsh",
        "fish",
        "csh",
        "ksh",
        "command",
        "run",
        "appimage",
        "bin",
        "elf",
        "out",
        "desktop",
        "dll",
        "so",
        "dylib",
        "sys",
        "drv",
    ]
)


def is_junk(name: str) -> bool:
    """What operating systems, file managers, editors and version control leave behind."""
    return name.lower() in _JUNK_NAMES or _JUNK_FORMS.fullmatch(name) is not None


def may_hold_junk(names: Sequence[str]) -> bool:
    """Whether any of these names may be junk. Asked of very many at once, for nearly always none is."""
    if not _FIRSTS.isdisjoint(map(itemgetter(0), names)) or not _LASTS.isdisjoint(map(itemgetter(-1), names)):
        return True
    some = (names[start : start + _AT_ONCE] for start in range(0, len(names), _AT_ONCE))
    return not all(_JUNK_NAMES.isdisjoint(lowered(part)) for part in some)


def may_be_notes(suffix: str) -> bool:
    """Whether names with a suffix (with its dot, in lower case) may be those of notes."""
    return len(suffix) < 2 or suffix[1:] in _TEXT or suffix[1:] in _IMAGES or suffix[1:] in _ALWAYS_NOTES


def is_notes(name: str) -> bool:
    """A readme, licence and the like, or a preview image: written for people, not for the application."""
    stem, dot, suffix = name.rpartition(".")
    if not dot or not stem:
        stem, suffix = name, ""
    suffix = suffix.lower()
    if suffix in _TEXT:
        words = re.findall(r"[^\W\d_]+", stem.lower())
        return bool(
            _BEGINS.match(folded(stem))
            or not _FIRST_WORDS.isdisjoint({*words[:1], "".join(words[:2])})
            or (len(words) == 1 and words[0] in _WHOLE)
        )
    if suffix in _IMAGES:
        return _PREVIEW_NAMES.fullmatch(folded(stem)) is not None
    return suffix in _ALWAYS_NOTES


def may_hold_programs(names: Sequence[str]) -> bool:
    """Whether any of these names may be one of a file that can run, likewise."""
    return not _PROGRAMS.isdisjoint(map(str.lower, {name.rpartition(".")[2] for name in names}))


def can_run(name: str, *, is_marked: bool) -> bool:
    """A file that the system could start.

    The archive's own executable mark counts only for names without a type: archives made on file systems
    without modes mark every picture as executable.
    """
    dot = name.rfind(".", 1)
    suffix = name[dot + 1 :].lower() if dot > 0 else ""
    return suffix in _PROGRAMS or (is_marked and not suffix)
