"""Trace Context (W3C): what becomes of a ``traceparent``, by the cases that the standard tells apart (3.2, 3.3)."""

from __future__ import annotations

import re

import pytest

from conftest import walk

TRACE, PARENT = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
STAGE = {"id": "rid", "kind": "request-id", "trusts-incoming": True}
ROUTE = {"id": "r", "at": "GET /", "access": "everyone", "handler": {"echo": True}}
CASES = [
    ("whole", f"00-{TRACE}-{PARENT}-01", "01"),
    ("not sampled", f"00-{TRACE}-{PARENT}-00", "00"),
    ("flags that this version doesn't define", f"00-{TRACE}-{PARENT}-ff", "01"),
    ("flags that this version doesn't define, not sampled", f"00-{TRACE}-{PARENT}-fe", "00"),
    ("a later version", f"cc-{TRACE}-{PARENT}-01", "01"),
    ("a later version with more", f"cc-{TRACE}-{PARENT}-01-what-the-future-will-be-like", "01"),
    ("a later version with a dash alone", f"cc-{TRACE}-{PARENT}-01-", "01"),
    ("a later version with more and no dash", f"cc-{TRACE}-{PARENT}-01.what", None),
    ("version 00 with more", f"00-{TRACE}-{PARENT}-01-what-the-future-will-be-like", None),
    ("version 00 with a dash", f"00-{TRACE}-{PARENT}-01-", None),
    ("version ff", f"ff-{TRACE}-{PARENT}-01", None),
    ("a version of one digit", f"0-{TRACE}-{PARENT}-01", None),
    ("capitals in the trace-id", f"00-{TRACE.upper()}-{PARENT}-01", None),
    ("a trace-id of zeros", f"00-{'0' * 32}-{PARENT}-01", None),
    ("a parent-id of zeros", f"00-{TRACE}-{'0' * 16}-01", None),
    ("a trace-id that is too short", f"00-{TRACE[:31]}-{PARENT}-01", None),
    ("a parent-id that is too long", f"00-{TRACE}-{PARENT}0-01", None),
    ("flags of one digit", f"00-{TRACE}-{PARENT}-1", None),
    ("letters that are none of these", f"00-{TRACE[:-1]}g-{PARENT}-01", None),
    ("nothing", "", None),
]


@pytest.mark.parametrize(("case", "given", "flags"), CASES)
def test_traceparent(case: str, given: str, flags: str | None) -> None:
    """A known one goes on with a parent-id of this service; any other begins a new trace, and its tracestate goes."""
    sent = {"send": "GET /", "headers": {"traceparent": given, "tracestate": "tern=1"}}
    seen = walk([STAGE], sent, routes=[ROUTE])["response"]["body"]
    passed_on = re.search(r'"traceparent": "00-([0-9a-f]{32})-([0-9a-f]{16})-([0-9a-f]{2})"', seen)
    assert passed_on is not None
    assert (passed_on[1] == TRACE, passed_on[3]) == (flags is not None, flags or "01")
    assert passed_on[2] != PARENT
    assert ("tern=1" in seen) == (flags is not None)
