"""A stand-in cloud directory: a small SCIM service of the railway's tenant, to try things out on.

It answers at once, or as badly as it is told to: slowly, busy, cutting connections, with users that
come and go while they are paged through. It listens on this machine alone, and its token is no secret.
"""

from __future__ import annotations

import json
import random
import ssl
import time
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Lock
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from keymallet.demo.bulk import done
from keymallet.demo.patched import patched
from keymallet.demo.staff_service import staff
from keymallet.demo.tenant import in_force, resource_types, schemas, tenant

TOKEN = "gentian-valley"
"""What the service asks for. It guards made-up people."""

LARGEST_PAGE = 100


@dataclass(frozen=True)
class Manners:
    """How the service behaves: seconds before each answer, and how many of a hundred answers go wrong.

    `token_for` is for how many answers the token is taken, before it has run out.
    """

    slow: float = 0.0
    busy: int = 0
    cut: int = 0
    changing: bool = False
    cursor: bool = False
    token_for: int | None = None
    seed: int = 7


@dataclass
class Tenant:
    """What the service holds, rendered once."""

    manners: Manners
    resources: dict[str, list[dict[str, Any]]] = field(init=False)
    random: random.Random = field(init=False)
    answers: int = 0
    _lock: Lock = field(default_factory=Lock)

    def __post_init__(self) -> None:
        users, groups = tenant()
        self.resources = {"Users": users, "Groups": groups, **in_force(), "staff/Users": staff()}
        self.resources |= {"Schemas": schemas(), "ResourceTypes": resource_types()}
        self.random = random.Random(self.manners.seed)

    def takes(self, authorization: str | None) -> bool:
        """Whether this is the token, and it has not run out."""
        with self._lock:
            self.answers += 1
            ran_out = self.manners.token_for is not None and self.answers > self.manners.token_for
        return authorization == f"Bearer {TOKEN}" and not ran_out

    def chance(self, of_a_hundred: int) -> bool:
        """Whether something that goes wrong so often goes wrong now."""
        with self._lock:
            return self.random.randrange(100) < of_a_hundred

    def answer(self, path: str, asked: dict[str, str]) -> tuple[int, dict[str, Any]]:
        """The answer to a request."""
        if path.removeprefix("staff/") == "ServiceProviderConfig":
            return 200, {
                "pagination": {"cursor": self.manners.cursor, "index": True},
                "patch": {"supported": True},
                "etag": {"supported": True},
            }
        if path not in self.resources:
            return 404, _error(404, f"there is no {path}")
        listed = self.resources[path]
        if self.manners.changing and path == "Users":
            with self._lock:  # the first of those that are left goes away with each page
                listed = self.resources[path] = listed[1:]
        return self._page(listed, asked)

    def bulk(self, request: dict[str, Any]) -> tuple[int, dict[str, Any]]:
        """The answer to a bulk request, which changes users and groups."""
        with self._lock:
            return 200, done(request, self.resources["Users"], self.resources.setdefault("Groups", []))

    def patch(self, path: str, request: dict[str, Any], version: str | None) -> tuple[int, dict[str, Any]]:
        """The answer to a PATCH of a user."""
        with self._lock:
            user = next((user for user in self.resources["Users"] if path == f"Users/{user['id']}"), None)
            if user is None:
                return 404, _error(404, f"there is no {path}")
            status = patched(user, request, version)
            return status, user if status == 200 else _error(
                status, "the user has changed, or the request is odd"
            )

    def _page(self, listed: list[dict[str, Any]], asked: dict[str, str]) -> tuple[int, dict[str, Any]]:
        by_cursor = "cursor" in asked
        if by_cursor and not self.manners.cursor:
            return 400, _error(400, "this service does not page by cursor", "invalidCursor")
        try:
            count = min(max(int(asked.get("count", LARGEST_PAGE)), 0), LARGEST_PAGE)
            first = int(asked["cursor"] or 1) if by_cursor else max(int(asked.get("startIndex", 1)), 1)
        except ValueError:
            return 400, _error(400, "count, startIndex or cursor is not to be understood", "invalidValue")
        page = listed[first - 1 : first - 1 + count]
        body: dict[str, Any] = {
            "schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"],
            "totalResults": len(listed),
            "itemsPerPage": len(page),
            "Resources": page,
        }
        following = first + len(page)
        if by_cursor and following <= len(listed):
            body["nextCursor"] = str(following)
        if not by_cursor:
            body["startIndex"] = first
        return 200, body


def _error(status: int, detail: str, kind: str = "") -> dict[str, Any]:
    body = {
        "schemas": ["urn:ietf:params:scim:api:messages:2.0:Error"],
        "status": str(status),
        "detail": detail,
    }
    return {**body, "scimType": kind} if kind else body


def serve(manners: Manners, port: int, certificate: Path | None = None) -> ThreadingHTTPServer:
    """A server on this machine's own port (0: any that is free), ready to `serve_forever`.

    With a `certificate`, a file that holds its key as well, it speaks TLS.
    """
    held = Tenant(manners)

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            time.sleep(manners.slow)
            parts = urlsplit(self.path)
            asked = {name: item[0] for name, item in parse_qs(parts.query, keep_blank_values=True).items()}
            if not held.takes(self.headers.get("Authorization")):
                self._send(
                    401,
                    _error(401, "the token is not the one of this service"),
                    {"WWW-Authenticate": "Bearer"},
                )
            elif held.chance(manners.busy):
                self._send(429, _error(429, "too many requests"), {"Retry-After": "1"})
            else:
                status, answer = held.answer(parts.path.strip("/"), asked)
                self._send(status, answer, {}, cut=held.chance(manners.cut))

        def do_POST(self) -> None:
            data = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            if not held.takes(self.headers.get("Authorization")):
                self._send(401, _error(401, "the token is not the one of this service"), {})
            elif urlsplit(self.path).path.strip("/") != "Bulk":
                self._send(404, _error(404, "only bulk requests are taken"), {})
            else:
                try:
                    status, answer = held.bulk(json.loads(data))
                except (ValueError, AttributeError, TypeError, KeyError):
                    status, answer = 400, _error(400, "the request is not to be understood", "invalidSyntax")
                self._send(status, answer, {})

        def do_PATCH(self) -> None:
            data = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            if not held.takes(self.headers.get("Authorization")):
                self._send(401, _error(401, "the token is not the one of this service"), {})
                return
            try:
                path = unquote(urlsplit(self.path).path.strip("/"))
                status, answer = held.patch(path, json.loads(data), self.headers.get("If-Match"))
            except (ValueError, AttributeError, TypeError, KeyError):
                status, answer = 400, _error(400, "the request is not to be understood", "invalidSyntax")
            self._send(status, answer, {})

        def _send(
            self, status: int, body: dict[str, Any], headers: dict[str, str], cut: bool = False
        ) -> None:
            data = json.dumps(body).encode()
            self.send_response(status)
            for name, value in {**headers, "Content-Type": "application/scim+json"}.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(data)))
            self.end_headers()
            self.wfile.write(data[: len(data) // 2] if cut else data)
            if cut:
                self.close_connection = True

        def log_message(self, *words: Any) -> None:
            pass

    server = _Server(("127.0.0.1", port), Handler)
    if certificate is not None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        # The handshake is done by the thread of its connection: one client that stalls holds up nobody.
        server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    return server


class _Server(ThreadingHTTPServer):
    """Says nothing of clients that break off, as those do that do not trust its certificate."""

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Clients go away; that is theirs to tell."""
