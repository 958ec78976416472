"""Requests that can matter to a pipeline.

The unit is a ``Probe``: a short piece of a trace, to be tried in a run state of its own. They come from short
to long, and within a length from plain to odd, so that the first that shows something shows it best.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from copy import deepcopy

from patient_usher.core.decisions.branch_requests import branch_parts, branch_requests
from patient_usher.core.decisions.request_factory import (
    HOST,
    LARGEST,
    LONGEST_BURST,
    MISHAP,
    STRANGER,
    RequestFactory,
    gives_cookie,
    names_in,
)
from patient_usher.core.decisions.scenario import UNKNOWN, WRONG, Credential, Scenario
from patient_usher.core.decisions.schema_samples import Request, path_of
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.matcher import When
from patient_usher.core.model.patterns import fits_template, split_request
from patient_usher.core.model.pipeline import StageOptions
from patient_usher.core.model.reads import within


def scenarios(compiled: CompiledPipeline) -> Iterator[Scenario]:
    """Everything that is tried, from short to long."""
    words = RequestFactory(compiled)
    for sort in (
        _calls,
        _samples,
        _heads,
        _inputs,
        _bodies,
        _pages,
        _odd,
        _spelled,
        _desks,
        _records,
        _failing,
        _switched,
        _again,
        _bursts,
    ):
        yield from sort(words)


def _calls(words: RequestFactory) -> Iterator[Scenario]:
    """Every route with every sort of caller, then with what matchers look for."""
    placed = words.typical
    for item in placed:
        yield words.scenario("call", item, words.may(item))
        for credential in words.callers:
            if credential != words.may(item):
                yield words.scenario("call", item, credential)
    for item in words.compiled.placed if len(placed) < len(words.compiled.placed) else ():
        if item not in placed:
            for credential in two_sorts(words, item):
                yield words.scenario("call", item, credential)
    for item in placed[:1]:
        for credential in (one for one in words.other if one.sort == "right"):
            yield words.scenario("call", item, credential)
    for item in placed:
        for one in branch_requests(words, item):
            yield words.scenario("matched", item, one.credential, **deepcopy(one.parts))


def _samples(words: RequestFactory) -> Iterator[Scenario]:
    """What the stages on the way say that takes their branches; where routes are alike, at one of them."""
    for item in words.unlike(words.typical):
        for id_ in words.order(item):
            options = words.compiled.options.get(id_)
            if options is not None:
                for parts in (*options.samples(item.spec), *_pattern_parts(item, options)):
                    yield words.scenario("sample", item, words.may(item), **deepcopy(parts))


def _pattern_parts(item: PlacedRoute, options: StageOptions) -> Iterator[Request]:
    """A path of the route for each pattern of ``only`` and ``except`` that it fits."""
    for pattern in (*(options.only or ()), *(options.except_ or ())):
        path = _fitting_path(item, pattern)
        if path is not None:
            yield {"path": path}


def two_sorts(words: RequestFactory, item: PlacedRoute) -> list[Credential]:
    """A caller whom the route is meant for, and nobody known where that is another."""
    may = words.may(item)
    return [may] if may.sort == "absent" else [may, words.callers[0]]


def _heads(words: RequestFactory) -> Iterator[Scenario]:
    """What GET asks for, by HEAD."""
    for item in words.unlike(item for item in words.typical if item.route.method == "GET"):
        for credential in two_sorts(words, item):
            request = words.request(item, credential)
            _, _, target = request["send"].partition(" ")
            sends = (*credential.first, {**request, "send": f"HEAD {target}"})
            yield Scenario("head", sends, credential.callers, credential.by)


def _inputs(words: RequestFactory) -> Iterator[Scenario]:
    """Paths, queries and header fields that don't fit what a route asks for."""
    for item in words.typical:
        for parts in words.misfits(item):
            yield words.scenario("input", item, words.may(item), **parts)


