"""A group's ``desk``: sign-up, sign-in, refresh and sign-out."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple
from urllib.parse import quote

from patient_usher.core.handlers.base import Handler, Work
from patient_usher.core.http.authentication import challenge, credentials
from patient_usher.core.http.cookies import set_cookie, sign_value
from patient_usher.core.http.dates import MICROSECONDS, in_seconds, numeric_date
from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer, json_answer
from patient_usher.core.model.accounts import AccountSpec
from patient_usher.core.model.document import Json, JsonMapping, JsonObject
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.enumerations import WHY
from patient_usher.core.model.errors import Raised
from patient_usher.core.model.exchange import UNREAD, Exchange
from patient_usher.core.model.handler_specs import DeskSpec, HandlerSpec
from patient_usher.core.model.routes import GroupSpec, RouteSpec
from patient_usher.core.model.stage import Setup
from patient_usher.core.model.templates import Access, At, Template
from patient_usher.core.model.tokens import TokenReader, mint

_ROUTES = (
    ("sign-in", "POST", ""),
    ("sign-up", "POST", "/accounts"),
    ("refresh", "POST", "/refresh"),
    ("sign-out", "DELETE", ""),
)


def desk_routes(group: GroupSpec) -> Iterable[tuple[str, RouteSpec]]:
    """The desk's four routes, each with what it does; all but sign-out are open to everyone."""
    desk = group.desk
    if desk is None:
        return
    for action, method, tail in _ROUTES:
        segments = desk.at.segments + tuple(("literal", part) for part in tail.split("/")[1:])
        at = At(method, Template(desk.at.text + tail, segments))
        access = None if action == "sign-out" else Access("everyone")
        yield (
            action,
            RouteSpec.model_construct(
                id=f"{group.id}.{action}",
                at=at,
                access=access,
                stages=[],
                body_limit=None,
                input=None,
                cost=None,
                cache=None,
                clears=[],
                handler=HandlerSpec.model_construct(),
            ),
        )


class DeskSession(NamedTuple):
    """A session that a desk keeps; times are microseconds since the epoch."""

    name: str
    expires: int
    renewable_until: int
    tokens: str | None = None
    """The session of the tokens that were given along with it."""


