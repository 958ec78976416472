"""Following redirects (RFC 9110 section 15.4; the Fetch standard's HTTP-redirect fetch)."""

from __future__ import annotations

from urllib.parse import urljoin

from patient_usher.core.http.messages import Answer, Request
from patient_usher.core.http.urls import Url, parse_url

STATUSES = frozenset({301, 302, 303, 307, 308})
LIMIT = 20
"""How many redirects in a row are followed (Fetch, HTTP-redirect fetch, step 7)."""


def target(url: Url, answer: Answer) -> Url | None:
    """Where an answer redirects to; None where it doesn't, or to nowhere that can be called."""
    location = answer.fields.get("location")
    if answer.status not in STATUSES or location is None:
        return None
    try:
        return parse_url(urljoin(url.text, location.strip()).partition("#")[0])
    except ValueError:
        return None


def redirected(request: Request, status: int, url: Url) -> Request:
    """The request that follows.

    POST becomes GET on 301 and 302, anything but GET and HEAD on 303; the content goes with it
    (Fetch, HTTP-redirect fetch, step 12). Credentials don't cross origins (step 13; RFC 9110 15.4).
    """
    fields = request.fields.copy()
    method, body = request.method, request.body
    if (status in (301, 302) and method == "POST") or (status == 303 and method not in ("GET", "HEAD")):
        method, body = "GET", b""
        for lower in ("content-type", "content-length", "content-encoding", "content-language", "content-location"):
            fields.drop(lower)
    if url.origin != request.url.origin:
        fields.drop("authorization")
        fields.drop("cookie")
    fields.put("Host", url.authority)
    return Request(method, url, fields, body, request.peer)
