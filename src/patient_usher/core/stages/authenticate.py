"""``authenticate``: finds out who is calling, by the credentials that come with the request."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from typing import Annotated, Any, ClassVar, Literal, NamedTuple

from pydantic import Discriminator, Field, Tag

from patient_usher.core.http.authentication import basic_pair, challenge, credentials
from patient_usher.core.http.dates import MICROSECONDS, numeric_date
from patient_usher.core.http.fields import Fields
from patient_usher.core.model import stage as base
from patient_usher.core.model.answer_factory import Maker, answer_maker
from patient_usher.core.model.document import JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect, Refused
from patient_usher.core.model.enumerations import WHY
from patient_usher.core.model.errors import Raised, refusal
from patient_usher.core.model.exchange import UNREAD, Exchange, Identity
from patient_usher.core.model.handler_specs import AnswerSpec
from patient_usher.core.model.pipeline import Credential, Reference, StageOptions
from patient_usher.core.model.routes import RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Duration, Model, Names
from patient_usher.core.model.tokens import TokenReader
from patient_usher.core.model.values import FilledText, filler, plain, query_value, reader

Found = None | Identity | tuple[str, str]
"""No credential at all; the caller; or the refusal's why and what exactly is wrong."""


class OwnAnswer(AnswerSpec):
    """The answer where a credential is absent or wrong: a status and message, or a whole answer."""

    sentences: ClassVar[dict[str, str]] = {
        **AnswerSpec.sentences,
        "message": "The public message, where the answer has no content; ${query.x} and others fill in values.",
    }

    message: FilledText | None = None


class OwnWords(NamedTuple):
    """Such an answer made ready: its status, whether it has content of its own, its message, and all of it.

    ``settled``: its header fields, where nothing has to be filled in for them; None where it has content.
    """

    status: int
    whole: bool
    message: Callable[[Exchange], object] | None
    make: Maker
    settled: Fields | None


class SchemeOptions(Model):
    """What every scheme may say."""

    scheme: str
    absent: OwnAnswer | None = None
    wrong: OwnAnswer | None = None

    def references(self, path: tuple[str | int, ...]) -> Iterable[Reference]:
        """Names in the options that must exist elsewhere."""
        return ()

    def credential(self) -> Credential:
        """How callers show by this scheme who they are."""
        return Credential(self.scheme)


class BearerOptions(SchemeOptions):
    """A signed token in the Authorization field (RFC 6750, RFC 7519)."""

    sentences: ClassVar[dict[str, str]] = {
        "scheme": "A signed token in the Authorization field (RFC 6750).",
        "absent": "The answer where no credential came.",
        "wrong": "The answer where the credential is refused.",
        "keys": "The signing keys whose tokens count.",
        "issuer": "The issuer that tokens must name.",
        "audience": "The audience that tokens must name.",
        "leeway": "How far clocks may differ.",
    }

    scheme: Literal["bearer"]
    keys: Names
    issuer: str | None = None
    audience: str | None = None
    leeway: Duration = 0

    def references(self, path: tuple[str | int, ...]) -> Iterable[Reference]:
        """The signing keys."""
        return [Reference("signing key", name, (*path, "keys")) for name in self.keys]

    def credential(self) -> Credential:
        """What a token must say."""
        return Credential("bearer", tuple(self.keys), self.issuer, self.audience)


class ApiKeyOptions(SchemeOptions):
    """A key of the caller's in a header field, a query parameter or a cookie."""

    sentences: ClassVar[dict[str, str]] = {
        "scheme": "A key of the caller's.",
        "absent": "The answer where no credential came.",
        "wrong": "The answer where the credential is refused.",
        "in": "Where the key is looked for.",
        "name": "The name of the field, parameter or cookie that holds it.",
    }

    scheme: Literal["api-key"]
    in_: Literal["header", "query", "cookie"] = Field(default="header", alias="in")
    name: str = "X-Api-Key"

    def credential(self) -> Credential:
        """Where the key goes."""
        return Credential("api-key", place=(self.in_, self.name))


class BasicOptions(SchemeOptions):
    """Name and password in the Authorization field (RFC 7617)."""

    sentences: ClassVar[dict[str, str]] = {
        "scheme": "Name and password in the Authorization field (RFC 7617).",
        "absent": "The answer where no credential came.",
        "wrong": "The answer where the credential is refused.",
    }

    scheme: Literal["basic"]


class SessionCookieOptions(SchemeOptions):
    """A session that a desk keeps, named by a cookie. A read-cookies stage must stand in front."""

    sentences: ClassVar[dict[str, str]] = {
        "scheme": "A session that a desk has opened.",
        "absent": "The answer where no credential came.",
        "wrong": "The answer where the session counts no more.",
        "cookie": "The cookie's name.",
    }

    scheme: Literal["session-cookie"]
    cookie: str = "session"

    def credential(self) -> Credential:
        """The cookie."""
        return Credential("session-cookie", place=("cookie", self.cookie))


