"""What stages a service shows by its answers, with what options, and in which order they stand.

A field that is on a refusal was put outside of whoever refused; one that is missing there, inside. So every stage
that writes a field is placed by the refusals of the router, of authentication and of authorization.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import PHRASES
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.values import literal_tree
from patient_usher.core.questions.learn.interview import (
    STRANGER,
    Account,
    Interview,
    Question,
    ServiceAnswer,
    allowed,
    coding_of,
)

OWN_FIELDS = frozenset((
    "date", "content-length", "content-type", "content-encoding", "transfer-encoding", "connection", "keep-alive",
    "etag", "last-modified", "vary", "age", "cache-control", "expires", "set-cookie", "www-authenticate", "allow",
    "location",
    "retry-after", "content-range", "accept-ranges", "ratelimit", "ratelimit-policy", "x-ratelimit-limit",
    "x-ratelimit-remaining", "x-ratelimit-reset", "server-timing",
))  # fmt: skip
"""Fields of which more is known than that they are there."""
TYPES = {
    401: "Unauthenticated", 403: "Forbidden", 404: "NotFound", 405: "MethodNotAllowed", 406: "NotAcceptable",
    409: "Conflict", 429: "TooManyRequests", 503: "Unavailable",
}  # fmt: skip
_USUAL = {("in", "header"), ("name", "X-Api-Key")}
_OF_CONTENT = {"content-type", "content-length", "etag", "cache-control", "age"}
_NICE = (1, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 86400)


Has = Callable[[Question], bool]
"""Whether a stage's work shows on an answer."""


class ShownValue(NamedTuple):
    """An option, its value, and the request that showed it."""

    option: str
    value: Json
    by: str


class Placed(NamedTuple):
    """A stage, and where it stands: in front of the router or behind it, and in front of the error handler or not."""

    stage: JsonObject
    by: str
    group: bool = False
    outside_net: bool = True


