"""Holds exchanges against what the trace expects of them."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from typing import Any

from msgspec import Struct, structs

from patient_usher.core.engine.replay import Send
from patient_usher.core.http.messages import Answer, read_json
from patient_usher.core.model.document import Json, JsonObject
from patient_usher.core.model.exchange import Exchange, Verdict
from patient_usher.core.model.expect import BodyExpect, BrowserExpect, Expect, LogExpect
from patient_usher.core.model.matcher import status_test, text_test
from patient_usher.core.model.text_types import UNITS


class Check(Struct, frozen=True):
    """One expectation, and whether it held."""

    what: str
    expected: Json
    actual: Json
    ok: bool


Rule = Callable[[Exchange], list[Check]]


def ways_in(x: Exchange) -> list[str]:
    """The stages that the exchange entered, in order, router and handler included."""
    return [stage for stage, way, did, _, _ in x.journey or () if way == "in" and did != "skipped"]


def _text(what: str, spec: Json, read: Callable[[Exchange], object]) -> Rule:
    test = text_test(spec)

    def rule(x: Exchange) -> list[Check]:
        actual = read(x)
        return [Check(what, spec, actual, test(actual))]

    return rule


def _answer(x: Exchange) -> Answer | None:
    return x.answer


def _page(x: Exchange) -> Answer | None:
    """What the page gets: its own confirmed copy, or what came; nothing of a call that was blocked, or is opaque.

    Of a navigation no page sees anything either, but the person at the browser does.
    """
    if x.browser is None or (x.browser.verdict != "readable" and x.browser.why != "navigated"):
        return None
    return x.browser.got or x.answer


def _status(spec: Json, of: Callable[[Exchange], Answer | None] = _answer) -> Rule:
    test = status_test(spec)

    def rule(x: Exchange) -> list[Check]:
        answer = of(x)
        actual = answer.status if answer is not None else None
        return [Check("status", spec, actual, test(actual))]

    return rule


def _order(names: list[str]) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        actual = ways_in(x)
        rest = iter(actual)
        return [Check("order", names, actual, all(name in rest for name in names))]

    return rule


def _ran(names: list[str]) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        actual = ways_in(x)
        return [Check("ran", names, actual, all(name in actual for name in names))]

    return rule


def _skipped(names: list[str]) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        ran = ways_in(x)
        return [
            Check(
                "skipped",
                names,
                f"ran: {', '.join(name for name in names if name in ran)}" if not set(names).isdisjoint(ran) else names,
                set(names).isdisjoint(ran),
            )
        ]

    return rule


def subset(expected: Json, actual: Json) -> bool:
    """Whether JSON holds at least this: mappings by key, lists item by item, the rest exactly."""
    if isinstance(expected, dict):
        return isinstance(actual, dict) and all(
            key in actual and subset(value, actual[key]) for key, value in expected.items()
        )
    if isinstance(expected, list):
        return isinstance(actual, list) and len(expected) == len(actual) and all(map(subset, expected, actual))
    return bool(expected == actual) and isinstance(expected, bool) == isinstance(actual, bool)


def _body(spec: BodyExpect, of: Callable[[Exchange], Answer | None] = _answer) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        answer = of(x)
        text = answer.body.decode(errors="replace") if answer is not None else ""
        checks = []
        given = spec.model_fields_set
        if given & {"json_", "exact"}:
            try:
                value = read_json(text)
            except ValueError:
                value = text
            if "json_" in given:
                checks.append(Check("body", spec.json_, value, subset(spec.json_, value)))
            if "exact" in given:
                whole = text if isinstance(spec.exact, str) else value
                checks.append(Check("body", spec.exact, whole, whole == spec.exact))
        for part in spec.contains or ():
            checks.append(Check("body contains", part, text, part in text))
        for part in spec.lacks or ():
            checks.append(Check("body lacks", part, text, part not in text))
        return checks

    return rule


def _log(spec: LogExpect) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        lines = [
            f"{message} {json.dumps(detail) if detail else ''}".strip()
            for _, stage, level, message, detail, _ in x.log or ()
            if spec.stage in (None, stage) and spec.level in (None, level)
        ]
        checks = [Check("log contains", part, lines, any(part in line for line in lines)) for part in spec.contains]
        checks += [Check("log lacks", part, lines, not any(part in line for line in lines)) for part in spec.lacks]
        if not spec.contains and not spec.lacks:
            checks.append(Check("log", "a line", lines, bool(lines)))
        return checks

    return rule


def span(micros: int) -> str:
    """A duration as files write it."""
    for unit in ("d", "h", "m", "s", "ms"):
        if micros and micros % UNITS[unit] == 0:
            return f"{micros // UNITS[unit]}{unit}"
    return f"{micros}us" if micros else "0s"


def _finishes_within(limit: int) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        took = x.finished - x.at
        return [Check("finishes-within", span(limit), span(took), took <= limit)]

    return rule


def _any_of(what: str, names: list[str], read: Callable[[Exchange], object]) -> Rule:
    def rule(x: Exchange) -> list[Check]:
        actual = read(x)
        held = actual if isinstance(actual, list) else [actual]
        return [Check(what, names[0] if len(names) == 1 else names, actual, any(name in held for name in names))]

    return rule


def _raised(x: Exchange) -> object:
    names = [error.type for error in x.errors]
    return names if len(names) > 1 else names[0] if names else None


# Expectations that are text matchers: the key, and what it looks at.
_TEXTS: dict[str, Callable[[Exchange], object]] = {
    "answered_by": lambda x: x.answered_by if x.answer is not None else None,
    "refused_by": lambda x: x.refused_by,
    "raised_by": lambda x: x.errors[-1].raised_by if x.errors else None,
    "why": lambda x: x.why,
    "route": lambda x: x.route.id if x.route is not None else None,
    "identity": lambda x: x.identity.name if x.identity is not None else None,
    "raised": _raised,
    "cache": lambda x: x.caches[-1].state if x.caches else None,
    "encoding": lambda x: x.answer.fields.get("content-encoding") if x.answer is not None else None,
}


def _says(what: str, texts: list[str] | None, told: str | None) -> list[Check]:
    """Whether each of these words stands in what is told."""
    return [Check(what, words, told, words in (told or "")) for words in texts or ()]


def _browser(spec: BrowserExpect) -> Rule:
    of_page = [] if spec.status is None else [_status(spec.status, _page)]
    of_page += [] if spec.body is None else [_body(spec.body, _page)]

    def rule(x: Exchange) -> list[Check]:
        seen = x.browser or Verdict("no browser sent it", None, "")
        checks = []
        if spec.verdict is not None:
            actual = seen.verdict if seen.verdict != "blocked" else f"blocked ({seen.why}): {seen.reason}"
            checks.append(Check("browser", spec.verdict, actual, seen.verdict == spec.verdict))
        if "why" in spec.model_fields_set:
            checks.append(Check("browser why", spec.why, seen.why, text_test(spec.why)(seen.why)))
        checks += _says("browser reason", spec.reason, seen.reason)
        for name in spec.reads or ():
            names = list(seen.readable_headers)
            checks.append(Check("browser reads", name, names, name.lower() in names))
        for part in of_page:
            checks += [structs.replace(check, what=f"browser {check.what}") for check in part(x)]
        return checks

    return rule


def _preflight(spec: Expect | str) -> Rule:
    rules = compile_expect(spec) if isinstance(spec, Expect) else []

    def rule(x: Exchange) -> list[Check]:
        asked = [other for other in x.send.exchanges if other.kind == "preflight"]
        if not isinstance(spec, Expect):
            return [Check("preflight", spec, "sent" if asked else "not-sent", not asked)]
        if not asked:
            return [Check("preflight", "one", "none was sent", False)]
        found = [check for part in rules for check in part(asked[0])]
        return [structs.replace(check, what=f"preflight {check.what}") for check in found]

    return rule


def _cookies(texts: list[str]) -> Rule:
    return lambda x: _says("cookies", texts, "; ".join(x.cookies_told) or None)


_RULES: dict[str, Callable[[Any], Rule]] = {
    "status": _status,
    "outcome": lambda names: _any_of("outcome", names, lambda x: x.outcome),
    "handler": lambda word: _any_of("handler", [word], lambda x: "reached" if x.handler_reached else "not-reached"),
    "order": _order,
    "ran": _ran,
    "skipped": _skipped,
    "body": _body,
    "log": _log,
    "cookies": _cookies,
    "browser": _browser,
    "preflight": _preflight,
    "role": lambda names: _any_of("role", names, lambda x: list(x.identity.roles) if x.identity else []),
    "finishes_within": _finishes_within,
}


def _header_reader(lower: str) -> Callable[[Exchange], object]:
    return lambda x: x.answer.fields.get(lower) if x.answer else None


def _context_reader(key: str) -> Callable[[Exchange], object]:
    return lambda x: x.context.get(key)


def compile_expect(expect: Expect | None) -> list[Rule]:
    """The expectations of one request as rules, made once."""
    if expect is None:
        return []
    rules: list[Rule] = []
    given = expect.model_fields_set
    for name in type(expect).model_fields:  # in the order of the model, not of the file
        if name not in given:
            continue
        value = getattr(expect, name)
        if name in _TEXTS:
            rules.append(_text(name.replace("_", "-"), value, _TEXTS[name]))
        elif name in _RULES and value is not None:
            rules.append(_RULES[name](value))
        elif name == "headers":
            rules += [_text(f"header {field}", spec, _header_reader(field.lower())) for field, spec in value.items()]
        elif name == "context":
            rules += [_text(f"context {key}", spec, _context_reader(key)) for key, spec in value.items()]
    return rules


class Verifier:
    """Checks every send; counts repetitions for tallies."""

    def __init__(self, environment: tuple[str, ...]) -> None:
        self.environment = environment
        self._tallies: dict[str, Counter[int | None]] = {}

    def _merged(self, send: Send) -> list[Expect]:
        spec = send.request_template.spec
        parts = [spec.expect] if spec.expect is not None else []
        return parts + [expect for name, expect in spec.expect_in.items() if name in self.environment]

    def rules(self, send: Send) -> list[Rule]:
        """The rules of a send's request; what an environment expects takes the place of what all do."""
        request_template = send.request_template
        if request_template.rules is None:
            merged: JsonObject = {}
            for expect in self._merged(send):
                merged.update({name: getattr(expect, name) for name in expect.model_fields_set})
            request_template.rules = compile_expect(Expect.model_construct(**merged)) if merged else []
        rules: list[Rule] = request_template.rules
        return rules

    def check(self, send: Send) -> list[Check]:
        """Every check of one send."""
        if not (send.request_template.expects or send.failures):
            return []
        x = send.final
        assert x is not None
        checks = [Check(what, expected, actual, False) for what, expected, actual in send.failures]
        if x.outcome != "not-sent" or x.browser is not None:
            for rule in self.rules(send):
                checks += rule(x)
        tally = next((expect.tally for expect in reversed(self._merged(send)) if expect.tally is not None), None)
        if tally is not None:
            counts = self._tallies.setdefault(send.entry.id, Counter())
            counts[x.answer.status if x.answer is not None else None] += 1
            if send.last:
                checks.append(_tally_check(tally, counts))
                del self._tallies[send.entry.id]
        return checks


def _tally_check(expected: dict[object, int], counts: Counter[int | None]) -> Check:
    actual = {
        str(status) if status is not None else "none": n
        for status, n in sorted(counts.items(), key=lambda item: item[0] or 0)
    }
    ok = all(
        sum(n for status, n in counts.items() if status_test(spec)(status)) == count for spec, count in expected.items()
    )
    return Check("tally", {str(spec): count for spec, count in expected.items()}, actual, ok)
