"""The pipeline that answers as a service did: its stages, routes and accounts, with the requests that showed them."""

from __future__ import annotations

import base64
import re
from collections.abc import Sequence
from typing import NamedTuple

from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.values import literal_tree
from patient_usher.core.questions.learn.inference import Observations, json_of, status
from patient_usher.core.questions.learn.interview import Account, Interview, Known, ServiceAnswer

_ANSWERED = frozenset((
    "date", "content-length", "transfer-encoding", "connection", "keep-alive", "etag", "vary", "age", "server",
))  # fmt: skip
_KEY = "${env:SIGNING_SECRET|made-up-secret-until-the-real-one-is-set}"
_NOT_THERE = (0, 401, 403, 404, 405, 429, 500)
"""How a router, or somebody in front of it, says that nothing is there."""
FAILURE = "Failure"
"""The type of error of a handler that fails: the service doesn't say its own."""
_TEXT = re.compile(r"text/|json|xml|javascript|x-www-form-urlencoded")


class Learned(NamedTuple):
    """The document, and what it was made of. ``comments`` stand above its members."""

    document: JsonObject
    comments: dict[str, str]
    found: Observations


def learned(interview: Interview, name: str) -> Learned:
    """Make the pipeline of what was asked."""
    found = Observations(interview)
    top = [one.stage for one in found.stages if not one.group and one.outside_net]
    top += [one.stage for one in found.stages if not one.group and not one.outside_net]
    inner = [one.stage for one in found.stages if one.group]
    who = next((one for one in found.stages if one.stage["id"] == "who"), None)
    roles = _roles(interview)
    routes = [_route(found, known, roles) for known in interview.routes]
    if found.router is not None and status(found.router) not in _NOT_THERE:
        answer = found.router.reply
        everything = {"id": "anything", "at": "GET /{+path}", "access": "everyone"}
        routes.append(everything | ({"handler": {"answer": _answer(found, answer, cached=False)}} if answer else {}))
    if _takes_any_method(interview):
        gets = {entry["at"]: entry for entry in reversed(routes) if entry["at"].startswith("GET ")}
        for method in ("OPTIONS", "TRACE"):
            twins = ((f"{method} {at[4:]}", entry) for at, entry in gets.items())
            routes += [{**entry, "id": f"{entry['id']}-{method.lower()}", "at": at} for at, entry in twins]
    document: JsonObject = {"patient-usher": "pipeline/1", "name": name}
    if found.reports is not None or found.crashes:
        document["refuse"] = "raise"
    document["stages"] = top
    if inner:
        document["groups"] = [{"id": "api", "stages": inner, "routes": routes}]
    else:
        document["routes"] = routes
    if any(route["handler"] == {"raise": FAILURE} for route in routes):
        document["errors"] = {FAILURE: {}}
    if who is not None and found.accounts():
        document["accounts"] = {one.name: _account(one, roles) for one in found.accounts()}
    if who is not None and any(one["scheme"] == "bearer" for one in who.stage["schemes"]):
        document["signing-keys"] = {"main": {"algorithm": "HS256", "secret": _KEY}}
    comments = {
        "stages": _shown(found),
        "accounts": "what callers show is read from the environment",
        "signing-keys": "unknown: how tokens are signed",
    }
    if not inner:
        comments["routes"] = "handlers answer as the service did"
    return Learned(document, {key: text for key, text in comments.items() if key in document}, found)


def _takes_any_method(interview: Interview) -> bool:
    """Whether a method that no route was made for is answered as GET is."""
    return any(
        one.reply is not None and plain.reply is not None and one.reply.content == plain.reply.content
        for one in interview.of("no-method")
        for plain in interview.of("plain", one.route)
        if status(one) == status(plain) < 400
    )


def _shown(found: Observations) -> str:
    lines = [f"{one.option}: {one.value}, shown by {one.by}" for one in found.shown]
    lines += [f"not shown: {text}" for text in found.unknown]
    return "\n".join(lines) or "no answer showed any stage"


def _roles(interview: Interview) -> dict[frozenset[str], str]:
    """A role for every set of accounts that some route lets in and others don't."""
    every = frozenset(one.name for one in interview.accounts)
    sets = {_let_in(interview, known) for known in interview.routes} - {every, frozenset()}
    return {names: f"role-{number}" for number, names in enumerate(sorted(sets, key=sorted), 1)}


