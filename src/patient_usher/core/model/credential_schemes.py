"""The ways to say who is calling: what a file says of each, and how its credential is found and judged."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, Discriminator, Field, Tag

from patient_usher.core.http.authentication import basic_pair, challenge, credentials
from patient_usher.core.http.cookies import unsign_value
from patient_usher.core.http.dates import MICROSECONDS, numeric_date
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.enumerations import WHY
from patient_usher.core.model.exchange import UNREAD, Exchange, Identity
from patient_usher.core.model.handler_specs import AnswerSpec
from patient_usher.core.model.pipeline import AskedCredential, Reference
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.text_types import Duration, Model, Names, wrong
from patient_usher.core.model.tokens import TokenReader
from patient_usher.core.model.values import FilledText, query_value, reader

Found = None | Identity | tuple[str, str]
"""No credential at all; the caller; or the refusal's why and what exactly is wrong."""


class OwnAnswer(AnswerSpec):
    """The answer where a credential is absent or wrong: a status and message, or a whole answer."""

    sentences: ClassVar[dict[str, str]] = {
        **AnswerSpec.sentences,
        "message": "The public message, where the answer has no content; ${query.x} and others fill in values.",
    }

    message: FilledText | None = None


class SchemeOptions(Model):
    """What every scheme may say."""

    scheme: str
    absent: OwnAnswer | None = None
    wrong: OwnAnswer | None = None

    def references(self, path: tuple[str | int, ...]) -> Iterable[Reference]:
        """Names in the options that must exist elsewhere."""
        return ()

    def credential(self) -> AskedCredential:
        """How callers show by this scheme who they are."""
        return AskedCredential(self.scheme)


class BearerOptions(SchemeOptions):
    """A signed token in the Authorization field (RFC 6750, RFC 7519)."""

    sentences: ClassVar[dict[str, str]] = {
        "scheme": "A signed token in the Authorization field (RFC 6750).",
        "absent": "The answer where no credential came.",
        "wrong": "The answer where the credential is refused.",
        "keys": "The signing keys whose tokens count.",
        "issuer": "The issuer that tokens must name.",
        "audience": "The audience that tokens must name.",
        "typ": "What tokens must say that they are, as in at+jwt.",
        "leeway": "How far clocks may differ.",
    }

    scheme: Literal["bearer"]
    keys: Names
    issuer: str | None = None
    audience: str | None = None
    typ: str | None = None
    leeway: Duration = 0

    def references(self, path: tuple[str | int, ...]) -> Iterable[Reference]:
        """The signing keys."""
        return [Reference("signing key", name, (*path, "keys")) for name in self.keys]

    def credential(self) -> AskedCredential:
        """What a token must say."""
        return AskedCredential("bearer", tuple(self.keys), self.issuer, self.audience, self.typ)


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

    def credential(self) -> AskedCredential:
        """Where the key goes."""
        return AskedCredential("api-key", place=(self.in_, self.name))


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

    def credential(self) -> AskedCredential:
        """The cookie."""
        return AskedCredential("session-cookie", place=("cookie", self.cookie))


def _naming(value: Json) -> Json:
    """Raises where an entry names no scheme, with the one that is likely meant."""
    if isinstance(value, dict) and "scheme" in value:
        return value
    words = value if isinstance(value, dict) else [value]
    likely = next((name for name in SCHEMES if name in words), "bearer")
    raise wrong("a scheme is a mapping that names it", f"write - {{scheme: {likely}}}, with its options")


AnyScheme = Annotated[
    Annotated[BearerOptions, Tag("bearer")]
    | Annotated[BasicOptions, Tag("basic")]
    | Annotated[ApiKeyOptions, Tag("api-key")]
    | Annotated[SessionCookieOptions, Tag("session-cookie")],
    Discriminator(lambda value: value.get("scheme") if isinstance(value, dict) else getattr(value, "scheme", None)),
    BeforeValidator(_naming),
]


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
        self.claims = TokenReader(tuple(setup.keys[name] for name in options.keys), options.typ).claims
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
            return "wrong", self._unknown(x, id_)
        if x.now >= session.expires:
            return "expired", f"the session ended {_seconds(x.now - session.expires)} s ago"
        return self.setup.identity(x, session.name)

    def _unknown(self, x: Exchange, id_: str) -> str:
        """Why no session has this id: a desk may have signed it, and nobody has taken the signature off."""
        for name, key in self.setup.keys.items():
            plain = unsign_value(id_, key.verify) if isinstance(key.verify, bytes) else None
            if plain is not None and any(plain in desk.sessions for desk in self.setup.signed(x)):
                mend = f"write signed-with: {name} on the read-cookies stage"
                return f"the desk signs its cookie with the key {name}; {mend}"
        return "no session has this id"

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
