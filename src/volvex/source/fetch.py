"""Files from the web: over HTTP, when the user asks, and within bounds of size and time.

A server is not trusted: it may hang, send for ever, lie about sizes, redirect in a circle, or answer with a page for
people.
"""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from http import HTTPStatus
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from volvex import __version__
from volvex.errors import NotFoundError, RefusedError, UsageError

if TYPE_CHECKING:
    import httpx

SECONDS = 120.0  # for all of a file
SILENCE = 15.0  # without a byte
REDIRECTS = 5


@dataclass(frozen=True)
class Fetched:
    """What a server sent: the content (None: it is still the one that is known), and how to ask for it the next
    time."""

    data: bytes | None
    etag: str = ""
    modified: str = ""


def fetch(
    address: str, largest: int, etag: str = "", modified: str = "", seconds: float = SECONDS, silence: float = SILENCE
) -> Fetched:
    """Fetch a file of at most `largest` bytes. With the `etag` or the time of a known one only when the server has
    another.

    UsageError for what is no address, NotFoundError when the server has no such file, RefusedError for everything else
    that goes wrong.
    """
    import httpx

    path_of(address)
    headers = {"User-Agent": f"volvex/{__version__}", "Accept-Encoding": "identity"}
    headers |= {"If-None-Match": etag} if etag else {}
    headers |= {"If-Modified-Since": modified} if modified else {}
    deadline = time.monotonic() + seconds
    client = httpx.Client(follow_redirects=True, max_redirects=REDIRECTS, timeout=silence)

    def ask() -> Fetched:
        with client, client.stream("GET", address, headers=headers) as answer:
            return _read(answer, address, largest, deadline)

    try:
        return _within(ask, address, seconds)
    except httpx.TooManyRedirects as error:
        raise RefusedError(f"{address} leads in a circle", "another address") from error
    except httpx.TimeoutException as error:
        raise RefusedError(f"{address} does not answer", "the same later") from error
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        raise RefusedError(f"{address} cannot be fetched: {_said(error)}", "checking the address") from error


def path_of(address: str) -> str:
    """The path in an address; UsageError for what is none."""
    try:
        parts = urlsplit(address)
        if parts.scheme in ("http", "https") and parts.hostname and parts.port != 0:
            return parts.path
    except ValueError:
        pass
    raise UsageError(f"{address} is no address", "https://...")


def _within(ask: Callable[[], Fetched], address: str, seconds: float) -> Fetched:
    """What a question gives within some seconds, headers included, of which a server may send a byte now and then for
    ever.

    It is asked in a thread of its own, which is left behind when it takes longer: it ends with the process.
    """
    answers: queue.SimpleQueue[Fetched | BaseException] = queue.SimpleQueue()

    def work() -> None:
        try:
            answers.put(ask())
        except BaseException as error:
            answers.put(error)
            raise SystemExit from error

    threading.Thread(target=work, daemon=True).start()
    try:
        answer = answers.get(timeout=seconds)
    except queue.Empty:
        raise RefusedError(f"{address} takes too long", "the same later") from None
    if isinstance(answer, BaseException):
        raise answer
    return answer


def _read(answer: httpx.Response, address: str, largest: int, deadline: float) -> Fetched:
    if address.startswith("https:") and answer.url.scheme != "https":
        raise RefusedError(f"{address} leads to an address that is not safe: {answer.url}", "another address")
    if answer.status_code == HTTPStatus.NOT_MODIFIED:
        return Fetched(None)
    if answer.status_code in (HTTPStatus.NOT_FOUND, HTTPStatus.GONE):
        raise NotFoundError(f"{address}: the server has no such file", "another address")
    if answer.status_code != HTTPStatus.OK:
        raise RefusedError(
            f"{address}: the server answers {answer.status_code} {answer.reason_phrase}", "the same later"
        )
    told = answer.headers.get("content-length", "")
    if told.isdigit() and int(told) > largest:
        raise RefusedError(f"{address} has {int(told):,} bytes, at most {largest:,} are taken", "a smaller file")
    data = bytearray()
    for chunk in answer.iter_bytes():
        data += chunk
        if len(data) > largest:
            raise RefusedError(f"{address} sends more than {largest:,} bytes", "a smaller file")
        if time.monotonic() > deadline:
            raise RefusedError(f"{address} takes too long", "the same later")
    return Fetched(bytes(data), answer.headers.get("etag", ""), answer.headers.get("last-modified", ""))


def _said(error: Exception) -> str:
    return str(error).splitlines()[0].lower() if str(error) else type(error).__name__