class Observations:
    """What an interview showed. ``shown`` has every option with its request, ``unknown`` what no request told."""

    def __init__(self, interview: Interview) -> None:
        self.interview = interview
        self.answered = [question for question in interview.asked if question.reply is not None]
        self.shown: list[ShownValue] = []
        self.unknown: list[str] = []
        self.stages: list[Placed] = []
        nowhere = interview.of("nowhere")
        self.router = nowhere[0] if nowhere else None
        guarded = [one for one in interview.of("plain") if status(one) == 401]
        self.who_in_front = self.router is not None and status(self.router) == 401
        self.refused = guarded[0] if guarded else self.router if self.who_in_front else None
        """The first request that was refused for want of a credential."""
        self.crashes = self.router is not None and status(self.router) == 500
        """Whether the router's own refusal is a bare 500: then refusals are raised, and nothing catches them."""
        self.reports = self._error_form()
        self._look()

    # The stages.

    def _look(self) -> None:
        for stage in (self._unchallenged(), self._id(), *self._marks(), self._cors(), self._compress()):
            self.stages += [stage] if stage is not None else []
        limits, who, net = list(self._limits()), self._who(), self._net()
        early = [one for one in limits if self._is_early(str(one.stage["id"]))]
        late = [one for one in limits if one not in early]
        if self._refuses_first():
            self.stages, early = [*early, *self.stages], []
        cookies: Placed | None = None
        if who is not None and any(one["scheme"] == "session-cookie" for one in who.stage["schemes"]):
            cookies = who._replace(stage={"id": "read-cookies", "kind": "read-cookies"})
        self.stages += [one for one in (net, *early, cookies, who, *late) if one is not None]
        if who is not None:
            self.stages.append(Placed({"id": "may", "kind": "authorize"}, who.by, not self.who_in_front, False))
        for stage in (self._tags(), self._cache()):
            self.stages += [stage] if stage is not None else []

    def _show(self, option: str, value: Json, question: Question) -> None:
        self.shown.append(ShownValue(option, value, question.id))

    def _place(self, stage: JsonObject, by: Question, has: Has) -> Placed:
        """Where a stage stands whose work shows by ``has``: by its being there on the refusals of the router."""
        on_router = has(self.router) if self.router is not None and not self.crashes else True
        outside = on_router or self.reports is None
        return Placed(stage, by.id, group=not on_router and self.reports is None, outside_net=outside)

    def _refuses_first(self) -> bool:
        """Whether what a limit refuses lacks a field that is on all other answers: then it stands outside of that."""
        refused = [one for one in self.answered if status(one) == 429]
        others = [{*fields(one).names()} for one in self.answered if 0 < status(one) != 429 and status(one) != 500]
        everywhere = set.intersection(*others) if others else set()
        return any(everywhere - {*fields(one).names()} - _OF_CONTENT for one in refused)

    def _is_early(self, limit: str) -> bool:
        """Whether a limit's fields are on what authentication refuses."""
        return self.refused is None or _remaining(self.refused, limit) is not None

    def _unchallenged(self) -> Placed | None:
        """A 401 without a challenge, which the standard asks for (RFC 9110 15.5.2): something takes it off."""
        if self.refused is None or "www-authenticate" in fields(self.refused):
            return None
        stage: JsonObject = {"id": "no-challenge", "kind": "header-fields", "on-answer": {"drop": ["WWW-Authenticate"]}}
        self._show("no-challenge.on-answer.drop", ["WWW-Authenticate"], self.refused)
        return Placed(stage, self.refused.id)

    def _id(self) -> Placed | None:
        for name in self._names():
            found = [question for question in self.answered if name in fields(question)]
            values = {fields(question).get(name) for question in found}
            if len(found) > 2 and len(values) == len(found) and re.search(r"id|trace|correlation", name):
                stage: JsonObject = {"id": "request-id", "kind": "request-id"}
                if name != "x-request-id":
                    stage["header"] = _title(name)
                self._show("request-id.header", _title(name), found[0])
                return self._place(stage, found[0], lambda one, name=name: name in fields(one))  # type: ignore[misc]
        return None

    def _marks(self) -> Iterator[Placed]:
        """Fields that have one value wherever they are; those that are on the same answers are of one stage."""
        sets: dict[tuple[str, ...], dict[str, str]] = {}
        for name in self._names():
            found = [question for question in self.answered if name in fields(question)]
            values = {fields(question).get(name) for question in found}
            routes = {question.route for question in found}
            if len(values) == 1 and len(found) > 1 and (None in routes or len(routes) > 1):
                sets.setdefault(tuple(one.id for one in found), {})[_title(name)] = literal_tree(values.pop() or "")
        for number, (ids, put) in enumerate(sets.items(), 1):
            first = next(question for question in self.answered if question.id == ids[0])
            id_ = "marks" if number == 1 else f"marks-{number}"
            self._show(f"{id_}.on-answer.put", put, first)
            lower = {name.lower() for name in put}
            stage = {"id": id_, "kind": "header-fields", "on-answer": {"put": put}}
            yield self._place(stage, first, lambda one, lower=lower: lower <= {*fields(one).names()})  # type: ignore[misc]

    def _names(self) -> list[str]:
        """The names of fields of which nothing is known beforehand."""
        pairs = [pair for question in self.answered for pair in fields(question).pairs()]
        odd = {name.lower() for name, value in pairs if not value.isprintable()}  # which no pipeline can say
        found = {name for question in self.answered for name in fields(question).names()} - odd
        everywhere = {*fields(self.router).names()} & {"cache-control", "expires"} if self.router is not None else set()
        known = OWN_FIELDS - everywhere  # what is on the router's own refusal no handler has put
        return sorted(name for name in found if name not in known and not name.startswith("access-control-"))

    def marked(self) -> set[str]:
        """The fields that stages write of which nothing is known beforehand, in lower case."""
        puts = [one.stage.get("on-answer", {}).get("put", {}) for one in self.stages]
        ids = [str(one.stage.get("header", "x-request-id")) for one in self.stages if one.stage["kind"] == "request-id"]
        return {name.lower() for name in (*(name for put in puts for name in put), *ids)}

    def _cors(self) -> Placed | None:
        interview = self.interview
        asked = [*interview.of("origin"), *interview.of("preflight"), *interview.of("origin-nowhere")]
        open_ = [one for one in asked if allowed(one)]
        if not open_:
            varied = next((one for one in self.answered if "origin" in _vary(one)), None)
            if varied is None:
                return None
            self.unknown.append("browsers.allow-origins: an --origin that the service lists would tell")
            listed = ["https://listed-by-the-service.example"]
            return self._place(
                {"id": "browsers", "kind": "cors", "allow-origins": listed}, varied, lambda one: "origin" in _vary(one)
            )
        first = open_[0]
        origins: Json = list(dict.fromkeys(_origin(one) for one in open_ if _origin(one) != STRANGER))
        everyone = any(fields(one).get("access-control-allow-origin") == "*" for one in open_)
        stage: JsonObject = {"id": "browsers", "kind": "cors", "allow-origins": "*" if everyone else origins}
        if not everyone and any(_origin(one) == STRANGER for one in open_):
            stage["allow-origins"] = [*origins, STRANGER]
            self.unknown.append("browsers.allow-origins: the service allows any origin by name, which no option says")
        self._show("browsers.allow-origins", stage["allow-origins"], first)
        if any(fields(one).get("access-control-allow-credentials") == "true" for one in open_):
            stage["allow-credentials"] = True
            self._show("browsers.allow-credentials", True, first)
        exposed = next((value for one in open_ if (value := fields(one).get("access-control-expose-headers"))), None)
        if exposed:
            stage["expose-headers"] = _listed(exposed)
        granted = [one for one in open_ if one.sort == "preflight"]
        for one in granted[:1]:
            for name, key in (("methods", "allow-methods"), ("headers", "allow-headers")):
                if value := fields(one).get(f"access-control-allow-{name}"):
                    stage[key] = _listed(value)
                    self._show(f"browsers.{key}", stage[key], one)
            age = fields(one).get("access-control-max-age")
            if age is not None and age.isdigit():
                stage["max-age"] = f"{age}s"
                self._show("browsers.max-age", stage["max-age"], one)
            if status(one) != 204:
                stage["preflight-status"] = status(one)
        if not granted:
            self.unknown.append("browsers: no preflight was granted, so its lists are unknown")
        on_router = interview.of("origin-nowhere")
        behind = (
            bool(on_router) and not self.crashes and not allowed(on_router[0]) and "origin" not in _vary(on_router[0])
        )
        return Placed(stage, first.id, group=behind and self.reports is None, outside_net=not behind)

    def _compress(self) -> Placed | None:
        asked = self.interview.of("coding")
        coded = [one for one in asked if coding_of(one)]
        if not coded:
            if asked:
                self.unknown.append("compress: no content was coded; a larger one would tell")
            return None
        codings = list(dict.fromkeys(coding_of(one) for one in coded))
        sizes = {one.route: len(one.reply.content) for one in self.interview.of("plain") if one.reply is not None}
        least = min(sizes[one.route] for one in coded if one.route in sizes)
        stage = {"id": "squeeze", "kind": "compress", "codings": codings, "from-size": least}
        self._show("squeeze.codings", codings, coded[0])
        self.shown.append(ShownValue("squeeze.from-size", f"at most {least}", coded[-1].id))
        return Placed(stage, coded[0].id)

    def _tags(self) -> Placed | None:
        fresh = [one for one in self.interview.of("condition") if status(one) == 304]
        if not fresh:
            return None
        weak = fresh[0].headers.get("If-None-Match", "").startswith("W/")
        self._show("tags.etag", "weak" if weak else "strong", fresh[0])
        stage: JsonObject = {"id": "tags", "kind": "conditional"} | ({} if weak else {"etag": "strong"})
        return Placed(stage, fresh[0].id, group=not self.who_in_front and self.refused is not None, outside_net=False)

    def _cache(self) -> Placed | None:
        kept = [one for one in self.answered if "age" in fields(one)]
        if not kept:
            return None
        self._show("shelf", "gives copies", kept[0])
        inner = not self.who_in_front and self.refused is not None
        return Placed({"id": "shelf", "kind": "cache"}, kept[0].id, group=inner, outside_net=False)

    def _limits(self) -> Iterator[Placed]:
        """One for each policy that answers name (RateLimit-Policy), or one for the older fields."""
        policies: dict[str, tuple[str, Question]] = {}
        for one in self.answered:
            for item in _items(fields(one).get("ratelimit-policy")):
                policies.setdefault(_item_name(item), (item, one))
        lists = (_items(fields(one).get("ratelimit-policy")) for one in self.answered)
        longest = [_item_name(item) for item in max(lists, key=len, default=[])]
        outer_first = sorted(policies, key=lambda name: -longest.index(name) if name in longest else 1)
        for name, (item, first) in ((name, policies[name]) for name in outer_first):
            older = "x-ratelimit-limit" in fields(first)
            window = _parameter(item, "w")
            stage: JsonObject = {"id": name, "kind": "rate-limit", "quota": _parameter(item, "q") or 1}
            stage |= {"algorithm": "at-once"} if window is None else {"window": f"{window}s"}
            stage |= {"fields": ["ratelimit", "x-ratelimit"]} if older else {}
            yield self._counting(stage, first)
        if policies:
            return
        first_older = next((one for one in self.answered if "x-ratelimit-limit" in fields(one)), None)
        if first_older is None:
            found = self._limit_by_refusal()
            yield from [found] if found is not None else []
            return
        texts = [fields(one).get("x-ratelimit-reset") or "" for one in self.answered]
        most = max((int(text) for text in texts if text.isdigit() and int(text) <= _NICE[-1]), default=60)
        window = next((one for one in _NICE if one >= most), 60)
        self.unknown.append(f"fair.window: at least {most}s; nothing says it outright")
        quota = int(fields(first_older).get("x-ratelimit-limit") or 1)
        stage = {"id": "fair", "kind": "rate-limit", "quota": quota, "window": f"{window}s", "fields": ["x-ratelimit"]}
        yield self._counting(stage, first_older)

    def _counting(self, stage: JsonObject, first: Question) -> Placed:
        """A limit that says what is left: what it counts apart, on which routes it stands, and where."""
        name = str(stage["id"])
        self._show(f"{name}.quota", stage["quota"], first)
        if "window" in stage:
            self._show(f"{name}.window", stage["window"], first)
        counted = [one for one in self.answered if _remaining(one, name) is not None]
        per = self._per(counted, name, int(stage["quota"]))
        stage |= {"per": per} if per != ["address"] else {}
        if _remaining(first, name) == stage["quota"]:
            stage["counts"] = "failures"
            self._show(f"{name}.counts", "failures", first)
        on = {one.route for one in counted}
        off = {one.route for one in self.answered if status(one) < 400 and one.method == "GET"} - on
        if off - {None}:
            routes = [known for known in self.interview.routes if known.id in on]
            stage["only"] = [f"{known.method} {_pattern(known.template)}" for known in routes] or ["/**"]
        placed = self._place(stage, first, lambda one: _remaining(one, name) is not None)
        behind_who = self.refused is not None and _remaining(self.refused, name) is None and not self.who_in_front
        return placed._replace(group=placed.group or (behind_who and self.reports is None))

    def _limit_by_refusal(self) -> Placed | None:
        """A limit that only refuses: what had been asked before it did is its quota, at most."""
        over = next((one for one in self.interview.asked if status(one) == 429), None)
        if over is None:
            if not self.interview.of("burst"):
                self.unknown.append("rate limits that no header announces: --bursts N would tell")
            return None
        wait = fields(over).get("retry-after") or ""
        window = next((one for one in _NICE if wait.isdigit() and one >= int(wait)), 60)
        refused = [one for one in self.answered if status(one) == 429]
        if len(refused) > 1 and wait.isdigit():  # the second window was met whole
            ends = [one.at / 1_000_000 + int(fields(one).get("retry-after") or 0) for one in refused[:2]]
            window = min(_NICE, key=lambda nice: abs(nice - (ends[1] - ends[0])))
        since = (over.at - window * 1_000_000, over.at)
        spans = [since, *((a.at, b.at) for a, b in pairwise(refused[:2]))]
        passed = [one for one in self.answered if status(one) not in (0, 401, 403, 429) and one.sort != "preflight"]
        by_all, by_own = (
            [len([one for one in some if a < one.at < b]) for a, b in spans]
            for some in (passed, [one for one in passed if one.account == over.account])
        )
        apart = by_all != by_own and len({*by_own}) == 1
        if apart and len({*by_all}) == 1:
            self.unknown.append("fair.per: by caller, or for all together; a second refusal would tell")
        sent = by_own[-1] if apart else by_all[-1]
        self._show("fair.quota", sent, over)
        self.unknown.append(f"fair.window: at least {wait or '?'}s; nothing says it outright")
        stage: JsonObject = {"id": "fair", "kind": "rate-limit", "quota": max(sent, 1), "window": f"{window}s"}
        stage |= {"per": ["identity-or-address"]} if apart else {}
        behind = self.refused is not None and self.refused.at < over.at
        return Placed(stage | {"fields": []}, over.id, group=behind and not self.who_in_front, outside_net=False)

    def _per(self, counted: Sequence[Question], name: str, quota: int) -> list[str]:
        """By what it counts, as far as one who comes later starts anew."""
        before: list[Question] = []
        by_name = by_route = False
        for question in counted:
            fresh = _remaining(question, name) == quota - 1 and bool(before)
            by_name |= fresh and question.account not in {one.account for one in before}
            by_route |= fresh and question.route not in {one.route for one in before}
            before.append(question)
        return [*(["identity-or-address"] if by_name else ["address"]), *(["route"] if by_route else [])]

    # Who may, and errors.

    def _who(self) -> Placed | None:
        if self.refused is None:
            return None
        challenges = fields(self.refused).values("www-authenticate")
        text = ", ".join(challenges)
        realm = re.search(r'realm="([^"]*)"', text)
        stage: JsonObject = {"id": "who", "kind": "authenticate", "schemes": self._schemes(text)}
        if realm:
            stage["realm"] = literal_tree(realm[1])
        passed = self.interview.of("wrong-where-open")
        if passed and status(passed[0]) < 400:
            stage["wrong-credential"] = "by-access"
            self._show("who.wrong-credential", "by-access", passed[0])
        self._show("who.schemes", [one["scheme"] for one in stage["schemes"]], self.refused)
        return Placed(stage, self.refused.id, group=not self.who_in_front, outside_net=False)

    def _schemes(self, challenge: str) -> list[JsonObject]:
        """The schemes that the challenge names, in its order; else those of the accounts that are known."""
        named = [
            (word[1], word[2])
            for word in re.finditer(r"(?i)(bearer|basic|apikey|session)\b([^,]*(?:,\s*\w+=[^,]*)*)", challenge)
        ]
        accounts = {account.scheme: account for account in self.accounts()}
        found: list[JsonObject] = []
        for name, rest in named:
            if name.lower() == "apikey":
                place = dict(re.findall(r'(in|name)="([^"]*)"', rest))
                own = {key: value for key, value in place.items() if (key, value) not in _USUAL}
                found.append({"scheme": "api-key", **own})
            elif name.lower() == "basic":
                found.append({"scheme": "basic"})
            elif name.lower() == "session":
                found.append({"scheme": "session-cookie"})
                self.unknown.append("who.schemes: the name of the session's cookie")
            elif "bearer" not in accounts:
                found.append({"scheme": "bearer", "keys": "main"})
        missing = [
            one
            for one in accounts.values()
            if {"bearer": "api-key"}.get(one.scheme, one.scheme) not in {scheme["scheme"] for scheme in found}
        ]
        if not missing or not challenge:
            found += [{"scheme": "basic" if one.scheme == "basic" else "api-key"} | _field(one) for one in missing]
            return found or [{"scheme": "api-key"}]
        for account in missing:  # in words of their own, since no challenge of ours says what this one's does
            scheme: JsonObject = {"scheme": "basic" if account.scheme == "basic" else "api-key"}
            scheme |= _field(account)
            for why, sort in (("absent", "plain"), ("wrong", "wrong")):
                one = next((one for one in self.interview.of(sort) if status(one) == 401), None)
                if one is not None:
                    values = literal_tree(fields(one).get("www-authenticate"))
                    scheme[why] = {"status": 401, **({"headers": {"WWW-Authenticate": values}} if values else {})}
            found.append(scheme)
        return found

    def accounts(self) -> list[Account]:
        """The accounts for which anything was opened: what nothing knows is no credential of this service."""
        asked = self.interview.of("known")
        let_in = {one.account for one in asked if status(one) != 401}
        return [account for account in self.interview.accounts if account.name in let_in]

    def _error_form(self) -> str | None:
        """The form of errors that an error handler writes; None where refusals are plain."""
        for question in self._errors():
            kind = (fields(question).get("content-type") or "").partition(";")[0].strip().lower()
            if kind == "application/problem+json":
                return "problem-json"
            if kind == "application/json":
                return "json"
            if kind == "text/html":
                return "html"
        return None

    def _errors(self) -> list[Question]:
        return [one for one in self.answered if status(one) >= 400 and one.method == "GET" and one.reply is not None]

    def _net(self) -> Placed | None:
        if self.reports is None:
            return None
        stage: JsonObject = {"id": "net", "kind": "error-handler"}
        errors = self._errors()
        messages: dict[int, str] = {}
        if self.reports == "json":
            shape = _shape([one.reply for one in errors if one.reply is not None], messages)
            stage |= {"write-as": "json"} | ({"shape": shape} if shape is not None else {})
        elif self.reports == "html":
            stage["write-as"] = "html"
        else:
            for one in errors:
                said = json_of(one.reply)
                if isinstance(said, dict) and isinstance(said.get("detail"), str):
                    messages.setdefault(status(one), said["detail"])
        answers = [
            {"raised": TYPES[code], "message": literal_tree(text)} for code, text in messages.items() if code in TYPES
        ]
        if answers:
            stage["answers"] = answers
        self._show("net.write-as", self.reports, errors[0])
        inner = self.router is not None and self.router not in errors
        return Placed(stage, errors[0].id, group=inner, outside_net=False)


