"""Learning a service: pipelines are served, learned from outside, and held to what they answer to other requests."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from pathlib import Path
from random import Random
from statistics import median
from typing import Any

import pytest
from jsonschema import Draft202012Validator
from msgspec import to_builtins

from conftest import DEMO, Outcome, described, text
from patient_usher import Pipeline, Trace, check, drift, learn, load
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.model.document import Unusable
from patient_usher.core.questions.learn.interview import MOST, MOST_A_ROUTE, MOST_AN_ACCOUNT, STRANGER, Account, Known
from patient_usher.core.questions.learn.result import LearnedService
from patient_usher.output.learn import document
from patient_usher.output.schema import SCHEMAS
from patient_usher.use_cases.learn import account_of, routes_at, routes_of
from pipelines import MANY, put_together
from served import Served

Usher = Callable[..., Outcome]
START = 1_935_302_400_000_000


def accounts_of(compiled: CompiledPipeline) -> list[Account]:
    """Some of a pipeline's accounts, as somebody has them who asks the service."""
    places = [one.place for options in compiled.options.values() for one in options.credentials() if one.place]
    field = next((name for part, name in places if part == "header"), "X-Api-Key")
    found = []
    for name, account in compiled.spec.accounts.items():
        if account.api_keys:
            found.append(Account(name, "api-key", field, str(account.api_keys[0]), "${env:KEY|made-up}"))
        elif account.password:
            pair = base64.b64encode(f"{name}:{account.password}".encode()).decode()
            found.append(Account(name, "basic", "Authorization", f"Basic {pair}", "${env:PASSWORD|made-up}"))
    return found[:3]


def origins_of(compiled: CompiledPipeline) -> list[str]:
    lists = [getattr(options, "allow_origins", ()) for options in compiled.options.values()]
    return [origin for origins in lists for origin in origins if "*" not in origin][:1]


def learned_of(pipeline: Pipeline, **how: Any) -> LearnedService:
    """What is learned of a pipeline that is served; its clock goes on by a millisecond a question, and in waits."""
    served, now = Served(pipeline.compiled), [START]

    def clock() -> int:
        now[0] += 1000
        served.wait(now[0])
        return now[0]

    def wait(seconds: float) -> None:
        now[0] += round(seconds * 1_000_000)

    known = [route for route in routes_of(pipeline.compiled) if route.method == "GET"]
    more = {"accounts": accounts_of(pipeline.compiled), "origins": origins_of(pipeline.compiled), "wait_at_most": 600}
    return learn(known, app=served, clock=clock, wait=wait, **{**more, **how})


def others(found: LearnedService, origins: list[str], seed: int, count: int = 200) -> Trace:
    """Requests that learning never sent: other methods, origins, codings, callers and waits, at random."""
    random = Random(seed)
    accounts = [one for one in found.interview.accounts if one.name in found.compiled.spec.accounts]
    requests = []
    for number in range(count):
        route = random.choice(found.interview.routes)
        method = random.choice(["GET"] * 6 + ["HEAD", "OPTIONS", "TRACE"])
        target = route.target if random.random() < 0.9 else "/made-up-elsewhere"
        headers = {}
        if random.random() < 0.35:
            headers["Origin"] = random.choice([*origins, STRANGER])
            headers |= {"Access-Control-Request-Method": random.choice(["GET", "PUT"])} if method == "OPTIONS" else {}
        if random.random() < 0.3:
            headers["Accept-Encoding"] = random.choice(["gzip", "br", "gzip;q=0, *", "identity"])
        request = {
            "id": f"n{number}",
            "after": f"{random.choice([0, 0, 1, 500, 20000])}ms",
            "send": f"{method} {target}",
        }
        request |= {"headers": headers} if headers else {}
        if accounts and random.random() < 0.5:
            account = random.choice(accounts)
            request["sign"] = {"basic" if account.scheme == "basic" else "api-key": account.name}
        requests.append(request)
    return Trace.of(*requests, base="https://service.example", starts="2032-01-01T00:00:00Z")


def agreement(pipeline: Pipeline, found: LearnedService, seed: int = 1) -> float:
    """How many of other requests the learned model answers as the service does, of all."""
    served = Served(pipeline.compiled)
    trace = others(found, origins_of(pipeline.compiled), seed)
    held = list(drift(Pipeline(found.compiled), trace, app=served, wait=served.wait))
    return sum(not one.differs for one in held) / len(held)


