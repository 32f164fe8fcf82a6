"""Times and permissions of entries, as they are shown."""

from __future__ import annotations

import datetime

_EPOCH = datetime.datetime(1970, 1, 1)
_WINDOWS = datetime.datetime(1601, 1, 1)


def attribute_text(what: str, number: int) -> str:
    """An attribute of an entry in words; a time that cannot be is shown as its number."""
    if what == "permissions":
        return f"{number:04o}"
    if not what.endswith("time"):
        return str(number)
    try:
        return _time(what, number).strftime("%Y-%m-%d %H:%M:%S")
    except (ValueError, OverflowError):
        return str(number)


def _time(what: str, number: int) -> datetime.datetime:
    """The time that a number is; ValueError or OverflowError when it is none."""
    if what == "unix time":
        return _EPOCH + datetime.timedelta(seconds=number)
    if what == "windows time":
        return _WINDOWS + datetime.timedelta(microseconds=number // 10)
    date, time = number >> 16, number & 0xFFFF
    day = date & 31, date >> 5 & 15, 1980 + (date >> 9)
    return datetime.datetime(day[2], day[1], day[0], time >> 11, time >> 5 & 63, 2 * (time & 31))
