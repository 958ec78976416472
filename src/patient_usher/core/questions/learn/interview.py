"""The questions that a service is asked, in their order, and what came of each.

Plain requests come first, then credentials, origins, codings and conditions, and bursts last: a question changes what
it asks about, since limits count it and caches keep it. Two mistakes in one request show who answers first.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from patient_usher.core.http.fields import Fields
from patient_usher.core.model.document import Json, JsonObject

MOST = 60
"""How many requests are sent, where nobody says."""
MOST_A_ROUTE, MOST_AN_ACCOUNT = 12, 6
STRANGER = "https://strangers.example"
"""An origin that no service lists."""
NOWHERE = "/asked-for-but-not-there"
CODINGS = ("gzip", "br", "zstd", "deflate")


class Account(NamedTuple):
    """A caller who may be known: how they show it.

    ``field`` holds ``value``; ``scheme`` is basic, bearer or api-key. ``written`` is what files may say in its place.
    """

    name: str
    scheme: str
    field: str
    value: str
    written: str


class Known(NamedTuple):
    """A route that is known of: ``template`` as pipelines write it, ``target`` a path and query that fit it."""

    id: str
    method: str
    template: str
    target: str
    spec: JsonObject


class ServiceAnswer(NamedTuple):
    """An answer."""

    status: int
    fields: Fields
    content: bytes


class Question(NamedTuple):
    """One request that was sent, what it was to tell, and what came; ``reply`` None: no answer."""

    id: str
    sort: str
    route: str | None
    method: str
    target: str
    headers: dict[str, str]
    account: str | None
    reply: ServiceAnswer | None
    at: int


Send = Callable[[str, str, dict[str, str]], tuple[ServiceAnswer | None, int]]
"""Asks by method, target and header fields. Gives the answer, and when it was asked, in microseconds."""


class Interview:
    """What was asked so far. ``watch`` is told each question, as it was answered."""

    def __init__(
        self,
        send: Send,
        routes: Sequence[Known],
        accounts: Sequence[Account],
        origins: Sequence[str],
        *,
        most: int = MOST,
        bursts: int = 0,
        wait: Callable[[int], bool] = lambda seconds: False,
        watch: Callable[[Question], None] = lambda question: None,
    ) -> None:
        """``wait`` waits so many seconds, or says that it doesn't."""
        self._send, self._watch, self._most, self._wait = send, watch, most, wait
        self.routes, self.accounts, self.origins, self.bursts = routes, accounts, origins, bursts
        self.asked: list[Question] = []
        self.left_out: list[str] = []
        """What wasn't asked, and why."""
        self.stopped = False
        """Whether a limit was met that asked to wait too long: nothing behind it tells of anything else."""

    def run(self) -> None:
        """Ask everything."""
        reads = [route for route in self.routes if route.method == "GET"]
        for route in reads:
            self.ask("plain", route)
        self._where_nothing_is(reads)
        self._credentials(reads)
        self._pages(reads)
        self._content(reads)
        self._burst(reads)

    def ask(
        self,
        sort: str,
        route: Known | None,
        *,
        method: str = "GET",
        target: str = "",
        account: Account | None = None,
        headers: Mapping[str, str] = {},
    ) -> Question | None:
        """Send a request, unless that were too many."""
        own = sum(question.route == route.id for question in self.asked) if route is not None else 0
        theirs = sum(question.account == account.name for question in self.asked) if account is not None else 0
        if (
            self.stopped
            or len(self.asked) >= self._most
            or (sort != "burst" and (own >= MOST_A_ROUTE or theirs >= MOST_AN_ACCOUNT))
        ):
            why = "a limit was met" if self.stopped else "enough was asked"
            self.left_out.append(f"{sort} {route.id if route is not None else target}: {why}")
            return None
        fields = dict(headers)
        sent = fields | ({account.field: account.value} if account is not None else {})
        target = target or (route.target if route is not None else "/")
        reply, at = self._send(method, target, sent)
        id_ = f"{sort}-{len(self.asked) + 1}"
        name = account.name if account is not None else None
        question = Question(id_, sort, route.id if route is not None else None, method, target, fields, name, reply, at)
        self.asked.append(question)
        self._watch(question)
        if reply is None or reply.status != 429 or sort == "burst":
            return question
        self.asked[-1] = question._replace(sort="limited")  # of anything else it says nothing
        after = reply.fields.get("retry-after") or ""
        if self.stopped or not after.isdigit() or not self._wait(int(after)):
            self.stopped = True
            return None
        return self.ask(sort, route, method=method, target=target, account=account, headers=headers)

    # What is asked.

    def _where_nothing_is(self, reads: Sequence[Known]) -> None:
        self.ask("nowhere", None, target=NOWHERE)
        open_ = [route for route in reads if self.status(route) == 200] or list(reads)
        for route in open_[:1]:
            self.ask("head", route, method="HEAD")
            self.ask("no-method", route, method="TRACE")
            self.ask("again", route)

    def _credentials(self, reads: Sequence[Known]) -> None:
        guarded = [route for route in reads if self.status(route) in (401, 403)]
        if not self.accounts:
            return
        challenges = " ".join(self.reply(route).fields.get("www-authenticate") or "" for route in guarded)
        named = re.search(r'ApiKey [^,]*?(?:, *)?in="header", *name="([^"]+)"', challenges)
        if named is not None:  # the service says itself where it looks for keys
            self.accounts = [one._replace(field=named[1]) if one.scheme == "api-key" else one for one in self.accounts]
        for account in self.accounts:
            for route in guarded:
                self.ask("known", route, account=account)
        account = self.accounts[0]
        wrong = {account.field: wrong_value(account)}
        for route in guarded[:1]:
            self.ask("wrong", route, headers=wrong)
        for route in [route for route in reads if self.status(route) == 200][:1]:
            self.ask("wrong-where-open", route, headers=wrong)
        self.ask("nowhere-known", None, target=NOWHERE, account=account)

    def _pages(self, reads: Sequence[Known]) -> None:
        open_ = [route for route in reads if self.status(route) == 200]
        guarded = [route for route in reads if self.status(route) in (401, 403)]
        for origin in (*self.origins[:2], STRANGER) if self.origins else (STRANGER,):
            for route in (open_ or guarded)[:1]:
                self.ask("origin", route, headers={"Origin": origin})
        for origin in self.origins[:1]:
            for route in guarded[:1] if open_ else ():
                self.ask("origin", route, headers={"Origin": origin})
            self.ask("origin-nowhere", None, target=NOWHERE, headers={"Origin": origin})
        origin = self.origins[0] if self.origins else STRANGER
        for route in [*open_[:1], *guarded[:1]]:
            self.preflight(route, origin, "GET")
        if self.origins and any(allowed(question) for question in self.asked if question.sort == "preflight"):
            places = {route.template: route for route in self.routes}
            others = {route.method: route for route in self.routes if route.method not in ("GET", "HEAD", "POST")}
            for method, route in list(others.items())[:2]:
                self.preflight(places.get(route.template, route), origin, method)
            for route in [*open_[:1], *guarded[:1]][:1]:
                self.preflight(route, STRANGER, "GET")

    def preflight(self, route: Known, origin: str, method: str) -> None:
        """Ask whether a page may (Fetch 3.2.2), with the fields that pages send most."""
        asked = {"Origin": origin, "Access-Control-Request-Method": method}
        asked["Access-Control-Request-Headers"] = "authorization,content-type"
        self.ask("preflight", route, method="OPTIONS", headers=asked)

    def _content(self, reads: Sequence[Known]) -> None:
        open_ = [route for route in reads if self.status(route) == 200]
        open_.sort(key=lambda route: -len(self.reply(route).content))
        coded = False
        for route in open_[:1]:
            question = self.ask("coding", route, headers={"Accept-Encoding": ", ".join(CODINGS)})
            coded = question is not None and coding_of(question) in CODINGS
            for coding in CODINGS if coded else ():
                self.ask("coding", route, headers={"Accept-Encoding": coding})
        for route in (open_[1:4] + open_[-1:]) if coded else ():
            self.ask("coding", route, headers={"Accept-Encoding": "gzip"})
        for route in open_[:2]:
            tag = self.reply(route).fields.get("etag")
            if tag is not None:
                self.ask("condition", route, headers={"If-None-Match": tag})
        for route in [route for route in open_ if "max-age" in (self.reply(route).fields.get("cache-control") or "")][
            :3
        ]:
            self.ask("kept", route)

    def _burst(self, reads: Sequence[Known]) -> None:
        open_ = [route for route in reads if self.status(route) == 200] or list(reads)
        for route in open_[:1]:
            for _ in range(self.bursts):
                question = self.ask("burst", route)
                if question is None or (question.reply is not None and question.reply.status == 429):
                    return

    # What is known by now.

    def of(self, sort: str, route: str | None = None) -> list[Question]:
        """The questions of a sort that were answered, those of a route alone where it is named."""
        return [
            question
            for question in self.asked
            if question.sort == sort and question.reply is not None and route in (None, question.route)
        ]

    def reply(self, route: Known) -> ServiceAnswer:
        """What came to the plain request of a route."""
        found = next((one.reply for one in self.of("plain", route.id)), None)
        return found or ServiceAnswer(0, Fields(), b"")

    def status(self, route: Known) -> int:
        """Its status; 0 where no answer came."""
        return self.reply(route).status