def _field(account: Account) -> JsonObject:
    """Where a key is looked for, if that isn't where it usually is."""
    return {"name": account.field} if account.scheme != "basic" and account.field != "X-Api-Key" else {}


def status(question: Question) -> int:
    """The status; 0 where no answer came."""
    return question.reply.status if question.reply is not None else 0


def fields(question: Question) -> Fields:
    """The header fields of an answer that came."""
    return question.reply.fields if question.reply is not None else Fields()


def _title(name: str) -> str:
    return "-".join(part.capitalize() for part in name.split("-"))


def _listed(value: str) -> list[str]:
    return [part.strip() for part in value.split(",") if part.strip()]


def _vary(question: Question) -> list[str]:
    return [name.lower() for value in fields(question).values("vary") for name in _listed(value)]


def _origin(question: Question) -> str:
    return question.headers.get("Origin", "")


def _items(value: str | None) -> list[str]:
    """The items of a structured list (RFC 9651 3.1)."""
    return [item.strip() for item in (value or "").split(",") if item.strip()]


def _item_name(item: str) -> str:
    """An item's name, as an id."""
    return re.sub(r"[^\w-]+", "-", item.partition(";")[0].strip().strip('"')).strip("-").lower() or "fair"


def _remaining(question: Question, name: str) -> int | None:
    """What is left of a quota, as an answer says it."""
    items = _items(fields(question).get("ratelimit"))
    found = next((_parameter(item, "r") for item in items if _item_name(item) == name), None)
    older = fields(question).get("x-ratelimit-remaining") or ""
    return found if found is not None or items else int(older) if older.isdigit() else None