AnyScheme = Annotated[
    Annotated[BearerOptions, Tag("bearer")]
    | Annotated[BasicOptions, Tag("basic")]
    | Annotated[ApiKeyOptions, Tag("api-key")]
    | Annotated[SessionCookieOptions, Tag("session-cookie")],
    Discriminator(lambda value: value.get("scheme") if isinstance(value, dict) else getattr(value, "scheme", None)),
]


class Options(StageOptions):
    """Which credentials count, and what happens without any."""

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

    def credentials(self) -> Iterable[Credential]:
        """One for each scheme."""
        return [scheme.credential() for scheme in self.schemes]

    def outcomes(self, routes: Sequence[RouteSpec] = ()) -> Sequence[str]:
        """No credential; and by every scheme one that is right, wrong or expired."""
        return ["absent", *(f"{scheme.scheme} {how}" for scheme in self.schemes for how in _HOW[scheme.scheme])]

    def outcome(self, x: Exchange, way: str, did: str, note: JsonMapping) -> str | None:
        """By the scheme that it notes, and why it refused."""
        if way != "in":
            return None
        if "scheme" not in note:
            return "absent"
        if did == "continued":
            return f"{note['scheme']} right"
        return f"{note['scheme']} {'expired' if x.why == 'expired' else 'wrong'}"


_HOW = {
    "bearer": ("right", "wrong", "expired"),
    "basic": ("right", "wrong"),
    "api-key": ("right", "wrong"),
    "session-cookie": ("right", "wrong"),
}


class Scheme:
    """One way to say who is calling. ``find`` looks for a credential and judges it."""

    name: ClassVar[str]
    find: Callable[[Exchange], Found]

    def challenge(self, why: str | None) -> str:
        """Its challenge (RFC 9110 11.6.1); ``why`` only where this scheme's credential failed."""
        raise NotImplementedError


class Bearer(Scheme):
    """Signatures are remembered, validity never: times are held against the virtual clock."""

    name = "bearer"

    def __init__(self, options: BearerOptions, realm: str | None, setup: Setup) -> None:
        self.claims = TokenReader(tuple(setup.keys[name] for name in options.keys)).claims
        self.issuer, self.audience, self.leeway = options.issuer, options.audience, options.leeway
        self.realm, self.setup = realm, setup

    def find(self, x: Exchange) -> Found:
        """Judge the token in Authorization."""
        value = x.request.fields.get("authorization")
        if value is None or (given := credentials(value)) is None or given[0] != "bearer":
            return None
        claims = self.claims(given[1])
        if isinstance(claims, str):
            return "wrong", claims
        return self._judge(claims, x, x.now)

    def _judge(self, claims: JsonObject, x: Exchange, now: int) -> Found:
        expires, not_before = numeric_date(claims.get("exp")), numeric_date(claims.get("nbf"))
        if any(numeric_date(claims[name]) is None for name in ("exp", "nbf") if name in claims):
            return "wrong", "its exp or nbf is no time"
        if expires is not None and now >= expires + self.leeway:  # RFC 7519 4.1.4: on or after
            return "expired", f"it expired {_seconds(now - expires)} s ago"
        if not_before is not None and now < not_before - self.leeway:  # 4.1.5
            return "not-yet-valid", f"it is valid in {_seconds(not_before - now)} s"
        if self.issuer is not None and claims.get("iss") != self.issuer:  # 4.1.1
            return "wrong-issuer", f"its issuer is {claims.get('iss')!r}"
        meant = claims.get("aud")  # 4.1.3: a token that names an audience must name ours
        audiences = meant if isinstance(meant, list) else [] if meant is None else [meant]
        if (self.audience is not None or meant is not None) and self.audience not in audiences:
            return "wrong-audience", f"its audience is {meant!r}"
        for desk in self.setup.signed(x):
            if why := desk.judge(claims):
                return why, WHY[why]
        name = claims.get("sub")
        if not isinstance(name, str):
            return "wrong", "it names nobody (sub)"
        account = self.setup.account(x, name)
        roles, scope = claims.get("roles"), claims.get("scope")
        if not isinstance(roles, list):
            roles = account.roles if account else []
        scopes = scope.split() if isinstance(scope, str) else account.scopes if account else []
        return Identity(name, tuple(map(str, roles)), tuple(scopes), account.facts if account else {})

    def challenge(self, why: str | None) -> str:
        """RFC 6750 3: no error where no credential came."""
        if why is None:
            return challenge("Bearer", realm=self.realm or self.setup.spec.name)  # RFC 6750 3: at least one
        return challenge("Bearer", realm=self.realm, error="invalid_token", error_description=WHY[why])


