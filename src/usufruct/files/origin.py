"""Where a download came from, if its file system recorded that."""

import os
import sys
from pathlib import Path

_ADDRESSES = ("user.xdg.origin.url", "user.xdg.referrer.url")
_MAC_ATTRIBUTE = "com.apple.metadata:kMDItemWhereFroms"


def origin_of(path: str) -> str:
    """The address that a file was downloaded from; empty if unknown."""
    if sys.platform == "win32":
        return _from_stream(path)
    for name in (*_ADDRESSES, _MAC_ATTRIBUTE):
        value = _attribute(path, name)
        if value and name == _MAC_ATTRIBUTE:
            return _from_property_list(value)
        if value:
            return value.decode("utf-8", "replace").strip("\0 \n")
    return ""


def _attribute(path: str, name: str) -> bytes:
    # The standard library has this call only on Linux.
    read = getattr(os, "getxattr", None)
    if read is None:
        return b""
    try:
        value: bytes = read(path, name)
    except OSError:
        return b""
    return value


def _from_property_list(value: bytes) -> str:
    import plistlib  # imported here: most systems record no such thing

    try:
        addresses = plistlib.loads(value)
    except (plistlib.InvalidFileException, ValueError):
        return ""
    return next((str(address) for address in addresses if address), "") if isinstance(addresses, list) else ""


def _from_stream(path: str) -> str:
    """From the zone information that Windows keeps beside a downloaded file."""
    try:
        text = Path(path + ":Zone.Identifier").read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
    lines = dict(line.split("=", 1) for line in text.splitlines() if "=" in line)
    return lines.get("HostUrl") or lines.get("ReferrerUrl") or ""
