"""Tell a desktop about Usufruct: an entry for file managers, and a service that watches the downloads.

The formats are those of the Desktop Entry Specification of freedesktop.org and of systemd's unit files. The digest of
each written file is recorded, and the file is removed only if it is still what was written.
"""

import contextlib
import json
import os
import re
import shutil
import sys
from pathlib import Path

from blake3 import blake3
from msgspec import Struct

from usufruct.actions.context import Context
from usufruct.errors import MachineError
from usufruct.files.copying import replace_text
from usufruct.files.looking import digest_of
from usufruct.files.private import make_private
from usufruct.files.small_texts import small_text

_RECORD = "desktop.json"
_SERVICE = "usufruct-downloads.service"
_TYPES = (
    "zip", "x-7z-compressed", "vnd.rar", "x-rar", "x-tar", "x-compressed-tar", "x-bzip-compressed-tar",
    "x-xz-compressed-tar", "x-zstd-compressed-tar", "x-lzip-compressed-tar", "x-tarz", "gzip", "x-cpio",
    "x-cpio-compressed", "x-rpm", "x-arj", "x-arc", "x-zoo", "x-lha", "vnd.ms-cab-compressed", "x-xar",
)  # fmt: skip
"""Kinds of `application/` that the shared MIME database knows, and Usufruct reads."""
_IN_UNIT = re.compile(r"([\"\\])")
_RESERVED = re.compile(r"([\"`$\\])")


class Told(Struct, frozen=True):
    """What was written or removed, and what was left because it is not what was written."""

    paths: tuple[str, ...]
    left: tuple[str, ...] = ()


class _OnRecord(Struct, frozen=True):
    """What was written: files with their digests ("" for a link), and the folders made for them, outer before inner."""

    files: dict[str, str]
    folders: list[str]


def turn_on(context: Context) -> Told:
    """Write both files and the link; it may be repeated.

    Raises MachineError on a system without such a desktop, and if a file that is not ours has one of the names.
    """
    if not context.system().has_open_desktop:
        raise MachineError(
            "This system has no open standard for adding Usufruct to file managers.",
            remedy="`usufruct downloads --watch` in a terminal tells of what arrives.",
        )
    record = _recorded(context)
    texts = {str(_entry_path()): _entry(), str(_service_path()): _service()}
    link = str(_wanted_link())
    for path in (*texts, link):
        if os.path.lexists(path) and not _is_ours(path, record):
            raise MachineError(
                f"{path} is there already, and it is not what Usufruct wrote.",
                remedy="Move it away, then try again.",
                path=path,
            )
    for path, text in texts.items():
        _make_above(path, record)
        # Recorded before it is made, so that a crash leaves nothing unknown.
        record.files[path] = blake3(text.encode()).hexdigest()
        _write(context, record)
        replace_text(Path(path), text, context.system())
    _make_above(link, record)
    record.files[link] = ""
    _write(context, record)
    if not os.path.islink(link):
        os.symlink(_service_path(), link)
    return Told(tuple(record.files))


def turn_off(context: Context) -> Told:
    """Remove them, and the folders that were made for them; what was changed since is left."""
    gone: list[str] = []
    left: list[str] = []
    record = _recorded(context)
    for path in record.files:
        if not os.path.lexists(path):
            continue
        if _is_ours(path, record):
            os.unlink(path)
            gone.append(path)
        else:
            left.append(path)
    for folder in reversed(record.folders):
        with contextlib.suppress(OSError):
            os.rmdir(folder)
    (context.paths.data / _RECORD).unlink(missing_ok=True)
    return Told(tuple(gone), tuple(left))


def _is_ours(path: str, record: _OnRecord) -> bool:
    digest = record.files.get(path)
    if digest is None:
        return False
    if not digest:
        return os.path.islink(path) and os.readlink(path) == str(_service_path())
    return os.path.isfile(path) and not os.path.islink(path) and digest_of(path).hex() == digest


def _make_above(path: str, record: _OnRecord) -> None:
    missing = [str(folder) for folder in Path(path).parents if not folder.exists()]
    make_private(Path(path).parent)
    record.folders.extend(reversed(missing))


def _recorded(context: Context) -> _OnRecord:
    try:
        found = json.loads(small_text(context.paths.data / _RECORD))
        return _OnRecord(
            {str(path): str(digest) for path, digest in found["files"].items()}, [*map(str, found["folders"])]
        )
    except (OSError, ValueError, LookupError, AttributeError, TypeError, RecursionError):
        return _OnRecord({}, [])


def _write(context: Context, record: _OnRecord) -> None:
    text = json.dumps({"files": record.files, "folders": record.folders}, indent=2) + "\n"
    replace_text(context.paths.data / _RECORD, text, context.system())


def _directory(variable: str, usual: str) -> Path:
    said = os.environ.get(variable, "")
    return Path(said) if said.startswith("/") else Path.home() / usual


def _entry_path() -> Path:
    return _directory("XDG_DATA_HOME", ".local/share") / "applications" / "usufruct-add.desktop"


def _service_path() -> Path:
    return _directory("XDG_CONFIG_HOME", ".config") / "systemd" / "user" / _SERVICE


def _wanted_link() -> Path:
    """Return the link by which a session starts the service."""
    return _service_path().parent / "default.target.wants" / _SERVICE


def _program() -> list[str]:
    """Return the words that run Usufruct, wherever it is installed."""
    found = shutil.which("usufruct")
    return [found] if found else [sys.executable, "-m", "usufruct"]


def _quoted(word: str) -> str:
    """Quote a word of an Exec line, and that again as a text in the entry."""
    quoted = '"' + _RESERVED.sub(r"\\\1", word.replace("%", "%%")) + '"'
    return quoted.replace("\\", "\\\\")


def _entry() -> str:
    words = " ".join(map(_quoted, _program()))
    types = "".join(f"application/{kind};" for kind in _TYPES)
    return (
        "[Desktop Entry]\n"
        "Type=Application\n"
        "Name=Add to its application\n"
        "Comment=Put what is in an archive where its application looks for it\n"
        f"Exec={words} desktop add %F\n"
        "Icon=package-x-generic\n"
        "Terminal=true\n"
        "NoDisplay=true\n"
        "Categories=Utility;\n"
        f"MimeType={types}\n"
    )


def _service() -> str:
    words = " ".join(
        '"' + _IN_UNIT.sub(r"\\\1", word).replace("%", "%%").replace("$", "$$") + '"' for word in _program()
    )
    return (
        "[Unit]\n"
        "Description=Tell of downloads that Usufruct can place\n"
        "\n"
        "[Service]\n"
        f"ExecStart={words} downloads --watch --notify\n"
        "Restart=on-failure\n"
        "Nice=10\n"
        "\n"
        "[Install]\n"
        "WantedBy=default.target\n"
    )