class ApiKey(Scheme):
    """A key that belongs to an account."""

    name = "api-key"

    def __init__(self, options: ApiKeyOptions, realm: str | None, setup: Setup) -> None:
        self.realm, self.where, self.field, self.setup = realm, options.in_, options.name, setup
        name = options.name
        if options.in_ == "query":
            self._read: Callable[[Exchange], Any] = lambda x: query_value(x, name)
        else:
            self._read = reader(f"{options.in_}.{name}")
        self._known: dict[str, Identity] = {}

    def find(self, x: Exchange) -> Found:
        """Look the key up."""
        key = self._read(x)
        if key is None:
            return None
        found = self._known.get(key)
        if found is None and (account := self.setup.by_api_key.get(key)):
            found = self._known[key] = self.setup.identity(x, account)
        return found or ("wrong", "no account has this key")

    def challenge(self, why: str | None) -> str:
        """No scheme is registered for keys; this one says where to put it."""
        return challenge("ApiKey", realm=self.realm, **{"in": self.where, "name": self.field})


class Basic(Scheme):
    """A name and a password."""

    name = "basic"

    def __init__(self, options: BasicOptions, realm: str | None, setup: Setup) -> None:
        self.realm, self.setup = realm or setup.spec.name, setup

    def find(self, x: Exchange) -> Found:
        """Judge the pair in Authorization."""
        value = x.request.fields.get("authorization")
        if value is None or (given := credentials(value)) is None or given[0] != "basic":
            return None
        pair = basic_pair(given[1])
        if pair is None:
            return "wrong", "it is no name and password in base64"
        name, password = pair
        account = self.setup.account(x, name)
        if account is None or account.password is None:
            return "wrong", "no account has this name and a password"
        if not self.setup.password_fits(account.password, password):
            return "wrong", "the password is another"
        return self.setup.identity(x, name)

    def challenge(self, why: str | None) -> str:
        """RFC 7617 2: the realm is required."""
        return challenge("Basic", realm=self.realm, charset="UTF-8")


class SessionCookie(Scheme):
    """A session of a desk's, whose life at the server runs apart from the cookie's."""

    name = "session-cookie"

    def __init__(self, options: SessionCookieOptions, realm: str | None, setup: Setup) -> None:
        self.cookie, self.realm, self.setup = options.cookie, realm, setup

    def find(self, x: Exchange) -> Found:
        """Look the session up."""
        id_ = None if x.cookies is UNREAD else x.cookies.get(self.cookie)
        if id_ is None:
            return None
        session = next((found for desk in self.setup.signed(x) if (found := desk.sessions.get(id_))), None)
        if session is None:
            if any(id_ in desk.ended for desk in self.setup.signed(x)):
                return "signed-out", WHY["signed-out"]
            return "wrong", "no session has this id"
        if x.now >= session.expires:
            return "expired", f"the session ended {_seconds(x.now - session.expires)} s ago"
        return self.setup.identity(x, session.name)

    def challenge(self, why: str | None) -> str:
        """No scheme is registered for sessions; this one says which cookie is looked for."""
        return challenge("Session", realm=self.realm, cookie=self.cookie)


def _seconds(micros: int) -> str:
    return f"{micros / MICROSECONDS:.6f}".rstrip("0").rstrip(".")


SCHEMES: dict[str, Callable[..., Scheme]] = {
    "bearer": Bearer,
    "basic": Basic,
    "api-key": ApiKey,
    "session-cookie": SessionCookie,
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
        self.prepared: dict[tuple[int, str], Fields] = {}

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
        own = self.own[at][0 if why == "absent" else 1]
        public = None if why == "absent" else "This credential doesn't count here"
        if own is None or own.settled is not None:
            fields = self.prepared.get((at, why))  # they are read, never written
            if fields is None:
                fields = self.prepared[at, why] = self._demanded(at, why, own.status if own else 401)
                fields.update(own.settled if own is not None and own.settled is not None else Fields())
        else:
            answer = own.make(x)
            fields = self._demanded(at, why, own.status)
            fields.update(answer.fields)
            if own.whole:
                answer.fields = fields
                return Refused(answer, why)
        if own is None:
            return refusal("Unauthenticated", why, detail, public=public, fields=fields)
        public = plain(own.message(x)) if own.message is not None else public
        return refusal("Unauthenticated", why, detail, status=own.status, public=public, fields=fields)

    def _demanded(self, at: int, why: str, status: int) -> Fields:
        """Every scheme's challenge, where the status is the one that must have them (RFC 9110 15.5.2)."""
        failed = at if why != "absent" else None
        texts = [scheme.challenge(why if i == failed else None) for i, scheme in enumerate(self.schemes)]
        return Fields([("WWW-Authenticate", text) for text in texts] if status == 401 else ())


def challenges_of(setup: base.Setup) -> list[str]:
    """What a pipeline's stages ask of callers who show nothing (RFC 9110 11.6.1), each once."""
    found: dict[str, None] = {}
    for options in setup.options.values():
        if isinstance(options, Options) and options.enabled:
            schemes = (SCHEMES[scheme.scheme](scheme, options.realm, setup) for scheme in options.schemes)
            found.update(dict.fromkeys(scheme.challenge(None) for scheme in schemes))
    return list(found)