class SignedSessions:
    """The state: who has signed up, the sessions that are open, the tokens that are over."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.made = 0
        self.accounts: dict[str, AccountSpec] = {}
        self.sessions: dict[str, DeskSession] = {}
        self.current: dict[str, str] = {}  # of each session that gives tokens, the token that counts now
        self.ended: set[str] = set()

    def judge(self, claims: JsonMapping) -> str:
        """Why a token of this desk's counts no more (signed-out, spent), or nothing.

        Using one that was exchanged for another ends the session: somebody has stolen one of the two
        (RFC 9700 4.14).
        """
        session, token = claims.get("sid"), claims.get("jti")
        if not isinstance(session, str) or session not in self.current:
            return ""
        if session in self.ended:
            return "signed-out"
        if self.current[session] != token:
            self.ended.add(session)
            return "spent"
        return ""


class Desk:
    """Signs accounts in and out. Tokens and session ids are made from the seed, so a replay repeats them."""

    def __init__(self, group: str, spec: DeskSpec, setup: Setup) -> None:
        self.group, self.spec, self.setup = group, spec, setup
        self.key = ("desk", group)
        self.signer = setup.keys[spec.keys] if spec.keys else None
        self.claims = TokenReader((self.signer,) if self.signer and "token" in spec.gives else ()).claims

    def fresh(self, seed: int) -> SignedSessions:
        """Nobody has signed in."""
        return SignedSessions(seed)

    def migrate(self, old: Desk, state: SignedSessions) -> SignedSessions:
        """Accounts and sessions go on."""
        return state

    def handler(self, action: str) -> Handler:
        """What the route of this action does."""
        actions: dict[str, Work] = {
            "sign-in": self.sign_in,
            "sign-up": self.sign_up,
            "refresh": self.refresh,
            "sign-out": self.sign_out,
        }
        return Handler(0, actions[action])

    def _state(self, x: Exchange) -> SignedSessions:
        state: SignedSessions = x.memory[self.key]
        return state

    def _new_id(self, x: Exchange) -> str:
        import hashlib

        state = self._state(x)
        state.made += 1
        return hashlib.sha256(f"{state.seed}/{self.group}/{state.made}".encode()).hexdigest()[:32]

    def _refused(self, message: str, why: str = "wrong") -> Raised:
        scheme = "Bearer" if "token" in self.spec.gives else "Session"
        fields = Fields([("WWW-Authenticate", challenge(scheme))])
        error = self.setup.errors.raised("Unauthenticated", message, fields=fields, why=why)
        error.by = "handler"
        return error

    def _pair(self, x: Exchange) -> tuple[str, str] | Raised:
        body: JsonObject = x.body if isinstance(x.body, dict) else {}
        missing = [name for name in ("name", "password") if not (isinstance(body.get(name), str) and body[name])]
        if missing:
            unread = ", since no stage has read the body" if x.body is UNREAD else ""
            message = f"the desk sees no {' and no '.join(missing)}{unread}"
            invalid = tuple({"pointer": f"/json/{name}", "message": "is missing"} for name in missing)
            return self.setup.errors.raised("InvalidInput", message, invalid=invalid)
        return body["name"], body["password"]

    def sign_up(self, x: Exchange) -> Effect:
        """A new account. 201, or Conflict where the name is taken."""
        pair = self._pair(x)
        if not isinstance(pair, tuple):
            return pair
        name, password = pair
        if self.setup.account(x, name) is not None:
            return self.setup.errors.raised("Conflict", f"there is an account {name} already")
        self._state(x).accounts[name] = AccountSpec.model_construct(password=password, roles=self.spec.signed_up_as)
        answer = json_answer(201, {"name": name})
        answer.fields.put("Location", f"{x.request.url.path}/{quote(name, safe='')}")
        return answer

    def sign_in(self, x: Exchange) -> Effect:
        """A token, a cookie or both for a name and its password."""
        pair = self._pair(x)
        if not isinstance(pair, tuple):
            return pair
        name, password = pair
        account = self.setup.account(x, name)
        if account is None or account.password is None or not self.setup.password_fits(account.password, password):
            return self._refused(f"no account has the name {name} and this password")
        return self._give(x, name, x.now)

    def _give(self, x: Exchange, name: str, since: int, session: Json = None) -> Effect:
        """What proves who is calling from now on; ``since`` is when the password was last given.

        ``session``: that of the tokens, which goes on. A cookie that was given along with them is over.
        """
        spec, state, seconds = self.spec, self._state(x), self.spec.lasts // MICROSECONDS
        tokens: str | None = None
        given: JsonObject = {"name": name}
        if "token" in spec.gives:
            assert self.signer is not None
            token = self._new_id(x)
            tokens = session if isinstance(session, str) else token
            state.current[tokens] = token
            claims = {
                "sub": name,
                "iat": in_seconds(x.now),
                "exp": in_seconds(x.now + spec.lasts),
                "auth_time": in_seconds(since),
                "jti": token,
                "sid": tokens,
                **{name: text for name, text in (("iss", spec.issuer), ("aud", spec.audience)) if text is not None},
            }
            given = {"token": mint(self.signer, claims)}
        answer = json_answer(200, {**given, "expires_in": seconds})
        if "cookie" in spec.gives:
            self._close_beside(state, tokens)
            id_ = self._new_id(x)
            state.sessions[id_] = DeskSession(name, x.now + spec.lasts, since + spec.renewable_for, tokens)
            value = sign_value(id_, self.signer.verify) if self.signer else id_
            max_age = spec.max_age // MICROSECONDS if spec.max_age is not None else None
            answer.fields.add("Set-Cookie", self._cookie(x, value, max_age))
        return answer

    def _close_beside(self, state: SignedSessions, tokens: str | None) -> None:
        """End the session of the cookie that was given along with these tokens."""
        if tokens is not None:
            for id_ in [id_ for id_, session in state.sessions.items() if session.tokens == tokens]:
                del state.sessions[id_]
                state.ended.add(id_)

    def _cookie(self, x: Exchange, value: str, max_age: int | None) -> str:
        spec = self.spec
        secure = x.scheme == "https"
        return set_cookie(
            spec.cookie,
            value,
            max_age=max_age,
            secure=secure,
            path=spec.path,
            domain=spec.domain,
            same_site=spec.same_site,
        )

    def refresh(self, x: Exchange) -> Effect:
        """Afresh what the desk gives, for an old token or cookie, expired or not, while it may be renewed.

        A desk that gives both goes by the token, where the body has one.
        """
        body = None if x.body is UNREAD else x.body
        token = body.get("token") if isinstance(body, dict) else None
        if "token" not in self.spec.gives or ("cookie" in self.spec.gives and token is None):
            return self._refresh_cookie(x)
        if not isinstance(token, str):
            invalid = ({"pointer": "/json/token", "message": "is missing"},)
            return self.setup.errors.raised("InvalidInput", "the desk sees no token to refresh", invalid=invalid)
        claims = self.claims(token)
        if isinstance(claims, str):
            return self._refused(f"this token can't be refreshed: {claims}")
        if why := self._state(x).judge(claims):
            return self._refused(WHY[why], why)
        since = numeric_date(claims.get("auth_time", claims.get("iat"))) or 0
        if x.now >= since + self.spec.renewable_for:
            return self._refused("the token is too old to refresh")
        return self._give(x, str(claims.get("sub")), since, claims.get("sid"))

    def _refresh_cookie(self, x: Exchange) -> Effect:
        id_ = self._session_id(x)
        session = self._state(x).sessions.get(id_) if id_ else None
        if session is None:
            return self._refused("no session to refresh")
        if x.now >= session.renewable_until:
            return self._refused("the session is too old to refresh")
        del self._state(x).sessions[id_ or ""]
        return self._give(x, session.name, session.renewable_until - self.spec.renewable_for, session.tokens)

    def _session_id(self, x: Exchange) -> str | None:
        return None if x.cookies is UNREAD else x.cookies.get(self.spec.cookie)

    def sign_out(self, x: Exchange) -> Effect:
        """From now on the token and the session that were given together count no more."""
        state, answer = self._state(x), Answer(204, Fields())
        tokens: Json = None
        if "token" in self.spec.gives:
            shown = credentials(x.request.fields.get("authorization"))
            claims = self.claims(shown[1]) if shown and shown[0] == "bearer" else ""
            tokens = claims.get("sid") if isinstance(claims, dict) else None
        if "cookie" in self.spec.gives:
            id_ = self._session_id(x)
            if id_ is not None and (session := state.sessions.pop(id_, None)) is not None:
                state.ended.add(id_)
                tokens = tokens or session.tokens
            answer.fields.add("Set-Cookie", self._cookie(x, "", 0))
        if isinstance(tokens, str):
            state.ended.add(tokens)
            self._close_beside(state, tokens)
        return answer