def _bodies(words: RequestFactory) -> Iterator[Scenario]:
    """Bodies that are ordinary, can't be read, don't fit, or are too large."""
    limits = [
        limit
        for options in words.compiled.options.values()
        if (limit := options.largest_body()) is not None and limit <= LARGEST
    ]
    for item in words.typical:
        if item.route.method in ("GET", "HEAD", "DELETE", "OPTIONS"):
            continue
        own = [item.spec.body_limit] if item.spec.body_limit is not None else []
        for credential in two_sorts(words, item):
            malformed = {"Content-Type": "application/json"}
            yield words.scenario("body", item, credential, headers=malformed, text="{")
            yield Scenario(
                "body", (*credential.first, {**words.request(item, credential), "json": _ORDINARY}), credential.callers
            )
            empty = {**words.request(item, credential), "json": {}}
            yield Scenario("body", (*credential.first, empty), credential.callers)
            yield words.scenario("body", item, credential, headers={"Content-Type": "application/xml"}, text="<a/>")
            for limit in dict.fromkeys([*own, *limits]):
                if limit <= LARGEST:
                    yield words.scenario("body", item, credential, json={"filler": "x" * limit})


_ORDINARY = {"id": 7, "name": "made up", "tags": ["one", "two"], "more": {"since": None, "open": True}}


def _pages(words: RequestFactory) -> Iterator[Scenario]:
    """Calls of pages: of an origin that is listed and of one that isn't."""
    if not words.pages:
        return
    for item in words.typical:
        for credential in two_sorts(words, item):
            yield words.by_page("page", item, credential)
    for item in words.typical[:4]:
        stranger = {"stranger": {"kind": "browser", "origin": STRANGER}}
        request = words.request(item, words.callers[0], caller="stranger")
        yield Scenario("page", (request,), stranger, UNKNOWN)
    for item in words.typical[:2]:
        for origin in (words.origins[0], STRANGER):  # as a script may send it, too
            yield words.scenario("origin", item, words.may(item), headers={"Origin": origin})
    for item in words.unlike(words.typical):
        for parts in branch_parts(words, item)[:4]:
            if "json" not in parts and "path" not in parts:
                yield words.by_page("page", item, words.may(item), **deepcopy(parts))
        if words.is_read(item):
            malformed = {"Content-Type": "application/json"}
            yield words.by_page("page-body", item, words.may(item), headers=malformed, text="{")
    for item in words.typical:
        asked = {"Origin": words.origins[0], "Access-Control-Request-Method": item.route.method}
        yield Scenario("preflight", ({"send": f"OPTIONS {path_of(item.route.template, {})}", "headers": asked},))


def _odd(words: RequestFactory) -> Iterator[Scenario]:
    """Plain HTTP, paths that nothing has, methods that a path lacks."""
    placed = words.typical
    for item in words.unlike(placed):
        for credential in two_sorts(words, item):
            request = words.request(item, credential)
            method, _, target = request["send"].partition(" ")
            request = {**request, "send": f"{method} http://{HOST}{target}"}
            yield Scenario("plain-http", (*credential.first, request), credential.callers)
    for credential in [words.callers[0], *words.right[:1]]:
        yield Scenario(
            "unrouted",
            (*credential.first, {"send": "GET /made-up/path", **_copied_parts(credential)}),
            credential.callers,
        )
        for item in placed[:1]:
            request = words.request(item, credential)
            target = request["send"].partition(" ")[2]
            yield Scenario("unrouted", (*credential.first, {**request, "send": f"TRACE {target}"}), credential.callers)


def _spelled(words: RequestFactory) -> Iterator[Scenario]:
    """Where a stage goes by method or path: a plain request, then the same by HEAD, or its path in other spelling."""
    for item in words.typical:
        if item.route.method != "GET":
            continue
        options = [words.compiled.options[id_] for id_ in words.order(item) if id_ in words.compiled.options]
        whens = [when for one in options for _, when in within(one, (), When)]
        patterns = dict.fromkeys(pattern for one in options for pattern in one.only or ())
        patterns |= dict.fromkeys(pattern for when in whens for pattern in when.path or ())
        paths = dict.fromkeys(path for pattern in patterns if (path := _fitting_path(item, pattern)))
        known = [one for one in words.right[:_GUARDED] if one not in two_sorts(words, item)]
        for credential in (*two_sorts(words, item), *known) if paths or whens else ():
            plain = words.request(item, credential)
            _, _, target = plain["send"].partition(" ")
            pairs = [(f"GET {path}", f"GET {other}") for path in paths for other in _spellings(path)]
            if any("GET" in (when.method or ()) or when.path for when in whens):
                pairs.insert(0, (plain["send"], f"HEAD {target}"))
            for one, other in pairs:
                sends = ({**plain, "send": one}, {**plain, "send": other})
                yield Scenario("spelled", (*credential.first, *sends), credential.callers, credential.by)


