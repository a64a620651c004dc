"""Convert times in archives to nanoseconds since 1970, and back."""

import time
from datetime import UTC, datetime

_WINDOWS_EPOCH = 116_444_736_000_000_000
"""1970 in units of 100 ns since 1601."""


def of_dos(packed: int, *, zone_minutes: int | None = None) -> int | None:
    """Convert a DOS date and time: local, or in a zone so many minutes west of Greenwich.

    None for an impossible date.
    """
    date, clock = packed >> 16, packed & 0xFFFF
    month, day = date >> 5 & 15, date & 31
    if not (1 <= month <= 12 and day):
        return None
    year, hour, minute, second = 1980 + (date >> 9), clock >> 11, clock >> 5 & 63, (clock & 31) * 2
    try:
        if zone_minutes is None:
            seconds = int(time.mktime((year, month, day, hour, minute, second, 0, 0, -1)))
        else:
            seconds = int(datetime(year, month, day, hour, minute, second, tzinfo=UTC).timestamp()) + 60 * zone_minutes
    except (OverflowError, ValueError):
        return None
    return seconds * 1_000_000_000


def as_dos(modified: int) -> tuple[int, int]:
    """Return date and time as DOS has them: local, in steps of two seconds, from 1980 to 2107."""
    year, month, day, hour, minute, second = time.localtime(modified // 1_000_000_000)[:6]
    if not 1980 <= year <= 2107:
        return 1 << 5 | 1, 0
    return (year - 1980) << 9 | month << 5 | day, hour << 11 | minute << 5 | second // 2


def of_windows(ticks: int) -> int:
    """Convert units of 100 ns since 1601."""
    return (ticks - _WINDOWS_EPOCH) * 100


def as_windows(modified: int) -> int:
    """Return units of 100 ns since 1601; 0 for earlier times."""
    return max(0, modified // 100 + _WINDOWS_EPOCH)