@pytest.mark.parametrize(("name", "least"), [
    ("landing", 0.9), ("boaters", 1), ("shelf", 0.95), ("harbour", 1), ("sequential", 1), ("quay", 1), ("return", 1), ("busy", 1),
])  # fmt: skip
def test_a_served_pipeline_is_learned(name: str, least: float) -> None:
    pipeline = load(DEMO / f"{name}.yaml")
    assert agreement(pipeline, learned_of(pipeline)) >= least


def test_pipelines_at_random_are_learned() -> None:
    """Half of them whole, and most requests of the rest (medians over all, and how many are whole)."""
    found = []
    for seed in range(200 if MANY else 14):
        pipeline = described(json.dumps(put_together(seed)), "p.json")
        if any(route.method == "GET" for route in routes_of(pipeline.compiled)):
            found.append(agreement(pipeline, learned_of(pipeline), seed))
    assert median(found) >= 0.95
    assert sum(one == 1 for one in found) >= 0.6 * len(found)


def test_it_asks_no_more_than_it_should() -> None:
    pipeline = load(DEMO / "harbour.yaml")
    interview = learned_of(pipeline).interview
    assert len(interview.asked) <= MOST
    for route in interview.routes:
        assert sum(one.route == route.id for one in interview.asked if one.sort != "burst") <= MOST_A_ROUTE + 3
    for account in interview.accounts:
        assert sum(one.account == account.name for one in interview.asked) <= MOST_AN_ACCOUNT + 3
    assert {one.method for one in interview.asked} <= {"GET", "HEAD", "OPTIONS", "TRACE"}


STAGES: list[tuple[list[Any], dict[str, Any], list[tuple[str, Any]]]] = [
    ([{"id": "fair", "kind": "rate-limit", "quota": 40, "window": "30s"}], {}, [("fair.quota", 40), ("fair.window", "30s")]),
    ([{"id": "fair", "kind": "rate-limit", "quota": 3, "window": "60s", "fields": []}], {}, [("fair.quota", 3)]),
    ([{"id": "pages", "kind": "cors", "allow-origins": ["https://boaters.example"], "max-age": "600s"}], {}, [("browsers.allow-origins", ["https://boaters.example"]), ("browsers.max-age", "600s")]),
    ([{"id": "pages", "kind": "cors", "allow-origins": "*"}], {"origins": []}, [("browsers.allow-origins", "*")]),
    ([{"id": "squeeze", "kind": "compress", "from-size": 1, "codings": ["gzip", "br"]}], {}, [("squeeze.codings", ["gzip", "br"])]),
    (["conditional"], {}, [("tags.etag", "weak")]),
    ([{"kind": "conditional", "etag": "strong"}], {}, [("tags.etag", "strong")]),
    (["request-id"], {}, [("request-id.header", "X-Request-Id")]),
    ([{"kind": "header-fields", "on-answer": {"put": {"X-Frame-Options": "DENY"}}}], {}, [("marks.on-answer.put", {"X-Frame-Options": "DENY"})]),
]  # fmt: skip


@pytest.mark.parametrize(("stages", "how", "shown"), STAGES)
def test_what_shows_is_named_and_nothing_else(
    stages: list[Any], how: dict[str, Any], shown: list[tuple[str, Any]]
) -> None:
    routes = [
        {"id": f"r{n}", "at": f"GET /r{n}", "access": "everyone", "handler": text(text="high " * n * 40)}
        for n in (1, 2)
    ]
    pipeline = load({"patient-usher": "pipeline/1", "stages": stages, "routes": routes})
    found = learned_of(pipeline, **{"origins": ["https://boaters.example"], **how})
    told = {one.option: one.value for one in found.shown}
    assert {option: told.get(option) for option, _ in shown} == dict(shown)
    kinds = {stage if isinstance(stage, str) else stage["kind"] for stage in stages}
    assert {one.stage["kind"] for one in found.learned.found.stages} == kinds
    assert agreement(pipeline, found) == 1