def _let_in(interview: Interview, known: Known) -> frozenset[str]:
    asked = interview.of("known", known.id)
    return frozenset(one.account for one in asked if status(one) not in (401, 403) and one.account is not None)


def _account(account: Account, roles: dict[frozenset[str], str]) -> JsonObject:
    own = [role for names, role in roles.items() if account.name in names]
    said: JsonObject = {"api-keys": [account.value]}
    if account.scheme == "basic":
        said = {"password": base64.b64decode(account.value.partition(" ")[2]).decode().partition(":")[2]}
    return said | ({"roles": own} if own else {})


def _route(found: Observations, known: Known, roles: dict[frozenset[str], str]) -> JsonObject:
    interview = found.interview
    plain = next(iter(interview.of("plain", known.id)), None)
    entry: JsonObject = {"id": known.id, "at": f"{known.method} {known.template}"}
    if plain is None:
        return entry | {"access": "everyone", **_guess(known)}
    let_in = _let_in(interview, known)
    answer = plain.reply
    entry["access"] = "everyone"
    if status(plain) in (401, 403):
        entry["access"] = {"role": roles[let_in]} if let_in in roles else "signed-in"
        asked = interview.of("known", known.id)
        if asked and not let_in and all(status(one) == 403 for one in asked):
            entry["access"] = "nobody"
        answer = next((one.reply for one in asked if one.account in let_in), None)
    if answer is None:
        return entry | _guess(known)
    if answer.status == 500 and status(plain) == 500:
        return entry | {"handler": {"raise": FAILURE}}
    kept = _cached(found, answer)
    if kept is not None:
        entry["cache"] = kept
    return entry | {"handler": {"answer": _answer(found, answer, cached=kept is not None)}}


def _guess(known: Known) -> JsonObject:
    """What is answered where nothing was asked: what the route was known to answer, or little."""
    return {"handler": known.spec.get("handler") or {"answer": {"text": "not asked"}}}


def _cached(found: Observations, answer: ServiceAnswer) -> Json:
    """The lifetimes of a copy, where a cache shows and the answer says them."""
    control = answer.fields.get("cache-control") or ""
    shared, own = (re.search(rf"(?<![-\w]){name}=(\d+)", control) for name in ("s-maxage", "max-age"))
    if not any(one.stage["kind"] == "cache" for one in found.stages) or own is None:
        return None
    lifetimes = {"shared": f"{(shared or own)[1]}s", "private": f"{own[1]}s"}
    return lifetimes["shared"] if lifetimes["shared"] == lifetimes["private"] else lifetimes


def _answer(found: Observations, answer: ServiceAnswer, *, cached: bool) -> JsonObject:
    """What the handler gives, without what stages have put."""
    left_out = {*_ANSWERED, *found.marked(), "content-encoding"}
    left_out |= {"cache-control"} if cached else set()
    kind = answer.fields.get("content-type") or ""
    made: JsonObject = {"status": answer.status} if answer.status != 200 else {}
    said = json_of(answer) if kind.startswith("application/json") else None
    headers = {}
    for name, value in answer.fields.pairs():
        lower = name.lower()
        stage = lower.startswith(("access-control-", "ratelimit", "x-ratelimit"))
        if lower not in left_out and not stage and lower != "content-type" and value.isprintable():
            headers[name] = value
    if said is not None:
        made["json"] = literal_tree(said)
    elif answer.content and _TEXT.search(kind):
        made["text"] = literal_tree(answer.content.decode("utf-8", "replace"))
        if not kind.startswith("text/plain"):
            headers["Content-Type"] = kind
    elif answer.content:
        made["size"] = len(answer.content)
        headers["Content-Type"] = kind
    if headers:
        made["headers"] = {name: literal_tree(value) for name, value in headers.items()}
    return made or {"status": 200}


def written(document: JsonObject, accounts: Sequence[Account]) -> JsonObject:
    """The document as files may have it: what callers show is read from the environment."""
    found = dict(document)
    said: JsonObject = {}
    for account in accounts:
        entry = dict(document.get("accounts", {}).get(account.name, {}))
        if "api-keys" in entry:
            entry["api-keys"] = [account.written]
        elif "password" in entry:
            entry["password"] = account.written
        said[account.name] = entry
    return found | ({"accounts": said} if "accounts" in found else {})
