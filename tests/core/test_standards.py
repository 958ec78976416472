"""What the standards say, and what browsers do: each row a case that went wrong once, with its section."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from conftest import header, records
from patient_usher import Trace, load

CASES = Path(__file__).parents[1] / "cases" / "http"


def seen(record: dict[str, Any], name: str) -> Any:
    """One thing of a record: a member, a field of the answer or the request (``>name``), ``page`` or ``copy``."""
    if name == "status":
        return record["response"] and record["response"]["status"]
    if name == "text":
        return record["response"]["body"]
    if name == "copy":
        return record["caches"][-1]["why"]
    if name == "page":
        return record["browser"]["why"] or record["browser"]["verdict"]
    if name.startswith(">"):
        values = [value for field, value in record["request"]["headers"] if field.lower() == name[1:]]
        return ", ".join(values) or None
    return record[name] if name in record else header(record, name)


# section, case, exchange, what is looked at, what it must be
ROWS: list[tuple[str, str, str, str, list[Any]]] = [
    ("what passes the limit counts, not what becomes of it", "l1", "b[2]", "status answered_by", [404, "hide"]),
    ("what passes the limit counts, not what becomes of it", "l1", "b[3]", "status answered_by", [429, "guess"]),
    ("an error that passes counts by its own status", "lf", "b[2]", "status answered_by", [404, "net"]),
    ("an error that passes counts by its own status", "lf", "b[3]", "status why", [429, "over-quota"]),
    ("RFC 9110 12.4.2", "k1", "q", "content-type vary", ["application/json", "Accept"]),
    ("RFC 9110 12.4.2", "k1", "q0", "content-type", ["application/json"]),
    ("RFC 9110 12.5.1", "k1", "wild", "content-type", ["text/html; charset=utf-8"]),
    ("RFC 9111 4.1", "k1", "json", "content-type", ["application/json"]),
    ("RFC 9110 12.5.5", "k2", "api", "content-type vary", ["application/json", "Accept"]),
    ("RFC 9110 13.1.5", "b1", "shrunk-ifrange", "status content-range", [200, None]),
    ("RFC 9110 13.1.5", "b1", "ok-ifrange", "status content-range", [206, "bytes 5-9/10"]),
    ("RFC 9110 14.1.2", "b1", "g-big", "status content-range", [206, "bytes 0-9/10"]),
    ("RFC 9110 14.1.2", "b1", "g-suffix0", "status", [416]),
    ("RFC 9110 14.3", "b1", "g-head", "accept-ranges", ["bytes"]),
    ("RFC 9110 13.1.5: the part is of what isn't coded", "z1", "range-ifr-i", "status content-encoding content-length", [206, None, "10"]),
    ("RFC 9110 13.1.5", "z1", "range-ifr-g", "status content-encoding content-length", [200, "gzip", "121"]),
    ("RFC 9110 8.6", "hh", "g", "content-length", ["5"]),
    ("RFC 9110 8.6", "hh", "h", "content-length", [None]),
    ("Mixed Content 4.4", "h1", "nohsts", "page", ["mixed-content"]),
    ("Fetch 4.1: before HSTS", "h1", "mixed", "page", ["mixed-content"]),
    ("Fetch 4.1: before HSTS", "h1", "downgrade/redirect[1]", "page", ["mixed-content"]),
    ("RFC 9110 13.2.1", "u1", "post-inm", "status answered_by outcome", [412, "cond", "short-circuited"]),
    ("RFC 9110 13.2.1", "u1", "post-im", "status why", [412, "precondition-failed"]),
    ("RFC 9110 13.2.1", "u1", "put-im-missing", "status", [404]),
    ("RFC 9110 13.2.1", "u1", "put-bad-im", "status", [412]),
    ("who refuses a write answers it", "ppa", "put412", "answered_by refused_by outcome", ["cond", "cond", "short-circuited"]),
    ("RFC 5861 4", "sie", "e2", "answered_by why outcome copy", ["shelf", None, "short-circuited", "stale-if-error"]),
    ("RFC 5861 4", "ts", "e2", "answered_by why outcome copy", ["shelf", None, "short-circuited", "stale-if-error"]),
    ("RFC 5861 4, of an error raised", "sw", "a5", "answered_by outcome copy", ["shelf", "short-circuited", "stale-if-error"]),
    ("RFC 5861 3: a refresh that fails isn't what the caller got", "sw", "a2", "copy", ["stale-while-revalidate"]),
    ("RFC 6265bis 5.7 step 23", "ho", "show", ">cookie", ["sid=old; sid=new12"]),
    ("RFC 6265bis 5.7 step 23", "ho", "show2", ">cookie", ["sid=old"]),
    ("a written Cookie stays beside the jar", "ex", "s2", ">cookie text", ["b=2; a=1", "a=1 b=2"]),
    ("RFC 6797 6.1", "ex", "h1r", "url", ["https://service.example/r"]),
    ("RFC 6797 8.1: the first field", "ex", "h2r", "url", ["https://service.example/r"]),
    ("RFC 6797 6.1", "ex", "h3r", "url", ["https://service.example/r"]),
    ("Fetch 4.9: a call without a preflight forgets none", "pf", "put2", "page", ["readable"]),
    ("Fetch 4.9: by origin and URL", "pf", "putc2/preflight", "status", [204]),
    ("RFC 9110 15.5.6", "o1", "m405", "status allow", [405, "GET, HEAD, OPTIONS"]),
    ("RFC 9110 15.5.6", "o1", "own405", "allow", ["OPTIONS, GET, HEAD"]),
    ("RFC 3986 6.2.2.2", "loc", "g2", "answered_by", ["shelf"]),
    ("RFC 9111 4.4", "loc", "g3", "answered_by", ["handler"]),
    ("RFC 9111 3.1", "rt", "g2", "keep-alive proxy-authenticate te upgrade", [None, None, None, None]),
    ("a HEAD brings nothing to store", "w1", "swrhead", "copy handler_reached", ["stale-while-revalidate", False]),
    ("RFC 5861 3", "w1", "swr5", "copy handler_reached", ["stale-while-revalidate", True]),
    ("Fetch 4.6", "cb", "no-store", ">pragma >cache-control", ["no-cache", "no-cache"]),
    ("Fetch 4.6", "cb", "reload", ">pragma >cache-control", ["no-cache", "no-cache"]),
    ("Fetch 4.6", "cb", "reload-own", ">pragma >cache-control", ["no-cache", "max-age=5"]),
    ("Fetch 4.6", "cb", "no-cache", ">pragma >cache-control", [None, "max-age=0"]),
    ("Fetch 4.6", "cb", "no-cache-own", ">cache-control", ["max-age=5"]),
    ("as browsers do it", "cb", "inm", ">cache-control", ["max-age=0"]),
    ("Fetch 4.6", "cb", "range", ">accept-encoding", ["identity"]),
    ("as browsers do it", "cb", "head", ">accept-encoding", ["gzip, deflate, br, zstd"]),
]  # fmt: skip
_KEPT: dict[str, dict[str, Any]] = {}


@pytest.mark.parametrize(("section", "case", "exchange", "names", "expected"), ROWS)
def test_standards(section: str, case: str, exchange: str, names: str, expected: list[Any]) -> None:
    if case not in _KEPT:
        told = records(load(CASES / f"{case}.yaml"), Trace.read(CASES / f"{case}t.yaml"))
        _KEPT[case] = {record["id"]: {**record, "url": record["request"]["url"]} for record in told}
    assert [seen(_KEPT[case][exchange], name) for name in names.split()] == expected, section
