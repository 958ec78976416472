"""The environment's variables as files may read them; what was read is a secret in every output."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from urllib.parse import quote

from patient_usher.core.model.document import Json

SHORTEST = 4
"""Shorter values are not hidden: they stand in too many places by chance."""


class Variables(Mapping[str, str]):
    """Variables, and which of them were read: ``taken``, from each form of the value to what is shown for it."""

    def __init__(self, source: Mapping[str, str]) -> None:
        self._source = source
        self.taken: dict[str, str] = {}

    def __getitem__(self, name: str) -> str:
        value = self._source[name]
        if len(value) >= SHORTEST:
            for form in (value, quote(value, safe="")):
                self.taken[form] = f"${{env:{name}}}"
        return value

    def __contains__(self, name: object) -> bool:
        return name in self._source

    def __iter__(self) -> Iterator[str]:
        return iter(self._source)

    def __len__(self) -> int:
        return len(self._source)

    def hidden(self, value: Json) -> Json:
        """A value as it may be put out: in every text, what came from here stands by its name."""
        if not self.taken:
            return value
        if isinstance(value, str):
            for secret, shown in self.taken.items():
                if secret in value:
                    value = value.replace(secret, shown)
            return value
        if isinstance(value, dict):
            return {self.hidden(key): self.hidden(item) for key, item in value.items()}
        if isinstance(value, list | tuple):
            return [self.hidden(item) for item in value]
        return value


ENVIRONMENT = Variables(os.environ)
"""This process's."""