@pytest.mark.parametrize("stages", [["limit", "id"], ["id", "limit"]])
def test_a_refusal_without_a_header_that_all_others_have_stands_outside(stages: list[str]) -> None:
    known = {"limit": {"id": "limit", "kind": "rate-limit", "quota": 3, "window": "60s"}, "id": "request-id"}
    routes = [{"id": "r", "at": "GET /r", "access": "everyone", "handler": text()}]
    found = learned_of(
        load({"patient-usher": "pipeline/1", "stages": [known[one] for one in stages], "routes": routes})
    )
    kinds = [stage["kind"] for stage in found.learned.document["stages"]]
    assert (kinds.index("rate-limit") < kinds.index("request-id"), found.differing) == (stages[0] == "limit", [])


def test_a_service_without_stages_shows_none() -> None:
    routes = [{"id": "r", "at": "GET /r", "access": "everyone", "handler": text()}]
    found = learned_of(load({"patient-usher": "pipeline/1", "routes": routes}))
    assert (found.learned.found.stages, found.differing) == ([], [])


def test_one_sort_of_error_body_is_one_shape() -> None:
    """What differs from error to error is filled in; what is the same stays."""
    net = {
        "kind": "error-handler",
        "write-as": "json",
        "shape": {"ok": False, "code": "${error.status}", "why": "${error.message}"},
    }
    who = {"id": "who", "kind": "authenticate", "schemes": [{"scheme": "api-key"}]}
    routes = [{"id": "r", "at": "GET /r", "access": "signed-in", "handler": text()}]
    doc = {"patient-usher": "pipeline/1", "refuse": "raise", "stages": [net, who], "routes": routes}
    found = learned_of(load({**doc, "accounts": {"ada": {"api-keys": ["a-made-up-key"]}}}))
    stage = next(one.stage for one in found.learned.found.stages if one.stage["kind"] == "error-handler")
    assert stage["shape"] == {"ok": False, "code": "${error.status}", "why": "${error.message}"}


TEXT = ("Content-Type", "text/plain")
JSON = ("Content-Type", "application/json")
Answers = Callable[[dict[str, Any]], tuple[str, list[tuple[str, str]], bytes]]
ODD: dict[str, Answers] = {
    "placeholders in fields and content": lambda asked: ("200 OK", [TEXT, ("X-T", "${env:HOME}")], b"cost ${env:HOME} ${path.x}"),
    "octets": lambda asked: ("200 OK", [("Content-Type", "application/octet-stream")], bytes(70_000)),
    "a redirect and a cookie": lambda asked: ("302 Found", [("Location", "https://elsewhere.example/x"), ("Set-Cookie", "sid=made-up")], b""),
    "a bare 500": lambda asked: ("500 Internal Server Error", [TEXT], b"Traceback"),
    "what was sent": lambda asked: ("200 OK", [TEXT, ("X-You", asked.get("HTTP_AUTHORIZATION", "nobody"))], b"you"),
    "a page for what isn't there": lambda asked: ("200 OK" if asked["PATH_INFO"] == "/a" else "404 Not Found", [("Content-Type", "text/html")], b"<p>"),
    "its own shape of errors": lambda asked: ("200 OK", [JSON], b"[1]") if asked["PATH_INFO"] == "/a" else ("404 Not Found", [JSON], b'{"code": 404, "error": {"msg": "Not Found"}}'),
}  # fmt: skip


@pytest.mark.parametrize("answers", ODD.values(), ids=ODD.keys())
def test_odd_services_are_learned(answers: Answers) -> None:
    def app(environ: dict[str, Any], start_response: Callable[..., Any]) -> list[bytes]:
        status, fields, body = answers(environ)
        start_response(status, fields)
        return [body]

    secret = "made-up-token-0123456789abcdef"
    account = Account("ada", "bearer", "Authorization", f"Bearer {secret}", "${env:T|made-up}")
    found = learn(routes_at(["GET /a"]), app=app, accounts=[account])
    assert [one.id for one in found.differing] == []
    assert secret not in json.dumps(found.learned.document.get("routes")) + json.dumps(found.trace)


# The command.

