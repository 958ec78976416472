"""``authorize``: holds the caller against the route's ``access``."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from functools import cached_property
from typing import ClassVar, Literal

from patient_usher.core.http.authentication import challenge
from patient_usher.core.http.fields import Fields
from patient_usher.core.model import stage as base
from patient_usher.core.model.document import JsonMapping
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.templates import GUARDED, Access
from patient_usher.core.stages.authenticate import challenges_of


class Options(StageOptions):
    """Who may use a route that says nothing."""

    written: ClassVar[Collection[str]] = ("www-authenticate",)
    trade_names: ClassVar[tuple[str, ...]] = (
        "access-control",
        "acl",
        "authorization",
        "authz",
        "permissions",
        "rbac",
        "roles",
    )
    sentences: ClassVar[dict[str, str]] = {
        "default": "Who may use routes that don't say.",
    }

    default: Literal["signed-in", "everyone", "nobody"] = "signed-in"

    def needs(self, route: RouteSpec | None = None) -> Collection[str]:
        """Who is calling."""
        return ("identity",)

    def guards(self) -> Collection[str]:
        """All of them."""
        return GUARDED

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """A caller is let through, by each role or scope that these routes ask for, or refused."""
        rules = [route.access or Access(self.default) for route in routes] or [Access("signed-in")]
        asked = [f"let through as {name}" for rule in rules for name in (rule.names if len(rule.names) > 1 else ())]
        plain = any(len(rule.names) < 2 and rule.who != "nobody" for rule in rules)
        refuses = any(rule.who != "everyone" for rule in rules)
        return dict.fromkeys([*["let through"] * plain, *asked, *["refused"] * refuses])

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By whether it passed on, and as whom."""
        if way != "in":
            return ()
        if did != "continued":
            return ("refused",)
        access = x.route.access if x.route is not None else None
        held = note.get("role") or note.get("scope")
        return (f"let through as {held}" if access is not None and len(access.names) > 1 else "let through",)


class Stage(base.Stage):
    """401 for an unknown caller, 403 for a known one who may not (RFC 9110 15.5.2, 15.5.4)."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.default, self.setup = Access(options.default), setup

    @cached_property
    def challenges(self) -> Sequence[str]:
        """What callers are asked for who show nothing."""
        return challenges_of(self.setup)

    def way_in(self, x: Exchange) -> Effect:
        """Refuse, or pass on."""
        access: Access = (x.route.access if x.route is not None else None) or self.default
        who = access.who
        if who == "everyone":
            return None
        if who == "nobody":
            return refusal("Forbidden", "closed-to-all")
        identity = x.identity
        if identity is None:
            message = "the route needs a caller, and no stage has found out who it is"
            fields = Fields(("WWW-Authenticate", text) for text in self.challenges)
            return refusal("Unauthenticated", "absent", message, fields=fields)
        if who == "signed-in":
            return None
        held = identity.roles if who == "role" else identity.scopes
        for name in held:
            if name in access.names:
                if x.journey is not None:
                    x.note = {who: name}
                return None
        needs = str(access)
        if x.journey is not None:
            x.note = {"needs": needs, "has": list(held)}
        message = f"{identity.name} has {', '.join(held) or f'no {who}'}; the route needs {needs}"
        if who == "role":
            return refusal("Forbidden", "insufficient-role", message)
        # RFC 6750 3.1: the scope that would do goes into the challenge, where tokens are asked for at all.
        fields = Fields()
        if any(text.startswith("Bearer") for text in self.challenges):
            text = challenge("Bearer", error="insufficient_scope", scope=" ".join(access.names))
            fields.put("WWW-Authenticate", text)
        return refusal("Forbidden", "insufficient-scope", message, fields=fields)
