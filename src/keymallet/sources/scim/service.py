"""Getting resources out of a SCIM service: pages by index or cursor, retries, and holding the count.

A server clamps the size of a page without a word, so what is asked next follows from what came. Pages
that bring nothing new end the reading as incomplete instead of going on for ever.
"""

from __future__ import annotations

import email.utils
import ssl
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from types import TracebackType
from typing import Any, Self

import httpx
import msgspec
from tenacity import RetryCallState, Retrying, retry_if_exception, stop_after_attempt, wait_exponential_jitter

from keymallet.core.base.bounded import within
from keymallet.core.base.problems import KeymalletError, fail
from keymallet.core.facts.reading import Reading
from keymallet.sources.request import Request
from keymallet.sources.scim.spelling import respelt
from keymallet.sources.sections import ScimSection
from keymallet.sources.shared.secret import is_loopback

USERS, GROUPS = "Users", "Groups"
NOT_THERE = "the service has no"
NOT_UNDERSTOOD = "is answered with HTTP 400"
GONE = ("the service cannot be reached", "the service stayed busy")
_NO_WAY_IN = ("the service does not let", *GONE)
_ATTEMPTS = 6
_LONGEST_WAIT = 60.0  # seconds, whatever the service asks for
_LARGEST_PAGE = 64 * 1024 * 1024  # bytes
_BUSY = (429, 502, 503, 504)
_NO_TRUST = "CERTIFICATE_VERIFY_FAILED"
_ACCEPT = "application/scim+json, application/json"

Resource = dict[str, Any]


class _BusyError(Exception):
    """The service asks to come back later."""

    def __init__(self, status: int, after: float | None) -> None:
        super().__init__(f"HTTP {status}")
        self.after = after


