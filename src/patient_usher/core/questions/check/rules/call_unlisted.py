"""``call-unlisted``: pages can't make a call that the pipeline is there for: cors doesn't list what it needs."""

from __future__ import annotations

from collections.abc import Iterator

from patient_usher.core.decisions.runner import ScenarioRun
from patient_usher.core.http.cors import is_forbidden_request_field, unsafe_names
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.questions.check.mends import Mend, mend, option, put
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, entered, shows

_LISTS = ("method-not-allowed", "header-not-allowed", "authorization-not-listed")
_CREDENTIALS = ("wildcard-with-credentials", "credentials-not-allowed")
_BY_ITSELF = {"GET", "HEAD", "POST"}
"""Methods that need no listing (Fetch 2.2.1, CORS-safelisted)."""


def look(context: Context) -> Iterator[Suspicion]:
    """Calls of listed pages that a browser blocks on account of what cors allows: all of one stage are one finding."""
    for guard in context.kinds("cors"):
        blocked = list(_blocked(context, guard))
        if not blocked:
            continue
        run, x, origin = blocked[0]
        verdict = x.browser
        assert verdict is not None
        calls = {(x.sent.method, x.sent.url.path) for _, x, _ in blocked}
        more = f"; and {len(calls) - 1} more of its calls" if len(calls) > 1 else ""
        yield Suspicion(
            guard,
            None,
            context.at(guard),
            f"a page of {origin} can't call {x.sent.method} {x.sent.url.path}: {verdict.reason}{more}",
            (_mend(context, guard, [x for _, x, _ in blocked], origin),),
            shows(
                lambda x, why=verdict.why: x.browser is not None and x.browser.why == why,  # type: ignore[misc]
                lambda x: x.browser is not None and x.browser.verdict == "readable",
            ),
            (run.scenario,),
        )


def _blocked(context: Context, guard: str) -> Iterator[tuple[ScenarioRun, Exchange, str]]:
    """Calls that are blocked by what this stage lists, each with the origin of its page."""
    for run, x in context.exchanges("page"):
        if x.browser is None or x.browser.why not in (*_LISTS, *_CREDENTIALS):
            continue
        origin = next((o for other in run.exchanges if (o := other.sent.fields.get("origin")) is not None), None)
        if origin not in context.words.origins or not any(entered(other, guard) for other in run.exchanges):
            continue
        yield run, x, origin


def _wanted(x: Exchange) -> list[str]:
    """The header fields that a page must ask for (Fetch 2.2.2)."""
    fields = x.sent.fields
    names = [name for name in unsafe_names(fields) if not is_forbidden_request_field(name, fields.get(name) or "")]
    return [name for name in names if name != "user-agent"]


def _mend(context: Context, guard: str, blocked: list[Exchange], origin: str) -> Mend:
    """Everything that the blocked calls need, at once."""
    options = context.options[guard]
    methods, headers = options.pages_send()
    known = {name.lower() for name in headers}
    listed = [x for x in blocked if x.browser is not None and x.browser.why in _LISTS]
    new_methods = sorted({x.sent.method for x in listed} - _BY_ITSELF - {*methods})
    new_headers = sorted({name for x in listed for name in _wanted(x)} - known)
    edits, words, left = [], [], None
    if new_methods:
        edits.append(option(guard, "allow-methods", [*methods, *new_methods]))
        words.append(f"list {', '.join(new_methods)} under allow-methods")
    if new_headers:
        edits.append(option(guard, "allow-headers", [*headers, *new_headers]))
        words.append(f"list {', '.join(new_headers)} under allow-headers")
    if len(listed) < len(blocked):
        named = [one for one in options.pages_from() if one != "*"]
        edits += [put(context.at(guard, "allow-origins"), named or [origin]), option(guard, "allow-credentials", True)]
        words.append(f"list {named[0] if named else 'your origins'} by name, and allow credentials")
        if not named:
            left = f"list the origins of your pages under allow-origins of {guard}, by name, and allow credentials"
    return mend("; ".join(words), *edits, left=left)


RULE = Rule(
    code="call-unlisted",
    level="warning",
    says="cors doesn't list what pages need for a call that the pipeline is there for",
    matters="Scripts can make the call and pages can't: the browser blocks it, and its console says little of why.",
    mend="List the method and the header fields that pages send, by name; with credentials a star doesn't count.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: browsers, kind: cors, allow-origins: ["https://boaters.example"]}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
routes:
  - {id: berths, at: GET /berths, access: signed-in, handler: {answer: {text: seven}}}
accounts: {maren: {api-keys: [a-made-up-key]}}
""",
    look=look,
)
