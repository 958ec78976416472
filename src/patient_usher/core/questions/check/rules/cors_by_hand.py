"""``cors-by-hand``: fields of the CORS protocol are written where preflights never come."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from patient_usher.core.decisions.request_factory import PAGE
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.plan.route_table import PlacedRoute
from patient_usher.core.model.overlays import named
from patient_usher.core.questions.check.mends import Document, Edit, Mend, add_first, free_id, mend, remove
from patient_usher.core.questions.check.rule import Context, Rule, Suspicion, shows

_ORIGIN = "access-control-allow-origin"
_SIMPLE = ("GET", "HEAD", "POST")


def look(context: Context) -> Iterator[Suspicion]:
    """Stages that write who may read, where no cors stage does; and calls of pages that fail all the same."""
    for id_ in context.kinds("header-fields", "decide"):
        written = _written(context, id_)
        routes = [item for item, order in context.ways if item is not None and id_ in order]
        if _ORIGIN not in written or any(context.kind(one) == "cors" for item in routes for one in context.order(item)):
            continue
        origin = PAGE if written[_ORIGIN] == "*" or "$" in written[_ORIGIN] else written[_ORIGIN]
        yield Suspicion(
            id_,
            None,
            context.at(id_),
            f"{id_} writes fields of the CORS protocol by hand, and nothing answers preflights",
            (_mend(context, id_, written, origin, routes),),
            shows(
                lambda x: x.browser is not None and x.browser.verdict == "blocked",
                lambda x: x.browser is not None and x.browser.verdict == "readable",
            ),
            tuple(_calls(context, routes, origin)),
        )


def _written(context: Context, id_: str) -> dict[str, str]:
    """The fields that a stage writes by hand, wherever it does, by name in lower case."""
    options = context.options[id_]
    puts = [getattr(getattr(options, name, None), "put", {}) for name in ("on_request", "on_answer")]
    puts += [case.put for name in ("cases", "way_out") for case in getattr(options, name, ())]
    return {name.lower(): str(value) for put in puts for name, value in put.items()}


def _calls(context: Context, routes: Sequence[PlacedRoute], origin: str) -> Iterator[Scenario]:
    """A call of each route by a page, those first for which a browser asks beforehand (Fetch 3.2.2)."""
    page = {"page": {"kind": "browser", "origin": origin}}
    typical = [item for item in context.words.typical if item in routes]
    for item in sorted(typical, key=lambda item: item.route.method in _SIMPLE):
        credential = context.words.may(item)
        request = context.words.request(item, credential, caller="page")
        yield Scenario("page", (*credential.first, request), {**credential.callers, **page}, credential.by)


def _mend(context: Context, id_: str, written: dict[str, str], origin: str, routes: Sequence[PlacedRoute]) -> Mend:
    """A cors stage in front of all that says what was said by hand, and what the routes need."""
    cors: Document = {"id": free_id(context.doc, "browsers"), "kind": "cors", "allow-origins": [origin]}
    if written[_ORIGIN] == "*":
        cors["allow-origins"] = "*"
    methods = sorted({item.route.method for item in routes} - {*_SIMPLE, "OPTIONS"})
    headers = [name.strip() for name in written.get("access-control-allow-headers", "").split(",") if name.strip()]
    asked = [
        f.place[1] for o in context.options.values() for f in o.credentials() if f.place and f.place[0] == "header"
    ]
    needed = {name.lower() for name in (*headers, *asked, "content-type")} - {"*"}
    cors |= {"allow-methods": ["GET", "HEAD", "POST", *methods], "allow-headers": sorted(needed)}
    left = f"list the origins of your pages in a cors stage in front of {id_}" if "$" in written[_ORIGIN] else None
    names = [name for name in written if name.startswith("access-control-")]
    words = f"put a cors stage, {cors['id']}, in front of all that answers, and let {id_} leave these fields alone"
    return mend(words, _silent(id_, names), add_first(cors), left=left)


def _silent(id_: str, names: Sequence[str]) -> Edit:
    """Take fields out of all that a stage writes; what has no work left then is taken out."""

    def edit(doc: Document) -> None:
        stage = named(doc, "stages")[id_]
        for key in ("on-request", "on-answer", "cases", "way-out"):
            works = stage.get(key, [])
            for work in [works] if isinstance(works, dict) else works:
                kept = {name: value for name, value in work.pop("put", {}).items() if name.lower() not in names}
                work |= {"put": kept} if kept else {}
            if key in stage and not isinstance(works, dict):
                stage[key] = [work for work in works if work.keys() - {"when"}]
            if key in stage and not stage[key]:
                del stage[key]
        if not any(key in stage for key in ("on-request", "on-answer", "cases", "way-out")):
            remove(id_)(doc)

    return edit


RULE = Rule(
    code="cors-by-hand",
    level="error",
    says="fields of the CORS protocol are written where preflights never come",
    matters="Plain reads work, and so the fields look right; every call that a browser asks about first is blocked.",
    mend="Let a cors stage in front of everything that answers say who may read and call.",
    example="""
patient-usher: pipeline/1
stages:
  - {id: marks, kind: header-fields, on-answer: {put: {Access-Control-Allow-Origin: "*", X-Served-By: quay}}}
routes:
  - {id: berth, at: "PUT /berths/{berth}", access: everyone, handler: {answer: {json: {free: true}}}}
""",
    look=look,
)