class ScimService:
    """One service, as the reader may see it."""

    def __init__(self, section: ScimSection, request: Request, reading: Reading) -> None:
        self.section = section
        self.reading = reading
        self.request = request
        headers = {"Accept": _ACCEPT}
        address = httpx.URL(section.url)
        if address.scheme not in ("http", "https") or not address.host:
            raise fail("this is no address of a service", file=section.url, hint="https://host/path")
        if section.token_from:
            if address.scheme != "https" and not is_loopback(address.host):
                raise fail("a token is not sent in the clear", file=section.url, hint="https://…")
            token = request.secret(section.token_from, "token-from").reveal()
            if not token.isascii() or not token.isprintable() or not token:
                raise fail("token-from: what stands there cannot be a token", file=section.url)
            headers["Authorization"] = f"Bearer {token}"
        verify: bool | str = section.verify_certificate
        if section.ca_file:
            if not (request.folder / section.ca_file).is_file():
                raise fail("there is no such file", file=section.ca_file, hint="ca-file in the estate file")
            verify = str(request.folder / section.ca_file)
        self.client = httpx.Client(
            base_url=section.url.rstrip("/") + "/",
            headers=headers,
            verify=_context(verify),
            timeout=httpx.Timeout(section.time_limit),
            follow_redirects=False,
            # A proxy sees what is sent in the clear: it is asked only for what is encrypted on its way.
            trust_env=address.scheme == "https",
        )
        self._by_cursor: bool | None = None

    def __enter__(self) -> Self:
        """Use it."""
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        """Close the connections."""
        self.client.close()

    def pages(self, endpoint: str, attributes: Iterable[str]) -> Iterator[list[Resource]]:
        """Every resource of an endpoint, each once, page by page: only one page is held at a time.

        Where the service stops short, the reading says so.
        """
        if self._by_cursor is None:
            self._by_cursor = self._offers_cursors()
        asked = {"count": str(self.section.page_size), "attributes": ",".join(attributes)}
        if not asked["attributes"]:
            del asked["attributes"]
        seen: set[str] = set()
        place: dict[str, str] = {"cursor": ""} if self._by_cursor else {"startIndex": "1"}
        came = repeated = 0
        totals: list[int] = []
        while True:
            try:
                page = self._page(endpoint, {**place, **asked})
            except KeymalletError as error:
                if not seen and "attributes" in asked and NOT_UNDERSTOOD in error.problems[0].message:
                    # Some take no name of an extension there: what they give unasked is read.
                    del asked["attributes"]
                    self.reading.remarks.append(
                        f"{endpoint.lower()}: the service takes no list of attributes; asked without one,"
                        " it leaves out what it gives only on request"
                    )
                    continue
                if not seen:
                    raise
                self._stopped(endpoint, f"after {len(seen):,}, {error.problems[0].message}")
                return
            listed = _resources(page)
            # One without an id cannot be known again: it counts as new.
            keys = [str(pair.get("id") or f"#{came + place}") for place, pair in enumerate(listed)]
            fresh = {key: pair for key, pair in zip(keys, listed, strict=True) if key not in seen}
            repeated += len(listed) - len(fresh)
            seen |= fresh.keys()
            came += len(listed)
            if fresh:
                yield list(fresh.values())
            if isinstance(page.get("totalResults"), int):
                totals.append(page["totalResults"])
            self.request.advanced(len(seen), totals[-1] if totals else None, endpoint.lower())
            following = self._next(page, place, came, totals[-1] if totals else None, len(listed))
            if following is None:
                break
            if not fresh:
                self._stopped(endpoint, "the service gives pages without end that hold nothing new")
                break
            place = following
        self._hold_the_count(endpoint, len(seen), totals, repeated)

    def told(self, path: str) -> list[Resource]:
        """What the service tells of itself under a path: a list, or one thing. Raises KeymalletError."""
        answer = self._page(path, {})
        return _resources(answer) if "Resources" in answer else [answer]

    def _next(
        self, page: Resource, place: dict[str, str], came: int, total: int | None, listed: int
    ) -> dict[str, str] | None:
        """Where the next page begins; None after the last one."""
        if "cursor" in place:
            cursor = page.get("nextCursor")
            return {"cursor": cursor} if isinstance(cursor, str) and cursor else None
        if not listed or (total is not None and came >= total):
            return None
        return {"startIndex": str(came + 1)}

    def _hold_the_count(self, endpoint: str, number: int, totals: list[int], repeated: int) -> None:
        noun = endpoint.lower()
        if repeated:
            remark = f"{repeated:,} {noun} came twice: the service changed while it was read"
            self.reading.remarks.append(remark)
        if totals and number < totals[-1]:
            self._stopped(endpoint, f"{number:,} of {totals[-1]:,} arrived")
        elif totals and totals[0] != totals[-1]:
            # What goes away before the place of the next page moves others past it, unseen.
            remark = f"their number went from {totals[0]:,} to {totals[-1]:,} meanwhile: some may be missing"
            self._stopped(endpoint, remark)

    def _stopped(self, endpoint: str, why: str) -> None:
        self.reading.incomplete.append(f"{endpoint.lower()}: {why}")

    def _offers_cursors(self) -> bool:
        """Whether the service says that it pages by cursor (RFC 9865)."""
        try:
            config = self._page("ServiceProviderConfig", {})
        except KeymalletError as error:
            if error.problems[0].message.startswith(_NO_WAY_IN):
                raise
            return False  # a service need not tell of itself
        paging = config.get("pagination")
        return isinstance(paging, dict) and paging.get("cursor") is True

    def _page(self, path: str, parameters: dict[str, str]) -> Resource:
        """One answer, with retries while the service is busy or the connection is cut."""
        retries = Retrying(
            stop=stop_after_attempt(_ATTEMPTS),
            wait=_wait,
            retry=retry_if_exception(_may_pass),
            reraise=True,
        )
        try:
            return retries(self._in_time, path, parameters)
        except _BusyError as busy:
            raise self._fault(f"the service stayed busy ({busy}) through {_ATTEMPTS} attempts") from None
        except httpx.HTTPError as error:
            text = " ".join(str(error).split())[:160] or type(error).__name__
            hint = "ca-file in the estate names the certificate of who signed it" if _NO_TRUST in text else ""
            raise self._fault(f"the service cannot be reached: {text}", hint) from None

    def _in_time(self, path: str, parameters: dict[str, str]) -> Resource:
        """One answer within the time limit, whatever drips."""
        limit = self.section.time_limit
        late = f"no whole answer within {limit} s (time-limit)"
        return within(limit, lambda: self._once(path, parameters), lambda: httpx.ReadTimeout(late))

    def _once(self, path: str, parameters: dict[str, str]) -> Resource:
        with self.client.stream("GET", path, params=parameters) as answer:
            status = answer.status_code
            if status in _BUSY:
                raise _BusyError(status, _asked_to_wait(answer.headers.get("Retry-After", "")))
            data = bytearray()
            for piece in answer.iter_bytes():
                data += piece
                if len(data) > _LARGEST_PAGE:
                    raise self._fault(f"a page is larger than {_LARGEST_PAGE // 1024 // 1024} MB")
        if status in (401, 403):
            raise self._fault(f"the service does not let the reader in (HTTP {status}){_detail(data)}")
        if status in (404, 501):
            raise self._fault(f"{NOT_THERE} /{path} (HTTP {status})")
        if status != 200:
            raise self._fault(f"/{path} is answered with HTTP {status}{_detail(data)}")
        try:
            body = msgspec.json.decode(bytes(data))
        except (msgspec.DecodeError, RecursionError, UnicodeDecodeError):
            what = "a web page" if data[:200].lstrip()[:1] == b"<" else "not to be understood as JSON"
            hint = "is the address the one of the SCIM service?"
            raise self._fault(f"the answer is {what}", hint) from None
        if not isinstance(body, dict):
            raise self._fault("the answer is no SCIM message")
        spelt: Resource = respelt(body)
        return spelt

    def _fault(self, message: str, hint: str = "") -> KeymalletError:
        return fail(message, file=self.section.url, hint=hint)