def _pattern(template: str) -> str:
    """A route's template as a pattern of paths."""
    return re.sub(r"\{[^}]*\}", "*", re.sub(r"\{\+[^}]*\}", "**", template))


def _parameter(value: str, name: str) -> int | None:
    found = re.search(rf";\s*{name}=(\d+)", value)
    return int(found[1]) if found else None


def json_of(reply: ServiceAnswer | None) -> Json:
    try:
        return json.loads(reply.content) if reply is not None else None
    except ValueError:
        return None


def _shape(replies: Sequence[ServiceAnswer], messages: dict[int, str]) -> Json:
    """The form of JSON errors, with what differs as placeholders; ``messages`` gets each status's own text."""
    documents = [(reply.status, said) for reply in replies if isinstance(said := json_of(reply), dict)]
    if not documents:
        return None

    def formed(value: Json, path: tuple[str, ...], code: int) -> Json:
        if isinstance(value, dict):
            return {key: formed(one, (*path, key), code) for key, one in value.items()}
        if value == code and not isinstance(value, bool):
            return "${error.status}"
        if isinstance(value, str):
            others = [(other, _at(said, path)) for other, said in documents if other != code]
            if value == PHRASES.get(code) and all(text == PHRASES.get(other) for other, text in others):
                return "${error.title}"
            if not others or any(text != value for _, text in others):
                for other, text in [(code, value), *others]:
                    if isinstance(text, str):
                        messages.setdefault(other, text)
                return "${error.message}"
        return literal_tree(value)

    code, first = documents[0]
    return formed(first, (), code)


def _at(value: Json, path: tuple[str, ...]) -> Json:
    for key in path:
        value = value.get(key) if isinstance(value, dict) else None
    return value
