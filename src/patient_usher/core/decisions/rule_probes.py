"""Probes that single rules ask for: what shows their suspicion, and nothing else would try."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.request_factory import LONGEST_BURST, RequestFactory
from patient_usher.core.decisions.request_generators import two_sorts
from patient_usher.core.decisions.scenario import WRONG, Credential, Scenario
from patient_usher.core.engine.plan.route_table import PlacedRoute


def two_callers(words: RequestFactory, item: PlacedRoute, quota: int) -> Iterator[Scenario]:
    """A stranger at one address uses a quota up, and another comes from elsewhere."""
    if quota < LONGEST_BURST:
        call = words.plain(item)
        many = {**call, "address": "198.51.100.7", "times": quota, "every": "1ms"}
        yield Scenario("burst", (many, {**call, "address": "203.0.113.9"}))


def other_value(words: RequestFactory, item: PlacedRoute, name: str, quota: int) -> Iterator[Scenario]:
    """A quota used up, and the same caller again with another value in a header field or parameter."""
    sort, _, field = name.partition(".")
    key = "headers" if sort == "header" else "query"
    if quota < LONGEST_BURST:
        for credential in two_sorts(words, item):
            first, second = ({key: {field: value}} for value in ("one", "another"))
            many = words.scenario("burst", item, credential, **first, times=quota, every="1ms")
            yield many._replace(requests=(*many.requests, words.request(item, credential, **second)))


def read_write_read(words: RequestFactory, read: PlacedRoute, write: PlacedRoute, instances: int) -> Iterator[Scenario]:
    """Copies made in every instance, a write, and another read."""
    may = words.may(write)
    reads = words.request(read, may, times=instances, every="1ms")
    sends = (*may.first, reads, words.request(write, may), words.request(read, may))
    yield Scenario("burst", sends, may.callers)


def used_late(words: RequestFactory, item: PlacedRoute, credential: Credential) -> Scenario:
    """A call with a token that has expired."""
    parts = {"sign": {**credential.parts["sign"], "expires-in": "0s"}}
    return words.scenario("expired", item, credential._replace(sort="expired", parts=parts))


def guesses(words: RequestFactory, item: PlacedRoute, times: int) -> Iterator[Scenario]:
    """As many wrong passwords at a desk."""
    if item.desk == "sign-in":
        sign_in = words.plain(item)
        wrong = {**sign_in["json"], "password": "wrong"}
        yield Scenario("guesses", ({**sign_in, "json": wrong, "times": times, "every": "1ms"},), {}, WRONG)