_GUARDED = 3
"""How many accounts try to get past a guard in another spelling: some are let through by the plain one."""


def _fitting_path(item: PlacedRoute, pattern: str) -> str | None:
    """A path of the route that a stage's pattern fits."""
    _, path = split_request(pattern)
    if not fits_template(path, item.route.template.segments):
        return None
    if all(sort != "tail" for sort, _ in item.route.template.segments):
        return path_of(item.route.template, {})
    return path.replace("**", "1").replace("*", "1")


def _spellings(path: str) -> Iterator[str]:
    """The same place for a careless handler: a slash more, one that is escaped, other case (RFC 3986 6.2.2)."""
    yield f"{path}/"
    yield f"/{path}"
    head, _, last = path.rpartition("/")
    if head:
        yield f"{head}%2F{last}"
    if path.upper() != path:
        yield path.upper()


def _copied_parts(credential: Credential) -> Request:
    parts = {key: value for key, value in credential.parts.items() if key != "query"}
    return {key: dict(value) if isinstance(value, dict) else value for key, value in parts.items()}


def _desks(words: RequestFactory) -> Iterator[Scenario]:
    """What the desk gave, used; a wrong password; refreshing, twice with the same; using what was signed out of."""
    desks: dict[str, dict[str, PlacedRoute]] = {}
    for item in words.compiled.placed:
        if item.desk is not None:
            desks.setdefault(item.groups[-1].id, {})[item.desk] = item
    for routes in desks.values():
        sign_in = words.plain(routes["sign-in"])
        yield from _used(words, routes["sign-in"], sign_in)
        yield Scenario("desk", ({**sign_in, "json": {**sign_in["json"], "password": "wrong"}},))
        refresh, out = (
            f"{routes[key].route.method} {routes[key].route.template.text}" for key in ("refresh", "sign-out")
        )
        if gives_cookie(routes["sign-in"]):
            keeper = {"caller": "keeper"}
            for rest in ([refresh], [out, refresh]):
                sends = ({"send": send, **keeper} for send in rest)
                yield Scenario("desk", ({**sign_in, **keeper}, *sends), {"keeper": {"cookies": "keep"}})
        else:
            kept: Request = {**sign_in, "keep": {"token": "/token"}}
            again: Request = {"send": refresh, "json": {"token": "${kept.token}"}}
            ended: Request = {"send": out, "bearer": "${kept.token}"}
            yield Scenario("desk", (kept, again, again))
            yield Scenario("desk", (kept, ended, ended))


def _used(words: RequestFactory, desk: PlacedRoute, sign_in: Request) -> Iterator[Scenario]:
    """Signing in, and calling what is for whoever did, with each kind of thing that the desk gives."""
    group, name = desk.groups[-1].id, sign_in["json"]["name"]
    near = [item for item in words.compiled.placed if item.desk is None and group in [g.id for g in item.groups]]
    for item in [
        item for item in near if not words.is_for(item.route.access, None) and words.is_for(item.route.access, name)
    ][:2]:
        call = words.plain(item)
        gives = words.desks[group].gives
        over = {"after": f"{words.desks[group].lasts // 1_000_000 + 1}s"}
        if "cookie" in gives:
            sends = ({**sign_in, "caller": "keeper"}, {**call, "caller": "keeper"})
            yield Scenario(f"at-the-desk:{group}:cookie", sends, {"keeper": {"cookies": "keep"}}, name)
            late = (sends[0], {**sends[1], **over})
            yield Scenario("over", late, {"keeper": {"cookies": "keep"}}, WRONG)
        if "token" in gives:
            sends = ({**sign_in, "keep": {"token": "/token"}}, {**call, "bearer": "${kept.token}"})
            yield Scenario(f"at-the-desk:{group}:token", sends, {}, name)
            yield Scenario("over", (sends[0], {**sends[1], **over}), {}, WRONG)


def _records(words: RequestFactory) -> Iterator[Scenario]:
    """Made twice; made and then read, where Location says that it is."""
    for item in words.typical:
        if item.spec.handler.do == "create":
            made = words.scenario("records", item, words.may(item))
            yield made._replace(requests=(*made.requests, made.requests[-1]))
            kept: Request = {**made.requests[-1], "keep": {"made": {"header": "Location"}}}
            read = {key: value for key, value in made.requests[-1].items() if key in ("sign", "caller", "headers")}
            yield made._replace(requests=(*made.requests[:-1], kept, {"send": "GET ${kept.made}", **read}))


