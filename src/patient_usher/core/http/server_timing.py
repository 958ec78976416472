"""``Server-Timing`` (W3C Server Timing 3.2): what a server says of its own work, entry by entry."""

from __future__ import annotations

from collections.abc import Iterable

from patient_usher.core.http.fields import list_items


def timing_names(values: Iterable[str]) -> list[str]:
    """The names of the entries, in the order in which they stand."""
    return [item.partition(";")[0].strip() for value in values for item in list_items(value)]
