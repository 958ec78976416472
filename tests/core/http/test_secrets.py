"""Which names are those of secrets, and of which sort."""

from __future__ import annotations

import pytest

from patient_usher.core.http.secrets import secret_name

NAMES: list[tuple[str, bool]] = [
    ("sort-key", False), ("my-sort-key", False), ("sort-harbour-key", True), ("harbourKey", True), ("key", False), ("primaryKey", False), ("HARBOUR_KEY", True),
    ("access_token", True), ("clientSecret", True), ("password", True), ("tokenType", False), ("berth", False), ("", False),
]  # fmt: skip


@pytest.mark.parametrize(("name", "secret"), NAMES)
def test_names_of_secrets(name: str, secret: bool) -> None:
    assert bool(secret_name(name)) is secret