SERVICE = """
import json


def app(environ, start_response):
    key, path = environ.get("HTTP_X_API_KEY"), environ["PATH_INFO"]
    fields = [("Content-Type", "application/json"), ("X-Served-By", "quay")]
    if path == "/ledger" and key != "a-made-up-key-of-ada":
        start_response("401 Unauthorized", fields)
        return [json.dumps({"error": "sign in"}).encode()]
    if path not in ("/tides", "/ledger"):
        start_response("404 Not Found", fields)
        return [json.dumps({"error": "nothing here"}).encode()]
    start_response("200 OK", fields)
    return [json.dumps({"path": path, "key": key}).encode()]
"""
ASKED = ["--app", "quay:app", "--trust", "python", "--path", "GET /tides", "--path", "GET /ledger"]


def test_the_command_writes_a_pipeline_that_loads_and_holds_its_trace(usher: Usher, tmp_path: Path) -> None:
    (tmp_path / "quay.py").write_text(SERVICE)
    done = usher("learn", *ASKED, "--credential", "ada:api-key=${env:ADA_KEY}", env={"ADA_KEY": "a-made-up-key-of-ada"})
    assert all(words in done.out for words in ("plain-1", "marks", "who", "wrote pipeline.yaml and trace.yaml"))
    written = (tmp_path / "pipeline.yaml").read_text() + (tmp_path / "trace.yaml").read_text()
    assert "a-made-up-key-of-ada" not in written + done.out
    assert "shown by" in written
    assert usher("show", "pipeline.yaml", "GET", "/ledger").status == 0
    trusted = ["--trust", "python", "--trust", "env:ADA_KEY"]
    asked = ["drift", "pipeline.yaml", "trace.yaml", "--app", "quay:app", *trusted]
    again = usher(*asked, env={"ADA_KEY": "a-made-up-key-of-ada"})
    assert done.status == 0, done.out
    assert again.status == 0, again.out + again.err


@pytest.mark.parametrize(("arguments", "words"), [
    (["--at", "http://127.0.0.1:9"], "no route is known"), (["--app", "quay:app"], "give --trust python"),
    (["--at", "http://127.0.0.1:9", "--path", "tides"], "no method and path"), (["--at", "http://127.0.0.1:9", "--path", "GET /a", "--credential", "made-up"], "names no credential"),
    (["--at", "http://127.0.0.1:9", "--path", "GET /a", "--credential", "api-key=${env:NOT_THERE}"], "isn't set"), (["--at", "http://127.0.0.1:9", "--path", "GET /a"], "answered nothing"),
    (["--at", "http://127.0.0.1:9", "--path", "GET /a", "--credential", "basic=made-up"], "NAME:PASSWORD"), (["--at", "http://127.0.0.1:9", "--path", "GET /a", "--path", "GET /a"], "named twice"),
])  # fmt: skip
def test_misuse_is_told(usher: Usher, arguments: list[str], words: str) -> None:
    done = usher("learn", *arguments)
    assert (done.status, words in done.err) == (2, True), done.err


def test_a_file_that_is_there_stays(usher: Usher, tmp_path: Path) -> None:
    (tmp_path / "pipeline.yaml").write_text("mine")
    done = usher("learn", "--at", "http://127.0.0.1:9", "--path", "GET /a")
    assert (done.status, (tmp_path / "pipeline.yaml").read_text()) == (2, "mine")


def test_the_document_is_as_its_schema_says() -> None:
    found = to_builtins(document(learned_of(load(DEMO / "boaters.yaml"))))
    assert [error.message for error in Draft202012Validator(SCHEMAS["learned"]()).iter_errors(found)] == []


def test_routes_and_accounts_from_the_command_line() -> None:
    assert routes_at(["GET /berths/{berth}", "/tides?day=2"]) == [
        Known("berths-berth", "GET", "/berths/{berth}", "/berths/1", {}), Known("tides", "GET", "/tides", "/tides?day=2", {}),
    ]  # fmt: skip
    account = account_of("ada:bearer=${env:T}", 1, {"T": "made-up-token"}.get)
    assert (account.name, account.value, "made-up-token" in account.written) == ("ada", "Bearer made-up-token", False)
    with pytest.raises(Unusable):
        account_of("ada=made-up", 1, {}.get)


def test_what_is_learned_can_be_checked() -> None:
    assert check(Pipeline(learned_of(load(DEMO / "landing.yaml")).compiled)).tried > 0
