"""Tell whether the name of a directory means nothing, or says that its content is not current."""

import re

from usufruct.planning.names import folded

_NOTHING = frozenset(
    map(
        folded,
        "archive archives asset assets bin bundle collection common content contents custom data default dist "
        "distribution download downloads export extras file files folder gfx graphics image images img "
        "media misc miscellaneous mods new newfolder other others output pack package packs part parts picture "
        "pictures pics png public release resource resources root set sets sound sounds stuff texture textures "
        "tmp temp unpacked untitled unzipped v zip".split(),
    )
)
_NEW_FOLDER = re.compile(r"(?:new|neuer|nouveau|nuova|nueva)?(?:folder|ordner|dossier|cartella|carpeta)\(?\d*\)?")
_NUMBER = re.compile(r"\d+")
_NUMBERED = re.compile(r"(?:downloads?|archives?|files?|folder|untitled|unzipped|unpacked)\d+")
_HASH = re.compile(r"(?=.*\d)[0-9a-f]{8,}")
_SYSTEM = re.compile(r"(?:.*/)?usr(?:/local)?(?:/(?:share|lib|lib64))?(?:/games)?")
"""Of the Filesystem Hierarchy Standard."""
_NOT_CURRENT = frozenset(
    map(
        folded,
        "old older backup backups bak unused former formerly obsolete deprecated archived trash deleted source "
        "sources src work works wip sicherung quellen ancien vecchio viejo".split(),
    )
)


def says_nothing(name: str) -> bool:
    """Whether a name says nothing about the content: a generic word, a bare number, a hash."""
    plain = folded(name)
    return (
        plain in _NOTHING
        or any(form.fullmatch(plain) is not None for form in (_NUMBER, _NUMBERED, _HASH, _NEW_FOLDER))
        or not plain.strip("._")
    )


def is_of_system(path: str) -> bool:
    """Whether every system has this directory, such as `usr/share`, so that it is not of one program."""
    return _SYSTEM.fullmatch(path) is not None


def is_not_current(name: str) -> bool:
    """Whether a name says that the content is older, unused or unfinished."""
    plain = folded(name)
    if plain in _NOT_CURRENT or plain.strip("_.()[]") in _NOT_CURRENT:
        return True
    words = re.findall(r"[^\W\d_]+", name.lower())
    return len(words) > 1 and words[0] in _NOT_CURRENT - _WORKED_ON and words[-1] in _OF_CONTENT


_WORKED_ON = frozenset("source sources src work works".split())
_OF_CONTENT = frozenset("version versions file files stuff content contents copy copies one ones".split())
"""`Old versions`, `backup files`."""
