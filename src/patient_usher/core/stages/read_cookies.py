"""``read-cookies``: makes cookies readable for what is behind it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from typing import ClassVar

from patient_usher.core.http.cookies import parse_cookies, unsign_value
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import Reference, StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup


class Options(StageOptions):
    """With which secret cookies must be signed to be read."""

    trade_names: ClassVar[tuple[str, ...]] = ("cookie", "cookies", "parse-cookies")
    sentences: ClassVar[dict[str, str]] = {
        "signed-with": "The key whose signature cookies must have; others are left out.",
    }

    signed_with: str | None = None

    def references(self) -> Iterable[Reference]:
        """The signing key."""
        return [Reference("signing key", self.signed_with, ("signed-with",))] if self.signed_with else []

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """Cookies are read; of signed ones some may be left out."""
        return ("ran", *["signature wrong"] * (self.signed_with is not None))

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """A cookie that nobody has signed."""
        return ({"cookies": {"made-up": "cookie"}},)

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By what it notes."""
        return ("ran", *["signature wrong"] * ("signature-wrong" in note)) if way == "in" else ()

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """The field is taken apart alone, where nothing is signed."""
        return () if fact == "header.cookie" and self.signed_with is None else None

    def leaves(self) -> Collection[str]:
        """The cookies."""
        return ("cookies",)


class Stage(base.Stage):
    """Cookies whose signature doesn't match are left out, as if they had not come."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.secret = setup.keys[options.signed_with].verify if options.signed_with else None

    def way_in(self, x: Exchange) -> Effect:
        """Read the Cookie field."""
        pairs = parse_cookies(x.request.fields.get("cookie"))
        if self.secret is not None:
            read = {name: unsign_value(value, self.secret) for name, value in pairs.items()}
            left_out = [name for name, value in read.items() if value is None]
            pairs = {name: value for name, value in read.items() if value is not None}
            if left_out:
                x.note = {"signature-wrong": left_out}
        x.cookies = pairs
        return None
