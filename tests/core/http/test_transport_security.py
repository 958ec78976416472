"""Policies of TLS as browsers read them (RFC 6797 6.1): each was tried in a real one."""

from __future__ import annotations

import pytest

from patient_usher.core.http.transport_security import policy

HOUR = 3_600_000_000


@pytest.mark.parametrize(
    ("value", "means"),
    [
        ("max-age=3600", (HOUR, False)),
        ('max-age="3600"', (HOUR, False)),
        (" MAX-AGE = 3600 ; includeSubDomains", (HOUR, True)),
        ("includesubdomains;max-age=0", (0, True)),
        ("max-age=3600;;preload", (HOUR, False)),
        ('max-age=3600; other="a;b"', (HOUR, False)),
        ("", None),
        ("includesubdomains", None),
        ("max-age", None),
        ("max-age=x", None),
        ("max-age=-1", None),
        ("max-age=3600; max-age=0", None),
        ("max-age=3600; includeSubDomains=1", None),
        ("max-age=3600; a b", None),
    ],
)
def test_what_a_policy_says(value: str, means: tuple[int, bool] | None) -> None:
    assert policy(value) == means
