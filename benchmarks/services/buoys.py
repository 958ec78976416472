"""The buoys' service, written by hand, right or with one of many mistakes. Everything is made up.

``service(mistake, clock)`` is a WSGI application. What each mistake is in the model's words says buoys-mistakes.yaml.
"""

from __future__ import annotations

import gzip
import hashlib
import json
import traceback
from base64 import urlsafe_b64decode
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from hmac import digest
from http import HTTPStatus
from itertools import count
from typing import Any

SECRET = b"made-up-secret-of-the-buoys-alone-0000"
ORIGIN = "https://chart.example"
ROLES = {"ines": "warden", "jory": "keeper"}


ORDER = ["name-tag", "safe", "browsers", "net", "small", "who", "fair", "may", "fresh", "body", "form"]


def _order(*swapped: str) -> list[str]:
    """The order with stages moved: each pair says whom, and in front of whom."""
    found = list(ORDER)
    for who, before in zip(swapped[::2], swapped[1::2], strict=True):
        found.remove(who)
        found.insert(found.index(before), who)
    return found


ORDERS = {
    "cors-inside-who": _order("browsers", "fair"),
    "net-inside-who": _order("net", "fair"),
    "net-outside-cors": _order("net", "browsers"),
    "fair-outside-who": _order("fair", "who"),
    "net-innermost": [*(one for one in ORDER if one not in ("net", "body", "form")), "net", "body", "form"],
    "safe-inside-net": _order("safe", "small"),
    "form-before-may": _order("body", "may", "form", "may"),
    "who-outermost": _order("who", "name-tag"),
}
"""Where stages stand, by mistake."""


class Oops(Exception):
    """A refusal, or an error of the handlers'."""

    def __init__(self, status: int, message: str, *fields: tuple[str, str]) -> None:
        self.status, self.message, self.fields = status, message, list(fields)


@dataclass
class Call:
    """A request as the wrappers see it."""

    method: str
    path: str
    fields: dict[str, str]
    body: bytes
    address: str
    name: str = ""


@dataclass
class Reply:
    """What comes back."""

    status: int
    fields: list[tuple[str, str]] = field(default_factory=list)
    body: bytes = b""

    def get(self, name: str) -> str | None:
        """A field's value."""
        return next((value for key, value in self.fields if key.lower() == name.lower()), None)

    def put(self, name: str, value: str) -> None:
        """A field in the place of those of its name."""
        self.fields = [pair for pair in self.fields if pair[0].lower() != name.lower()]
        self.fields.append((name, value))

    def vary(self, name: str) -> None:
        """Another name in Vary."""
        had = self.get("Vary")
        self.put("Vary", f"{had}, {name}" if had else name)


Handler = Callable[[Call], Reply]
ROUTES = {"/buoys": "GET", "/adrift": "GET", "/broken": "GET"}


def _route_of(path: str) -> tuple[str, str]:
    parts = path.strip("/").split("/")
    if path in ROUTES:
        return parts[0], ROUTES[path]
    if len(parts) == 2 and parts[0] == "buoys":
        return "buoy", "GET"
    if len(parts) == 3 and parts[0] == "buoys" and parts[2] == "moves":
        return "move", "POST"
    return "", ""