def _context(verify: bool | str) -> Any:

    if isinstance(verify, str):
        try:
            return ssl.create_default_context(cafile=verify)
        except (ssl.SSLError, OSError) as error:
            raise fail(f"no certificate stands there: {error}", file=verify) from None
    return verify


def _may_pass(error: BaseException) -> bool:
    """Whether it is worth trying again: a certificate that is not trusted stays so."""
    return isinstance(error, _BusyError | httpx.TransportError) and _NO_TRUST not in str(error)


def _wait(state: RetryCallState) -> float:
    """As long as the service asks for, else longer from time to time."""
    error = state.outcome.exception() if state.outcome else None
    if isinstance(error, _BusyError) and error.after is not None:
        return min(max(error.after, 0.0), _LONGEST_WAIT)
    return wait_exponential_jitter(multiplier=0.2, max=_LONGEST_WAIT / 4, jitter=0.2)(state)


def _asked_to_wait(text: str) -> float | None:
    """`Retry-After`: a number of seconds, or a date (RFC 9110 10.2.3)."""
    if text.strip().isascii() and text.strip().isdigit():
        return float(text.strip()[:6])
    try:
        return (email.utils.parsedate_to_datetime(text) - datetime.now(UTC)).total_seconds()
    except (ValueError, TypeError, IndexError):
        return None


def _resources(page: Resource) -> list[Resource]:
    listed = page.get("Resources")
    return [resource for resource in listed if isinstance(resource, dict)] if isinstance(listed, list) else []


def _detail(data: bytearray) -> str:
    """What a SCIM error says of itself."""
    try:
        body = msgspec.json.decode(bytes(data))
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError):
        return ""
    detail = body.get("detail") if isinstance(body, dict) else None
    return f": {detail[:120]}" if isinstance(detail, str) else ""
