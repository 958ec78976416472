"""``authenticate``: finds out who is calling, by the credentials that come with the request."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from functools import lru_cache
from typing import Annotated, ClassVar, Literal, NamedTuple

from pydantic import Field

from patient_usher.core.http.fields import Fields
from patient_usher.core.model import stage as base
from patient_usher.core.model.answer_factory import Maker, answer_maker
from patient_usher.core.model.credential_schemes import SCHEMES, AnyScheme, OwnAnswer
from patient_usher.core.model.document import JsonMapping
from patient_usher.core.model.effects import Effect, Refused
from patient_usher.core.model.enumerations import WHY
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import Exchange, Identity
from patient_usher.core.model.pipeline import AskedCredential, Reference, StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.values import filler, plain


class OwnWords(NamedTuple):
    """A scheme's own answer made ready: its status, whether it has content of its own, its message, and all of it.

    ``settled``: its header fields, where nothing has to be filled in for them; None where it has content.
    """

    status: int
    whole: bool
    message: Callable[[Exchange], object] | None
    make: Maker
    settled: Fields | None


class Options(StageOptions):
    """Which credentials count, and what happens without any."""

    written: ClassVar[Collection[str]] = ("www-authenticate",)
    trade_names: ClassVar[tuple[str, ...]] = (
        "api-key",
        "auth",
        "authentication",
        "basic",
        "basic-auth",
        "bearer",
        "identity",
        "jwt",
        "login",
    )
    sentences: ClassVar[dict[str, str]] = {
        "schemes": "How callers may show who they are; the first whose credential is there decides.",
        "realm": "The realm that challenges name.",
        "without-credential": "by-access: refuse, unless the route is open to everyone.",
        "wrong-credential": "by-access: refuse, unless the route is open to everyone; then it counts as none.",
    }

    schemes: Annotated[list[AnyScheme], Field(min_length=1)]
    realm: str | None = None
    without_credential: Literal["by-access", "refuse", "pass-on"] = "by-access"
    wrong_credential: Literal["refuse", "by-access", "pass-on"] = "refuse"

    def references(self) -> Iterable[Reference]:
        """What the schemes refer to."""
        for at, scheme in enumerate(self.schemes):
            yield from scheme.references(("schemes", at))

    def needs(self, route: RouteSpec | None = None) -> Collection[str]:
        """Cookies, where a credential is one."""
        return ("cookies",) if any((found.place or ("",))[0] == "cookie" for found in self.credentials()) else ()

    def leaves(self) -> Collection[str]:
        """Who is calling."""
        return ("identity",)

    def guards(self) -> Collection[str]:
        """Whether anybody is signed in."""
        return () if self.without_credential == "pass-on" else ("signed-in",)

    def credentials(self) -> Iterable[AskedCredential]:
        """One for each scheme."""
        return [scheme.credential() for scheme in self.schemes]

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """No credential; and by every scheme one that is right, wrong, expired or not valid yet."""
        return ["absent", *(f"{scheme.scheme} {how}" for scheme in self.schemes for how in _HOW[scheme.scheme])]

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """By the scheme that it notes, and why it refused."""
        if way != "in":
            return ()
        if "scheme" not in note:
            return ("absent",)
        if did == "continued" and "passed on" not in note:
            return (f"{note['scheme']} right",)
        why = str(note.get("passed on") or x.why).partition(":")[0]
        return (f"{note['scheme']} {why if why in _HOW[note['scheme']] else 'wrong'}",)


_HOW = {
    "bearer": ("right", "wrong", "expired", "not-yet-valid"),
    "basic": ("right", "wrong"),
    "api-key": ("right", "wrong"),
    "session-cookie": ("right", "wrong", "expired"),
}


class Stage(base.Stage):
    """Asks its schemes in order; the first whose credential is there decides."""

    def __init__(self, options: Options, setup: Setup) -> None:
        self.schemes = [SCHEMES[o.scheme](o, options.realm, setup) for o in options.schemes]
        self.finders = [(at, scheme.find, scheme.name) for at, scheme in enumerate(self.schemes)]
        self.without = options.without_credential
        self.wrong = options.wrong_credential
        self.own = [(self._own(o.absent, setup), self._own(o.wrong, setup)) for o in options.schemes]
        # Where there is no credential, the first scheme speaks that has something of its own to say.
        self.speaker = next((at for at, (absent, _) in enumerate(self.own) if absent is not None), 0)
        self.demanded = lru_cache(maxsize=256)(self._demanded)

    @staticmethod
    def _own(spec: OwnAnswer | None, setup: Setup) -> OwnWords | None:
        if spec is None:
            return None
        message = filler(spec.message) if spec.message is not None else None
        make = answer_maker(spec, setup.read_file, status=401)
        varies = spec.has_body or any("${" in value for _, value in spec.lines)
        settled = None if varies else Fields(spec.lines)
        return OwnWords(spec.status or 401, spec.has_body, message, make, settled)

    def way_in(self, x: Exchange) -> Effect:
        """Find the caller, refuse, or pass an anonymous request on."""
        for at, find, name in self.finders:
            found = find(x)
            if found is None:
                continue
            if found.__class__ is Identity:
                x.identity = found
                if x.journey is not None:
                    x.note = {"identity": found.name, "scheme": name}
                return None
            why, detail = found[0], found[1]
            x.note = {"scheme": name}
            # Whoever's session is over may sign in anew: nobody else has to be told first.
            by_access = self.wrong == "by-access" or name == "session-cookie"
            if self.wrong == "pass-on" or (by_access and self._is_open(x)):
                x.note["passed on"] = f"{why}: {detail}"
                return None
            return self._refuse(x, at, str(why), str(detail))
        if self.without == "pass-on":
            return None
        if self.without == "by-access" and self._is_open(x):
            return None
        return self._refuse(x, self.speaker, "absent", WHY["absent"])

    @staticmethod
    def _is_open(x: Exchange) -> bool:
        """Whether the route is open to everyone."""
        return x.route is not None and x.route.access is not None and x.route.access.who == "everyone"

    def _refuse(self, x: Exchange, at: int, why: str, detail: str) -> Refused | Raised:
        own = self._own_of(at, why)
        public = None if why == "absent" else "This credential doesn't count here"
        fields = self.demanded(at, why)
        if own is None:
            return refusal("Unauthenticated", why, detail, public=public, fields=fields)
        if own.settled is None:
            answer, fields = own.make(x), fields.copy()
            fields.update(answer.fields)
            if own.whole:
                answer.fields = fields
                return Refused(answer, why)
        public = plain(own.message(x)) if own.message is not None else public
        return refusal("Unauthenticated", why, detail, status=own.status, public=public, fields=fields)

    def _own_of(self, at: int, why: str) -> OwnWords | None:
        return self.own[at][0 if why == "absent" else 1]

    def _demanded(self, at: int, why: str) -> Fields:
        """What every such refusal has; made once, then read and never written.

        That is every scheme's challenge, where the status is the one that must have them (RFC 9110 15.5.2), and what
        is the same in each of the scheme's own answers.
        """
        own, failed = self._own_of(at, why), at if why != "absent" else None
        texts = [scheme.challenge(why if i == failed else None) for i, scheme in enumerate(self.schemes)]
        fields = Fields([("WWW-Authenticate", text) for text in texts] if own is None or own.status == 401 else ())
        if own is not None and own.settled is not None:
            fields.update(own.settled)
        return fields


def challenges_of(setup: base.Setup) -> list[str]:
    """What a pipeline's stages ask of callers who show nothing (RFC 9110 11.6.1), each once."""
    found: dict[str, None] = {}
    for options in setup.options.values():
        if isinstance(options, Options) and options.enabled:
            schemes = (SCHEMES[scheme.scheme](scheme, options.realm, setup) for scheme in options.schemes)
            found.update(dict.fromkeys(scheme.challenge(None) for scheme in schemes))
    return list(found)
