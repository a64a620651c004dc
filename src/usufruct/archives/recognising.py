"""Recognise files that are not archives, and explain how they come to have such a name."""

import re

from msgspec import Struct

from usufruct.files.sources import Source

HEAD = 8192
"""Bytes at the start by which a file is told."""
_MOST_TEXT = 4096
"""Bytes of a file that may be only an address or a message."""
_PAGE = re.compile(
    rb"\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:!doctype\s+html|html|head|body)\b", re.IGNORECASE | re.DOTALL
)
_TITLE = re.compile(rb"<title[^>]*>\s*(.*?)\s*</title>", re.IGNORECASE | re.DOTALL)
_ADDRESS = re.compile(r"(?:https?|ftp)://[^\s<>\"']+|magnet:\?[^\s<>\"']+", re.IGNORECASE)
_SHORTCUT = re.compile(r"\[InternetShortcut\]|<plist|\[Desktop Entry\]", re.IGNORECASE)
_SORTS = {"image": "picture", "video": "video", "audio": "sound", "font": "typeface"}
_DOCUMENTS = {
    "pdf": "a PDF document",
    "rtf": "a text document (RTF)",
    "doc": "a text document (DOC)",
    "docx": "a text document (DOCX)",
    "odt": "a text document (ODT)",
    "xls": "a spreadsheet (XLS)",
    "xlsx": "a spreadsheet (XLSX)",
    "ods": "a spreadsheet (ODS)",
    "ppt": "a presentation (PPT)",
    "pptx": "a presentation (PPTX)",
    "odp": "a presentation (ODP)",
    "epub": "an electronic book (EPUB)",
    "ps": "a document to be printed (PostScript)",
}
_PACKED_DOCUMENTS = frozenset(("docx", "xlsx", "pptx", "odt", "ods", "odp", "epub"))
"""Documents that are archives themselves, and that nobody wants unpacked."""
_OTHERS = {"sqlite": "a database (SQLite)", "swf": "a film for a web page (SWF)", "wasm": "a program (WebAssembly)"}


class Recognised(Struct, frozen=True):
    """A file recognised by its content."""

    what: str
    """In words, with its article: `a picture (PNG)`."""
    meaning: str = ""
    """A sentence on how it comes that it lies there under an archive's name."""
    remedy: str = "Download the archive itself; this may be something that goes with it."


def recognised(source: Source, *, expects_archive: bool) -> Recognised | None:
    """Return what a file is by its content; None if it may be an archive or anything.

    A text counts as a site's message only if one `expects_archive`.
    """
    size = source.size
    head = source.read_at(0, HEAD)
    if not size:
        return Recognised("empty", "Nothing was downloaded.", "Download it again.")
    if not any(head) and not any(source.read_at(max(0, size - HEAD), HEAD)):
        return Recognised(
            "nothing but zeros",
            "The download broke off after its place on the disk was reserved.",
            "Download it again.",
        )
    text = _short_text(head, size)
    return _page(head) or _address(text) or _by_library(head) or (_message(text) if expects_archive else None)


def packed_document(source: Source) -> Recognised | None:
    """Return an office document or e-book, which is a zip inside; None for any other zip."""
    return _by_library(source.read_at(0, HEAD), _PACKED_DOCUMENTS)


def _page(head: bytes) -> Recognised | None:
    if not _PAGE.match(head):
        return None
    title = _TITLE.search(head)
    said = title[1].decode("utf-8", "replace")[:80] if title else ""
    return Recognised(
        f'a web page ("{said}")' if said else "a web page",
        "Sites send one instead of a file when they want a login, or when the link has expired.",
        "Open the link in a browser, log in there if it asks, and download it again.",
    )


def _short_text(head: bytes, size: int) -> str:
    """Return a file's text if it is short and only text; else empty."""
    if size > _MOST_TEXT or b"\0" in head:
        return ""
    try:
        text = head[:size].decode("utf-8").strip()
    except UnicodeDecodeError:
        return ""
    return text if all(c.isprintable() or c in "\r\n\t" for c in text) else ""


def _address(text: str) -> Recognised | None:
    """Recognise a file that contains an address instead of the content."""
    addresses = _ADDRESS.findall(text)
    rest = text.replace(addresses[0], "") if addresses else ""
    if len(addresses) != 1 or (len(rest) > 1 and not _SHORTCUT.search(rest)):
        return None
    return Recognised(
        f"a link to {addresses[0][:200]}",
        "It holds an address, not what is to be had there.",
        "Open the link in a browser, and download what it leads to.",
    )


def _message(text: str) -> Recognised | None:
    """Recognise a message that a site sent instead of the file."""
    if not text:
        return None
    return Recognised(
        f'a short text that begins "{text.splitlines()[0][:80]}"',
        "Sites send a message instead of a file when something went wrong.",
        "Read it, and download the file again.",
    )


def _by_library(head: bytes, only: frozenset[str] | None = None) -> Recognised | None:
    # Imported here: needed only for files that are not archives, and slow to import.
    import filetype

    found = filetype.guess(head)
    if found is None or (only is not None and found.extension not in only):
        return None
    kind, sort = found.extension, found.mime.partition("/")[0]
    if kind in ("exe", "elf"):
        return Recognised(
            "a program",
            "Nothing is run. Some programs unpack themselves, but this one carries no archive that can be read.",
            "If you trust it, run it, let it unpack into a new folder, and add that folder packed as a zip.",
        )
    what = _DOCUMENTS.get(kind) or _OTHERS.get(kind)
    if not what and sort in _SORTS:
        what = f"a {_SORTS[sort]} ({kind.upper()})"
    if not what:
        return None
    return Recognised(
        what,
        "Only its name says otherwise; it may well be sound.",
        f"If it is what you want, let its name end in .{kind}; otherwise download the archive itself.",
    )