def _failing(words: RequestFactory) -> Iterator[Scenario]:
    """Handlers that fail: with a type that nothing declares on every route, with every declared type on one."""
    placed = [item for item in words.typical if item.desk is None]
    for item in words.unlike(placed):
        yield from failing(words, item, MISHAP)
    answered = (name for option in words.compiled.options.values() for name in option.answers_errors())
    types = [*words.spec.errors, *answered]
    for item in placed[:1]:
        for type_ in dict.fromkeys(types):
            yield from failing(words, item, type_)


def failing(words: RequestFactory, item: PlacedRoute, type_: str) -> Iterator[Scenario]:
    """A call whose handler raises this type; and the same by a page, where pages call."""
    private = {"type": type_, "message": "no answer from 192.0.2.77", "where": "made_up.py:41 in read"}
    gone: Request = {
        name.replace("_", "-").strip("-"): None for name in sorted(item.spec.handler.model_fields_set & _DOES)
    }
    change = {"change": {"routes": {item.route.id: {"handler": {**gone, "raise": private}}}}}
    credential = words.may(item)
    call = words.scenario("failing", item, credential)
    yield call._replace(requests=(change, *call.requests))
    if words.pages:
        page = words.by_page("failing", item, credential)
        yield page._replace(requests=(change, *page.requests))


_DOES = {"answer", "cases", "echo", "python", "records", "do", "fails_every", "ranges"}


def _switched(words: RequestFactory) -> Iterator[Scenario]:
    """Stages that are switched off switched on; handlers that take too long."""
    placed = words.typical
    for id_, options in words.compiled.options.items():
        if options.answers_all() and not options.enabled:
            change: Request = {"change": {"stages": {id_: {"enabled": True}}}}
            for item in words.unlike(placed):
                for credential in two_sorts(words, item):
                    requests = (*credential.first, change, words.request(item, credential))
                    yield Scenario("switched", requests, credential.callers)
        after = options.gives_up_after()
        if after is not None and options.enabled:
            slow: Request = {"busy-for": f"{after // 1_000_000 + 1}s"}
            for item in [item for item in placed if item.desk is None and id_ in words.order(item)][:2]:
                change = {"change": {"routes": {item.route.id: {"handler": slow}}}}
                call = words.scenario("slow", item, words.may(item))
                yield call._replace(requests=(change, *call.requests))


def _again(words: RequestFactory) -> Iterator[Scenario]:
    """Where something is kept: the same again, by another caller, of another origin, with another value, later."""
    for item in words.typical:
        if item.route.method != "GET":
            continue
        kinds = {words.compiled.options[id_].kind for id_ in words.order(item) if id_ in words.compiled.options}
        if not kinds & {"cache", "conditional"}:
            continue
        yield from again(words, item)


def again(words: RequestFactory, item: PlacedRoute) -> Iterator[Scenario]:
    """Two requests for the same thing."""
    may = words.may(item)
    once = words.scenario("again", item, may)
    yield once._replace(requests=(*once.requests, once.requests[-1]))
    for first, second in _couples(words.callers):
        pair = words.scenario("again", item, first), words.scenario("again", item, second)
        callers = {**pair[0].callers, **pair[1].callers}
        starts = tuple(request for request in second.first if request not in first.first)
        yield Scenario("again", (*first.first, *starts, pair[0].requests[-1], pair[1].requests[-1]), callers)
    for name, one, two in _varied(words, item):
        sort = f"varied:{name}"
        a, b = words.scenario(sort, item, may, **deepcopy(one)), words.scenario(sort, item, may, **deepcopy(two))
        yield Scenario(sort, (*a.requests, b.requests[-1]), a.callers)
    for parts in branch_parts(words, item):  # what one's own logic lets one through for, and the other not
        a = words.scenario("guarded", item, may, **deepcopy(parts))
        yield Scenario("guarded", (*a.requests, once.requests[-1]), a.callers)
    own = {"reader": {"kind": "browser", "origin": f"https://{HOST}"}}
    if item.route.access is not None and item.route.access.who == "everyone":
        call = {**words.plain(item), "caller": "reader"}
        yield Scenario("again", (call, call), own)
    if words.pages:
        calls = [words.by_page("origins", item, may, page) for page in list(words.pages)[:2]]
        script = words.scenario("origins", item, may)
        yield Scenario("origins", (script.requests[-1], *calls[0].requests), {**script.callers, **words.pages})
        if len(calls) > 1:
            yield Scenario("origins", (*calls[0].requests, *calls[1].requests), words.pages)
    for wait in _lives(item):
        yield once._replace(requests=(*once.requests, {**once.requests[-1], "after": wait}))
    tagged = {**once.requests[-1], "keep": {"tag": {"header": "ETag"}}}
    headers = {**once.requests[-1].get("headers", {}), "If-None-Match": "${kept.tag}"}
    with_tag = {**once.requests[-1], "headers": headers}
    yield once._replace(requests=(*once.requests[:-1], tagged, with_tag))