def wrong_value(account: Account) -> str:
    """A credential of the same form that nobody has."""
    if account.scheme == "basic":
        return "Basic " + base64.b64encode(b"nobody:made-up-and-wrong").decode()
    return "Bearer made-up-and-wrong" if account.scheme == "bearer" else "made-up-and-wrong"


def allowed(question: Question) -> bool:
    """Whether an answer lets the origin read it, or call."""
    return question.reply is not None and "access-control-allow-origin" in question.reply.fields


def coding_of(question: Question) -> str:
    """The content coding of an answer."""
    return (question.reply.fields.get("content-encoding") or "").lower() if question.reply is not None else ""


def trace_of(
    questions: Sequence[Question], accounts: Sequence[Account], base: str, when: Callable[[int], str]
) -> JsonObject:
    """The questions as a trace, at the times when they were asked; credentials by the account's name."""
    schemes = {account.name: account for account in accounts}
    starts = questions[0].at if questions else 0
    requests: list[Json] = []
    for question in questions:
        entry: JsonObject = {"id": question.id, "at": f"{(question.at - starts) // 1000}ms"}
        entry["send"] = f"{question.method} {question.target}"
        if question.headers:
            entry["headers"] = dict(question.headers)
        if question.account is not None:
            scheme = schemes[question.account].scheme
            entry["sign"] = {"basic" if scheme == "basic" else "api-key": question.account}
        if question.reply is not None:
            entry["expect"] = {"status": question.reply.status}
        requests.append(entry)
    return {"patient-usher": "trace/1", "starts": when(starts), "base": base, "requests": requests}


def recording_of(questions: Sequence[Question], base: str, when: Callable[[int], str]) -> JsonObject:
    """The questions and answers as a recording (HAR 1.2), for the model to be compared with."""
    entries: list[Json] = []
    for question in questions:
        reply = question.reply
        pairs = reply.fields.pairs() if reply is not None else ()
        content = base64.b64encode(reply.content).decode() if reply is not None else ""
        entries.append(
            {
                "startedDateTime": when(question.at),
                "request": {"method": question.method, "url": f"{base}{question.target}"},
                "response": {
                    "status": reply.status if reply is not None else 0,
                    "headers": [{"name": name, "value": value} for name, value in pairs],
                    "content": {"text": content, "encoding": "base64"},
                },
            }
        )
    return {"log": {"entries": entries}}