def service(mistake: str, now: Callable[[], float]) -> Callable[..., Iterable[bytes]]:
    """The application, with this mistake."""
    is_ = mistake.__eq__
    numbers = count(1)
    windows: dict[str, tuple[float, int]] = {}

    def content(call: Call) -> Reply:
        route, method = _route_of(call.path)
        if not route:
            raise Oops(404, "There is nothing here")
        if method != ("GET" if call.method == "HEAD" else call.method) or (
            is_("head-refused") and call.method == "HEAD"
        ):
            if is_("404-for-405"):
                raise Oops(404, "There is nothing here")
            allow = [("Allow", "GET, HEAD" if method == "GET" else method)]
            raise Oops(405, "Not allowed here", *([] if is_("no-allow") else allow))
        if route == "adrift":
            raise Oops(
                500 if is_("adrift-is-500") else 400 if is_("adrift-is-400") else 409,
                "The buoy is adrift" if not is_("adrift-is-500") else "",
            )
        if route == "broken":
            raise RuntimeError("the gauge at 192.0.2.9 is rusty")
        long = "a-very-long-name-that-makes-this-content-worth-to-be-compressed-so-that-it-is-more-than-a-hundred"
        found: dict[str, Any] = {"buoys": ["north", "south", long]}
        if route == "buoys":
            kept = "no-store" if is_("listed-no-store") else "public, max-age=60"
            return Reply(
                200, [("Content-Type", "application/json"), ("Cache-Control", kept)], json.dumps(found).encode()
            )
        buoy = call.path.split("/")[2]
        if route == "buoy":
            found = {"buoy": buoy, "of": call.name}
            return Reply(
                200, [("Content-Type", "application/json"), ("Cache-Control", "no-store")], json.dumps(found).encode()
            )
        status = 200 if is_("status-200") else 201
        return Reply(status, [("Content-Type", "application/json"), ("Location", f"/buoys/{buoy}")], b'{"moved": true}')

    def tagged(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            reply = inner(call)
            if is_("no-request-id"):
                return reply
            reply.put("X-Trace-Id" if is_("other-request-id") else "X-Request-Id", f"r-{next(numbers)}")
            return reply

        return wrapped

    def safe(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            reply = inner(call)
            if not is_("no-security"):
                reply.put("X-Content-Type-Options", "nosniff")
                reply.put("X-Frame-Options", "SAMEORIGIN" if is_("same-origin-frames") else "DENY")
            return reply

        return wrapped

    def browsers(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            if is_("no-cors"):
                return inner(call)
            origin = call.fields.get("origin", "")
            listed = (
                origin == ORIGIN
                or (is_("reflected") and bool(origin))
                or (is_("suffix") and origin.endswith(".example"))
            )
            wild = is_("any-origin")
            if origin and call.method == "OPTIONS" and "access-control-request-method" in call.fields:
                reply = Reply(204)
                if listed or wild:
                    reply.put("Access-Control-Allow-Methods", "GET, HEAD" if is_("no-post") else "GET, HEAD, POST")
                    names = "content-type" if is_("no-authorization") else "authorization, content-type"
                    reply.put("Access-Control-Allow-Headers", names)
                    reply.put("Access-Control-Max-Age", "60" if is_("max-age-60") else "600")
            else:
                reply = inner(call)
                if (listed or wild) and not is_("not-exposed"):
                    reply.put("Access-Control-Expose-Headers", "x-request-id")
            if not wild and not is_("no-vary-origin"):
                reply.vary("Origin")
            if listed or wild:
                reply.put("Access-Control-Allow-Origin", "*" if wild else origin)
                if not wild and not is_("no-credentials"):
                    reply.put("Access-Control-Allow-Credentials", "true")
            return reply

        return wrapped

    def problem(status: int, message: str, fields: list[tuple[str, str]]) -> Reply:
        if is_("text-errors"):
            return Reply(status, [*fields, ("Content-Type", "text/plain; charset=utf-8")], message.encode())
        kind = "application/json" if is_("json-errors") else "application/problem+json"
        content = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": message}
        return Reply(
            200 if is_("success-errors") else status, [*fields, ("Content-Type", kind)], json.dumps(content).encode()
        )

    def net(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            try:
                return inner(call)
            except Oops as error:
                return problem(error.status, error.message, error.fields)
            except RuntimeError:
                if is_("html-500"):
                    return Reply(500, [("Content-Type", "text/html; charset=utf-8")], b"<h1>Something went wrong</h1>")
                return problem(500, traceback.format_exc() if is_("stack") else "Something went wrong", [])

        return inner if is_("no-net") else wrapped

    def small(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            reply = inner(call)
            worth = reply.status == 304 and _route_of(call.path)[0] == "buoys"
            worth = worth or len(reply.body) >= (1 if is_("gzip-all") else 100)
            if is_("no-gzip") or not worth:
                return reply
            if not is_("no-vary-coding"):
                reply.vary("Accept-Encoding")
            wanted = call.fields.get("accept-encoding", "")
            refused = "gzip;q=0" in wanted.replace(" ", "") and not is_("q-zero")
            if reply.body and (("gzip" in wanted and not refused) or is_("gzip-unasked")):
                reply.body = gzip.compress(reply.body, mtime=0)
                reply.put("Content-Encoding", "gzip")
                tag = reply.get("ETag")
                if tag is not None and not tag.startswith("W/"):
                    reply.put("ETag", f"W/{tag}")
            return reply

        return wrapped

    def who(inner: Handler) -> Handler:
        def refused(words: str = "") -> Oops:
            realm = "lights" if is_("realm") else "buoys"
            challenge = ("WWW-Authenticate", f'Bearer realm="{realm}"{words}')
            return Oops(
                403 if is_("401-as-403") else 401,
                "Sign in first",
                *([] if is_("no-challenge") or is_("401-as-403") else [challenge]),
            )

        def wrapped(call: Call) -> Reply:
            scheme, _, token = call.fields.get("authorization", "").partition(" ")
            if scheme.lower() != "bearer":
                open_ = {"buoys", "adrift", "broken", *({"buoy"} if is_("buoy-open") else ())}
                open_ -= {"buoys"} if is_("buoys-closed") else {"adrift"} if is_("adrift-closed") else set()
                route = _route_of(call.path)
                if route[0] not in open_ or (call.method not in (route[1], "HEAD") and True):
                    raise refused()
                return inner(call)
            signed, _, tag = token.rpartition(".")
            claims = json.loads(urlsafe_b64decode(signed.split(".")[1] + "=="))
            right = digest(SECRET, signed.encode(), hashlib.sha256) == urlsafe_b64decode(tag + "==")
            late = now() >= claims.get("exp", 1e12) + (120 if is_("long-leeway") else 10)
            audience = claims.get("aud")
            there = audience == "buoys" or (isinstance(audience, list) and "buoys" in audience)
            if not (
                (right or is_("forged-passes"))
                and (not late or is_("expired-passes"))
                and (there or is_("any-audience"))
            ):
                raise refused(', error="invalid_token"')
            call.name = claims["sub"]
            return inner(call)

        return wrapped

    def fair(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            if is_("no-limit") or _route_of(call.path)[0] != "buoy" or call.method not in ("GET", "HEAD"):
                return inner(call)
            quota = 3 if is_("quota-3") else 5 if is_("quota-5") else 4
            lasts = 30 if is_("window-30") else 60
            who_ = call.address if is_("per-address") else call.name or call.address
            began, used = windows.get(who_, (now() // lasts * lasts, 0))
            if now() >= began + lasts:
                began, used = now() // lasts * lasts, 0
            windows[who_] = began, min(used + 1, quota)
            left = max(round(began + lasts - now()), 1)
            remaining = max(quota - used - 1, 0) + (1 if is_("remaining-off") else 0)
            told = [
                ("X-RateLimit-Limit", f"{quota}"),
                ("X-RateLimit-Remaining", f"{remaining}"),
                ("X-RateLimit-Reset", f"{left}"),
            ]
            if is_("no-limit-fields"):
                told = []
            if is_("standard-fields"):
                told = [
                    ("RateLimit-Policy", f'"fair";q={quota};w={lasts}'),
                    ("RateLimit", f'"fair";r={remaining};t={left}'),
                ]
            if used >= quota:
                again = (
                    [] if is_("no-retry-after") else [("Retry-After", "600" if is_("retry-constant") else f"{left}")]
                )
                raise Oops(429, "Too many requests", *again, *told)
            reply = inner(call)
            reply.fields += told
            return reply

        return wrapped

    def may(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            if (
                _route_of(call.path)[0] == "move"
                and ROLES.get(call.name) != "warden"
                and not is_("no-roles")
                and not is_("keeper-may")
            ):
                raise Oops(403, "You may not do this")
            return inner(call)

        return wrapped

    def fresh(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            reply = inner(call)
            if is_("no-304") or reply.status != 200 or call.method not in ("GET", "HEAD"):
                return reply
            tag = f'"{hashlib.sha256(reply.body).hexdigest()[:16]}"'
            reply.put("ETag", f"W/{tag}" if is_("weak-tag") else tag)
            asked = call.fields.get("if-none-match", "").removeprefix("W/")
            if asked and (asked == tag or is_("always-304")):
                reply.status, reply.body = 304, b""
                reply.fields = [pair for pair in reply.fields if pair[0] != "Content-Type"]
            return reply

        return wrapped

    def body(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            if (
                call.body
                and not call.fields.get("content-type", "").startswith("application/json")
                and not is_("any-media")
            ):
                raise Oops(415, "Send JSON, and say so in Content-Type")
            return inner(call)

        return wrapped

    def form(inner: Handler) -> Handler:
        def wrapped(call: Call) -> Reply:
            if _route_of(call.path)[0] == "move" and not is_("no-validation"):
                try:
                    east = json.loads(call.body or b"{}").get("east")
                except (ValueError, AttributeError):
                    east = None
                if not isinstance(east, int) or east < 0:
                    raise Oops(400 if is_("422-as-400") else 422, "Say how far east")
            return inner(call)

        return wrapped

    stages = {
        "name-tag": tagged, "safe": safe, "browsers": browsers, "net": net, "small": small, "who": who, "fair": fair,
        "may": may, "fresh": fresh, "body": body, "form": form,
    }  # fmt: skip
    handled: Handler = content
    for name in reversed(ORDERS.get(mistake, ORDER)):
        handled = stages[name](handled)

    def application(environ: dict[str, Any], start_response: Callable[..., Any]) -> Iterable[bytes]:
        fields = {key[5:].replace("_", "-").lower(): value for key, value in environ.items() if key.startswith("HTTP_")}
        fields["content-type"] = environ.get("CONTENT_TYPE", "")
        sent = environ["wsgi.input"].read(int(environ.get("CONTENT_LENGTH") or 0))
        call = Call(environ["REQUEST_METHOD"], environ["PATH_INFO"], fields, sent, environ["REMOTE_ADDR"])
        if is_("hangs-up") and call.path == "/broken":
            raise ConnectionError("gone")
        try:
            reply = handled(call)
        except (Oops, RuntimeError):
            reply = Reply(500, [("Content-Type", "text/plain; charset=utf-8")], b"Internal Server Error")
        start_response(f"{reply.status} made up", reply.fields)
        return [b"" if call.method == "HEAD" else reply.body]

    return application