def _varied(words: RequestFactory, item: PlacedRoute) -> list[tuple[str, Request, Request]]:
    """Pairs that differ in one thing only which the handler, or a stage on the way, reads; and its name."""
    names = set(names_in(item.spec.handler))
    for id_ in words.order(item):
        if id_ in words.compiled.options:
            option = words.compiled.options[id_]
            names |= set(names_in(option))
            names |= {"header.Accept-Encoding"} if option.kind == "compress" else set()
    pairs = []
    for name in sorted(names):
        root, _, rest = name.partition(".")
        if root in ("query", "header") and rest:
            key = "query" if root == "query" else "headers"
            values = ("gzip", "identity") if rest == "Accept-Encoding" else ("1", "2")
            pairs.append((name, {key: {rest: values[0]}}, {key: {rest: values[1]}}))
        elif root == "cookie" and rest:
            one, other = ({"headers": {"Cookie": f"{rest}={value}"}} for value in "12")
            pairs.append((name, one, other))
    for when in branch_parts(words, item):
        part = when.get("headers") or when.get("query") or {}
        if part and not {"json", "path"} & when.keys():
            root = "header" if when.get("headers") else "query"
            pairs.append((f"{root}.{next(iter(part))}", {}, when))
    return pairs


def _couples(callers: Iterable[Credential]) -> Iterator[tuple[Credential, Credential]]:
    known = [one for one in callers if one.sort == "right"][:3]
    for first in known:
        yield from ((first, second) for second in known if second != first)
        yield first, Credential("absent", None, {})


def _lives(item: PlacedRoute) -> list[str]:
    rule = item.spec.cache
    shared = rule.shared if rule is not None else None
    return [f"{shared // 1_000_000 + 1}s"] if shared is not None else []


def _bursts(words: RequestFactory) -> Iterator[Scenario]:
    """One more than a limit lets through, and again when its window is over."""
    for item in words.typical:
        for id_ in words.order(item):
            options = words.compiled.options.get(id_)
            limit = options.limit() if options is not None else None
            if limit is not None and limit.quota < LONGEST_BURST:
                yield from bursts(words, item, limit.quota + 1)
                if "identity" in limit.per or "identity-or-address" in limit.per:
                    yield from _taking_turns(words, item, limit.quota)
                window = limit.window
                if window is not None:
                    call = words.request(item, words.may(item))
                    many = {**call, "times": limit.quota + 1, "every": "1ms"}
                    later = {**call, "after": f"{window // 1_000_000 + 1}s"}
                    yield Scenario("burst", (*words.may(item).first, many, later), words.may(item).callers)


def _taking_turns(words: RequestFactory, item: PlacedRoute, quota: int) -> Iterator[Scenario]:
    """One caller uses the quota up, and another comes."""
    for first, second in _couples(words.right):
        if second.sort == "right" and not second.first:
            many = words.request(item, first, times=quota, every="1ms")
            yield Scenario("burst", (*first.first, many, words.request(item, second)), first.callers)


def bursts(words: RequestFactory, item: PlacedRoute, times: int) -> Iterator[Scenario]:
    """As many requests by each sort of caller."""
    sorts: dict[str, Credential] = {}
    for credential in [words.may(item), *words.callers]:
        sorts.setdefault(credential.sort, credential)
    for credential in sorts.values():
        yield words.scenario("burst", item, credential, times=times, every="1ms")
