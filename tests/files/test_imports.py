"""Traffic in: logs with odd lines, OpenAPI, recordings, and fewer of them."""

from __future__ import annotations

import gzip
import json
import re
import subprocess
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest
import zstandard
from openapi_spec_validator import validate
from ruamel.yaml import YAML

from conftest import DEMO, USHER, Outcome
from patient_usher.core.decisions.schema_samples import sample
from patient_usher.core.model.schemas import compiled_schema

Usher = Callable[..., Outcome]
BASE = ("--base", "https://api.ternharbour.example")


def rows(path: Path) -> list[dict[str, Any]]:
    return [json.loads(line) for line in path.read_text().splitlines()]


# Logs.

T = "01/May/2031:08:00:00 +0200"
ODD = [
    (f'192.0.2.7 - - [{T}] "GET /a HTTP/1.1" 200 5', {"send": "GET /a", "address": "192.0.2.7"}),
    (f'192.0.2.7 - maren [{T}] "GET /a HTTP/2.0" 304 - "-" "-"', {"send": "GET /a"}),
    (f'192.0.2.7 - - [{T}] "GET /a HTTP/1.1" 200 5 "https://boaters.example/x" "page \\"8\\" \\\\ \\x41"', {"headers": {"User-Agent": 'page "8" \\ A', "Referer": "https://boaters.example/x"}}),
    (f'192.0.2.7 - - [{T}] "GET http://api.ternharbour.example/a?b HTTP/1.1" 200 5', {"send": "GET http://api.ternharbour.example/a?b"}),
    (f'2001:db8::7 - - [{T}] "GET /a HTTP/1.1" 200 5', {"address": "2001:db8::7"}),
    (f'fe80::1%eth0 - - [{T}] "GET /a HTTP/1.1" 200 5', {"address": "fe80::1"}),
    (f'192.0.2.7 - - [{T}] "GET /caf\\xc3\\xa9 HTTP/1.1" 200 5', {"send": "GET /caf%C3%A9"}),
    (f'192.0.2.7 - - [{T}] "GET /a?x=${{y}} HTTP/1.1" 200 5', {"send": "GET /a?x=$${y}"}),
    (f'192.0.2.7 - - [{T}] "GET /a?x=${{env:HOME}} HTTP/1.1" 200 5 "https://a.example/${{env:HOME}}" "-"', {"send": "GET /a?x=$${env:HOME}", "headers": {"Referer": "https://a.example/$${env:HOME}"}}),
    (f'192.0.2.7 - - [{T}] "\\x16\\x03\\x01" 400 0 "-" "-"', None),
    (f'192.0.2.7 - - [{T}] "-" 408 0 "-" "-"', None),
    (f'192.0.2.7 - - [{T}] "OPTIONS * HTTP/1.1" 200 0', None),
    (f'not-an-address - - [{T}] "GET /a HTTP/1.1" 200 5', None),
    ('192.0.2.7 - - [yesterday] "GET /a HTTP/1.1" 200 5', None),
    ("nothing of a log", None),
]  # fmt: skip


@pytest.mark.parametrize(("line", "wanted"), ODD)
def test_lines_that_servers_write(usher: Usher, tmp_path: Path, line: str, wanted: dict[str, Any] | None) -> None:
    plain = f'192.0.2.1 - - [{T}] "GET /plain HTTP/1.1" 200 5'
    outcome = usher("import", "a.log", "--into", "t.jsonl", "--from", "log", *BASE, a__log=f"{plain}\n{line}\n")
    assert outcome.status == 0, outcome.err
    found = rows(tmp_path / "t.jsonl")[1:]
    if wanted is None:
        assert len(found) == 1
        assert "1 can't be read or replayed" in outcome.out
    else:
        assert {key: found[1].get(key) for key in wanted} == wanted
    assert usher("replay", str(DEMO / "harbour.yaml"), "t.jsonl", "-q").status == 0


def test_times_zones_and_what_comes_within_a_second(usher: Usher, tmp_path: Path) -> None:
    """Three in one second are spread over it; another zone is another time; what comes late keeps its second."""
    log = "".join(
        f'192.0.2.7 - - [{time}] "GET /{n} HTTP/1.1" 200 5\n'
        for n, time in enumerate(
            ["01/May/2031:08:00:00 +0000"] * 3 + ["01/May/2031:10:00:02 +0200", "01/May/2031:08:00:01 +0000"]
        )
    )
    outcome = usher("import", "a.log", "--into", "t.jsonl", a__log=log)
    header, *found = rows(tmp_path / "t.jsonl")
    assert header["starts"] == "2031-05-01T08:00:00Z"
    assert [(row["send"], row["at"]) for row in found] == [
        ("GET /0", "0us"), ("GET /1", "333333us"), ("GET /2", "666666us"), ("GET /4", "1000000us"), ("GET /3", "2000000us"),
    ]  # fmt: skip
    assert "3 came within a second" in outcome.out
    assert "evenly" in header["name"]


def test_packed_files_are_merged_by_time(usher: Usher, tmp_path: Path) -> None:
    def log(name: str, seconds: list[int]) -> bytes:
        return "".join(
            f'192.0.2.7 - - [01/May/2031:08:00:{s:02} +0000] "GET /{name}{s} HTTP/1.1" 200 5\n' for s in seconds
        ).encode()

    packed = {
        "a__log": log("a", [0, 4]),
        "b__gz": gzip.compress(log("b", [1, 5])),
        "c__zst": zstandard.compress(log("c", [2, 3])),
    }
    assert usher("import", "a.log", "b.gz", "c.zst", "--into", "t.jsonl", **packed).status == 0
    assert [row["send"] for row in rows(tmp_path / "t.jsonl")[1:]] == [
        f"GET /{n}" for n in ("a0", "b1", "c2", "c3", "a4", "b5")
    ]


W3C = """#Version: 1.0
#Fields: date time c-ip cs-username cs-method cs-uri-stem cs-uri-query sc-status cs(User-Agent) cs(Referer)
2031-05-01 08:00:00 192.0.2.7 - GET /tides station=tern 200 harbour+page/8 -
2031-05-01 08:00:01 192.0.2.7 maren POST /berths - 401 - https://boaters.example/
too short
"""
JSONL = '{"ts": 1935648000.5, "http": {"verb": "GET", "url": "/tides"}, "ip": "192.0.2.7", "code": 200, "ua": "buoy"}\n{"ts": "2031-06-03T00:00:00Z", "http": {"verb": "GET", "url": "/x"}}\nnot json\n'
NAMES = "at=ts,method=http.verb,target=http.url,status=code,agent=ua"
OTHERS = [
    (W3C, (), [{"send": "GET /tides?station=tern", "headers": {"User-Agent": "harbour page/8"}}, {"send": "POST /berths", "expect": {"status": 401}}]),
    (JSONL, ("--fields", NAMES), [{"send": "GET /tides", "address": "192.0.2.7", "expect": {"status": 200}, "headers": {"User-Agent": "buoy"}}, {"send": "GET /x"}]),
]  # fmt: skip


@pytest.mark.parametrize(("text", "options", "wanted"), OTHERS)
def test_other_formats_are_found_by_looking(
    usher: Usher, tmp_path: Path, text: str, options: tuple[str, ...], wanted: list[dict[str, Any]]
) -> None:
    outcome = usher("import", "a.log", "--into", "t.jsonl", "--expect-recorded", *options, a__log=text)
    assert (outcome.status, "1 can't be read" in outcome.out) == (0, True), outcome.err
    found = rows(tmp_path / "t.jsonl")[1:]
    assert [{key: row.get(key) for key in part} for row, part in zip(found, wanted, strict=True)] == wanted


SECRETS = [
    ("token=abc", True), ("api_key=abc", True), ("key=kittiwake", True), ("mail=maren@boaters.example", True), ("mail=maren%40boaters.example", True),
    ("x=eyJhbGciOiJIUzI1NiJ9.eyJzdWIiOiJhIn0.c2ln", True), ("x=0123456789abcdef0123456789abcdef", True), ("station=tern", False), ("q=a+long+sentence+of+many+words+about+boats", False),
]  # fmt: skip


@pytest.mark.parametrize(("query", "hidden"), SECRETS)
def test_secrets_in_queries_are_hidden_by_name_and_by_look(
    usher: Usher, tmp_path: Path, query: str, hidden: bool
) -> None:
    log = f'192.0.2.7 - - [{T}] "GET /a?{query} HTTP/1.1" 200 5 "https://a.example/?{query}" "-"\n'
    usher("import", "a.log", "--into", "t.jsonl", a__log=log)
    usher("import", "a.log", "--into", "kept.jsonl", "--keep-secrets")
    value = query.partition("=")[2]
    assert (value not in (tmp_path / "t.jsonl").read_text()) == hidden
    assert value in (tmp_path / "kept.jsonl").read_text()


LOG = "".join(
    f'198.51.100.{n % 20} - - [01/May/2031:08:{n // 60:02}:{n % 60:02} +0000] "{("GET", "POST")[n % 2]} /r{n} HTTP/1.1" {200 + n % 2} 5\n'
    for n in range(300)
)
FEWER = [
    (("--first", "7"), lambda found: len(found) == 7),
    (("--where", "{method: POST}"), lambda found: len(found) == 150 and all(row["send"].startswith("POST") for row in found)),
    (("--where", "{path: /r1, address: 198.51.100.1}"), lambda found: [row["send"] for row in found] == ["POST /r1"]),
    (("--sample", "0.3"), lambda found: 0 < len({row["address"] for row in found}) < 20 and len(found) % 15 == 0),
    (("--faster", "10"), lambda found: found[-1]["at"] == "29900000us"),
    (("--shift", "1h"), lambda found: found[0]["at"] == "3600000000us"),
]  # fmt: skip


@pytest.mark.parametrize(("options", "held"), FEWER)
@pytest.mark.parametrize("source", ["log", "trace"])
def test_a_day_becomes_a_minute(
    usher: Usher, tmp_path: Path, options: tuple[str, ...], held: Callable[[list[Any]], bool], source: str
) -> None:
    name = "a.log"
    if source == "trace":
        usher("import", "a.log", "--into", "whole.jsonl", a__log=LOG)
        name = "whole.jsonl"
    outcome = usher("import", name, "--into", "t.jsonl", *options, a__log=LOG)
    assert outcome.status == 0, outcome.err
    assert held(rows(tmp_path / "t.jsonl")[1:])


def test_a_trace_that_people_write_becomes_a_smaller_one(usher: Usher, tmp_path: Path) -> None:
    assert usher("import", str(DEMO / "story.yaml"), "--into", "t.yaml", "--where", "{path: /v1/tides}").status == 0
    trace = YAML(typ="safe", pure=True).load(tmp_path / "t.yaml")
    assert {entry["send"].split()[1].partition("?")[0] for entry in trace["requests"]} == {"/v1/tides"}
    assert usher("replay", str(DEMO / "harbour.yaml"), "t.yaml", "-q").status == 0


@pytest.mark.parametrize("blank", ["", "\n"])
def test_an_empty_file_among_others_has_no_lines(usher: Usher, tmp_path: Path, blank: str) -> None:
    done = usher("import", "a.log", "b.log", "--into", "t.jsonl", "--strict", a__log=blank + LOG, b__log=blank)
    assert (done.status, len(rows(tmp_path / "t.jsonl"))) == (0, 301)


def test_strict_refuses_and_writes_nothing(usher: Usher, tmp_path: Path) -> None:
    outcome = usher("import", "a.log", "--into", "t.jsonl", "--strict", "--from", "log", a__log="nothing of a log\n")
    assert (outcome.status, "a.log:1:1" in outcome.err, (tmp_path / "t.jsonl").exists()) == (2, True, False)
    assert list(tmp_path.glob(".t.jsonl*")) == []


# Recordings and descriptions.


def test_a_recording_becomes_a_trace_that_can_be_edited(usher: Usher, tmp_path: Path) -> None:
    outcome = usher("import", str(DEMO / "harbour.har"), "--into", "t.yaml", "--expect-recorded")
    trace = YAML(typ="safe", pure=True).load(tmp_path / "t.yaml")
    assert (outcome.status, len(trace["requests"]) > 5) == (0, True), outcome.err
    assert usher("replay", str(DEMO / "recorded.yaml"), "t.yaml", "-q").status in (0, 1)


OPENAPI = """openapi: VERSION
info: {title: Berths, version: "1"}
servers: [{url: https://api.ternharbour.example/v1}]
security: [{key: []}]
paths:
  /tides:
    get:
      security: []
      parameters: [{name: station, in: query, required: true, schema: {type: string}}, {$ref: "#/components/parameters/Day"}]
      responses: {"200": {description: ok, content: {application/json: {example: {high: "06:12"}}}}}
  /berths/{berth}/bookings:
    parameters: [{name: berth, in: path, required: true, schema: {type: string}}]
    post:
      operationId: book
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Booking"}}}}
      responses: {"201": {description: made, content: {application/json: {schema: {$ref: "#/components/schemas/Booking"}}}}}
components:
  parameters: {Day: {name: day, in: query, schema: {type: integer}}}
  securitySchemes: {key: {type: apiKey, in: header, name: X-Key}}
  schemas:
    Booking: {type: object, required: [nights], properties: {nights: {type: integer, minimum: 1}, with: {$ref: "#/components/schemas/Booking"}}}
"""
ASKED = [
    ("GET /v1/tides?station=tern", {}, 200), ("GET /v1/tides", {}, 422), ("POST /v1/berths/T07/bookings", {"json": {"nights": 2}}, 401),
    ("POST /v1/berths/T07/bookings", {"json": {"nights": 2}, "sign": {"api-key": "somebody"}}, 201), ("POST /v1/berths/T07/bookings", {"json": {"nights": 0}, "sign": {"api-key": "somebody"}}, 422),
]  # fmt: skip


@pytest.mark.parametrize("version", ["3.0.3", "3.1.0"])
@pytest.mark.parametrize("form", ["yaml", "json"])
def test_a_description_becomes_a_pipeline_that_does_what_it_says(
    usher: Usher, tmp_path: Path, version: str, form: str
) -> None:
    text = OPENAPI.replace("VERSION", version)
    validate(YAML(typ="safe", pure=True).load(text))
    if form == "json":
        text = json.dumps(YAML(typ="safe", pure=True).load(text))
    assert usher("import", "o.txt", "--into", "p.yaml", o__txt=text).status == 0
    assert "# guessed" in (tmp_path / "p.yaml").read_text()
    requests = [
        {"id": f"q{n}", "send": send, **more, "expect": {"status": status}}
        for n, (send, more, status) in enumerate(ASKED)
    ]
    trace = json.dumps({"patient-usher": "trace/1", "requests": requests})
    outcome = usher("replay", "p.yaml", "t.json", "-q", t__json=trace)
    assert (outcome.status, outcome.out, outcome.err) == (0, "", "")
    assert usher("check", "p.yaml").status == 0


SCHEMES: dict[str, dict[str, Any]] = {
    "key": {"type": "apiKey", "in": "header", "name": "X-Key"}, "other": {"type": "apiKey", "in": "query", "name": "k"}, "login": {"type": "http", "scheme": "basic"},
    "token": {"type": "http", "scheme": "bearer"}, "grant": {"type": "oauth2", "flows": {}}, "open-id": {"type": "openIdConnect", "openIdConnectUrl": "https://a.example"},
    "old": {"type": "http", "scheme": "digest"}, "line": {"type": "mutualTLS"},
}  # fmt: skip
SHOWN_BY = {"key": "key", "other": "other", "login": "login", "token": "bearer", "grant": "bearer", "open-id": "bearer"}
SIGNED: dict[str, dict[str, Any]] = {
    "key": {"headers": {"X-Key": "a-made-up-key"}}, "other": {"query": "?k=a-made-up-key"}, "login": {"sign": {"basic": "somebody"}}, "bearer": {"sign": {"bearer": "somebody"}},
}  # fmt: skip


@pytest.mark.parametrize("seed", range(12))
def test_each_route_lets_in_whom_the_description_says(usher: Usher, seed: int) -> None:
    """Second opinion: all of any of the alternatives (OpenAPI 3.1, Security Requirement Object), operation by operation."""
    random = Random(seed)
    schemes = random.sample(list(SCHEMES), random.randrange(2, 7))
    paths: dict[str, Any] = {}
    for path in ("/a", "/a/{x}", "/a/b", "/{y}/c", "/d"):
        alternatives = [
            {name: [] for name in random.sample(schemes, random.choice([1, 1, 1, 2]))}
            for _ in range(random.choice([0, 1, 1, 2]))
        ]
        names = re.findall("{(.)}", path)
        parameters = [{"name": name, "in": "path", "required": True, "schema": {"type": "string"}} for name in names]
        paths[path] = {
            "get": {"security": alternatives, "parameters": parameters, "responses": {"200": {"description": "ok"}}}
        }
    document = {
        "openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": paths,
        "components": {"securitySchemes": {name: SCHEMES[name] for name in schemes}},
    }  # fmt: skip
    validate(document)
    said = usher("import", "o.json", "--into", "p.yaml", o__json=json.dumps(document))
    assert said.status == 0, said
    requests, wanted = [], {}
    for path, item in paths.items():
        place = path.replace("{x}", "free").replace("{y}", "free")
        known = [{SHOWN_BY[name] for name in one if name in SHOWN_BY} for one in item["get"]["security"]]
        loose = len(known) > 1 and any(len(one) > 1 for one in known)  # which a pipeline can't say, and which is told
        for shown in [(), *((one,) for one in SIGNED), ("key", "other"), ("key", "login"), ("other", "bearer")]:
            more: dict[str, Any] = {"send": f"GET {place}"}
            for one in shown:
                sort = SIGNED[one]
                more["send"] += sort.get("query", "")
                more |= {key: value for key, value in sort.items() if key != "query"}
            open_to_all = not known or not any(known)
            lets = open_to_all or any(one and one <= {*shown} for one in known)
            if loose and not open_to_all:
                assert "here any of them does" in said.out
                lets = any(one & {*shown} for one in known)
            id_ = f"q{len(requests)}"
            requests.append({"id": id_, **more})
            wanted[id_] = 200 if lets else 401
    trace = json.dumps({"patient-usher": "trace/1", "requests": requests})
    replayed = usher("replay", "p.yaml", "t.json", "--format", "jsonl", t__json=trace)
    got = {row["id"]: row["response"]["status"] for row in map(json.loads, replayed.out.splitlines())}
    assert {id_: (got[id_], requests[int(id_[1:])]) for id_ in got if got[id_] != wanted[id_]} == {}
    for name in schemes:
        if name in ("old", "line"):
            assert f"the security scheme {name} (" in said.out


def test_a_paths_own_parameters_are_held_and_a_route_stands_in_a_line(usher: Usher, tmp_path: Path) -> None:
    document = {
        "openapi": "3.2.0", "info": {"title": "t", "version": "1"},
        "paths": {"/berths/{no-of}/x": {
            "parameters": [{"name": "no-of", "in": "path", "required": True, "schema": {"type": "integer", "minimum": 3}}],
            "query": {"responses": {"200": {"description": "ok"}}},
            "additionalOperations": {"COPY": {"responses": {"200": {"description": "ok"}}}},
        }},
    }  # fmt: skip
    assert usher("import", "o.json", "--into", "p.yaml", o__json=json.dumps(document)).status == 0
    lines = [line for line in (tmp_path / "p.yaml").read_text().splitlines() if "at: " in line]
    assert len(lines) == 2
    rows = [
        ("QUERY /berths/7/x", 200),
        ("COPY /berths/3/x", 200),
        ("COPY /berths/2/x", 422),
        ("QUERY /berths/none/x", 422),
    ]
    requests = [{"id": f"q{n}", "send": send, "expect": {"status": status}} for n, (send, status) in enumerate(rows)]
    done = usher(
        "replay", "p.yaml", "t.json", "-q", t__json=json.dumps({"patient-usher": "trace/1", "requests": requests})
    )
    assert (done.status, done.out) == (0, "")
    assert usher("check", "p.yaml").status == 0


@pytest.mark.parametrize(
    ("url", "prefix", "told"),
    [
        ("https://api.example/v1/", "/v1", ""),
        ("https://api.example", None, ""),
        ("/v2", "/v2", ""),
        ("https://api.example/{region}", None, "has variables"),
        ("https://api.example/a b", None, "must hold no query, fragment or space"),
        ("https://api.example/v1?x=1", None, "must hold no query, fragment or space"),
    ],
)
def test_where_routes_stand_by_the_servers_url(
    usher: Usher, tmp_path: Path, url: str, prefix: str | None, told: str
) -> None:
    described = {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "servers": [{"url": url}]}
    described["paths"] = {"/a": {"get": {"responses": {"200": {"description": ""}}}}}
    done = usher("import", "o.json", "--into", "p.yaml", o__json=json.dumps(described))
    assert (done.status, told in done.out + done.err) == (0, True)
    (group,) = YAML(typ="safe", pure=True).load(tmp_path / "p.yaml")["groups"]
    assert group.get("prefix") == prefix
    assert usher("show", "p.yaml").status == 0


TREE = """openapi: 3.0.3
info: {title: Berths, version: "1"}
paths:
  /boats:
    post:
      requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Boat"}}}}
      responses: {"201": {description: made, content: {application/json: {schema: {$ref: "#/components/schemas/Boat"}}}}}
components:
  schemas:
    Boat:
      type: object
      required: [xml]
      properties:
        xml: {type: string, nullable: true, enum: [sail, motor]}
        length: {type: number, minimum: 0, exclusiveMinimum: true}
        tows: {$ref: "#/components/schemas/Boat"}
        MORE
"""
BODIES = [
    ({"xml": "sail"}, 201), ({"xml": None}, 201), ({"xml": "steam"}, 422), ({}, 422), ({"xml": "sail", "length": 0}, 422), ({"xml": "sail", "length": 0.5}, 201),
    ({"xml": "sail", "tows": {"xml": "motor"}}, 201), ({"xml": "sail", "tows": {"xml": "steam"}}, 422), ({"xml": "sail", "tows": {"xml": "sail", "tows": {"length": 1}}}, 422),
]  # fmt: skip


def _more(number: int) -> str:
    return "\n        ".join(f"p{n}: {{type: string, maxLength: 5}}" for n in range(number))


@pytest.mark.parametrize("more", ["", _more(300)], ids=["small", "large"])
def test_schemas_that_lead_back_into_themselves_stay_exact(usher: Usher, tmp_path: Path, more: str) -> None:
    """OpenAPI 3.0's nullable and exclusive bounds in the words of JSON Schema; names of properties are no keywords."""
    text = TREE.replace("MORE", more)
    validate(YAML(typ="safe", pure=True).load(text))
    outcome = usher("import", "o.yaml", "--into", "p.yaml", o__yaml=text)
    assert (outcome.status, "larger than" in outcome.out) == (0, False), outcome
    bodies = [*BODIES, *([({"xml": "sail", "p7": "too long"}, 422)] if more else [])]
    requests = [
        {"id": f"q{n}", "send": "POST /boats", "json": body, "expect": {"status": status}}
        for n, (body, status) in enumerate(bodies)
    ]
    outcome = usher(
        "replay", "p.yaml", "t.json", t__json=json.dumps({"patient-usher": "trace/1", "requests": requests})
    )
    assert outcome.status == 0, outcome.out
    assert usher("check", "p.yaml").status == 0


def test_what_is_larger_than_a_pipeline_holds_is_left_open_and_told(usher: Usher, tmp_path: Path) -> None:
    """Schemas that all lead to each other: written out they would be larger than anything."""
    names = [f"S{n}" for n in range(60)]
    schemas = {
        name: {"type": "object", "required": names, "properties": {n: {"$ref": f"#/components/schemas/{n}"} for n in names}}
        for name in names
    }  # fmt: skip
    schemas["S0"]["properties"] |= {f"p{n}": {"type": "string"} for n in range(3000)}  # type: ignore[attr-defined]
    content = {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/S0"}}}}
    responses = {"200": {"description": "ok", **content}}
    paths = {"/a": {"post": {"requestBody": content, "responses": responses}}}
    doc = {"openapi": "3.1.0", "info": {"title": "Berths", "version": "1"}, "paths": paths}
    text = json.dumps({**doc, "components": {"schemas": schemas}})
    outcome = usher("import", "o.json", "--into", "p.yaml", o__json=text)
    assert (outcome.status, "1 schemas are larger than a pipeline holds: anything fits them" in outcome.out) == (
        0,
        True,
    )
    assert usher("show", "p.yaml").status == 0


def test_where_a_description_says_what_it_is(usher: Usher, tmp_path: Path) -> None:
    """Its members may stand in any order, behind any number of lines; it may be packed, and come by standard input."""
    doc = YAML(typ="safe", pure=True).load(OPENAPI.replace("VERSION", "3.1.0"))
    late = f"components: {json.dumps(doc.pop('components'))}\n" + "# a line of many\n" * 5000
    text = late + "".join(f"{key}: {json.dumps(value)}\n" for key, value in doc.items())
    assert usher("import", "o.yaml", "--into", "p.yaml", o__yaml=text).status == 0
    (tmp_path / "o.gz").write_bytes(gzip.compress(text.encode()))
    assert usher("import", "o.gz", "--into", "q.yaml").status == 0
    first, second = ((tmp_path / name).read_text().partition("\n")[2] for name in ("p.yaml", "q.yaml"))
    assert first == second


@pytest.mark.parametrize("name", ["-", "/dev/stdin"])
def test_traffic_comes_by_standard_input(tmp_path: Path, name: str) -> None:
    command = [str(USHER), "import", name, "--into", "t.jsonl"]
    done = subprocess.run(command, cwd=tmp_path, input=gzip.compress(LOG.encode()), capture_output=True, timeout=60)
    assert (done.returncode, len(rows(tmp_path / "t.jsonl"))) == (0, 301), done.stderr


SCHEMAS = [
    {"type": "string", "pattern": "^[A-Z]{2}-\\d{3}$"}, {"type": "string", "minLength": 20, "maxLength": 22}, {"type": "string", "format": "email"},
    {"type": "integer", "minimum": 3, "maximum": 9}, {"type": "number", "exclusiveMinimum": 3}, {"type": "integer", "maximum": -4}, {"exclusiveMaximum": 0, "type": "integer"}, {"type": "integer", "multipleOf": 7},
    {"type": ["integer", "null"]}, {"type": "boolean"}, {"type": "null"}, {"const": {"a": 1}}, {"enum": ["b", "c"]}, {"type": "string", "default": "d"},
    {"type": "array", "items": {"type": "integer"}, "minItems": 2}, {"type": "array"}, {"type": "object", "required": ["a"], "properties": {"a": {"type": "integer"}, "b": {"type": "string"}}},
    {"allOf": [{"type": "object", "required": ["a"], "properties": {"a": {"type": "integer"}}}, {"required": ["b"], "properties": {"b": {"type": "boolean"}}}]},
    {"oneOf": [{"type": "integer"}, {"type": "string"}]}, {"anyOf": [{"type": "array", "minItems": 1, "items": {"const": 1}}]},
    {"$ref": "#/$defs/A", "$defs": {"A": {"type": "object", "required": ["n"], "properties": {"n": {"$ref": "#/$defs/B"}}}, "B": {"type": "integer", "minimum": 2}}},
    {"allOf": [{"$ref": "#/$defs/A"}], "$defs": {"A": {"type": "array", "minItems": 3, "items": {"type": "string"}}}},
]  # fmt: skip


@pytest.mark.parametrize("schema", SCHEMAS)
def test_what_is_made_up_fits_its_schema(schema: dict[str, Any]) -> None:
    assert not list(compiled_schema(schema).iter_errors(sample(schema)))


@pytest.mark.parametrize(
    "schema",
    [
        {"$ref": "#"},
        {"type": "array", "minItems": 10**12, "items": {"type": "string", "minLength": 10**12}},
        {"type": "object", "required": [*"abcdefghij"], "properties": {name: {"$ref": "#"} for name in "abcdefghij"}},
        {"type": "object", "required": 3, "properties": 4},
        {"type": "integer", "minimum": "x"},
        {"allOf": 3, "enum": {}},
    ],
)
def test_no_schema_makes_it_grow_or_fail(schema: dict[str, Any]) -> None:
    assert len(json.dumps(sample(schema))) < 2_000_000


WRONG = [
    ('{"openapi": "2.0"}', "give a description of OpenAPI 3.0, 3.1 or 3.2"),
    (OPENAPI.replace("VERSION", "3.1.0").replace("#/components/parameters/Day", "other.yaml#/x"), "names nothing in this file"),
    (OPENAPI.replace("VERSION", "3.1.0").replace("{name: day, in: query, schema: {type: integer}}", '{$ref: "#/components/parameters/Day"}'), "leads round in a circle"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "words"), WRONG)
def test_what_can_not_be_read_is_told(usher: Usher, tmp_path: Path, text: str, words: str) -> None:
    outcome = usher("import", "o.txt", "--into", "p.yaml", "--from", "openapi", o__txt=text)
    assert (outcome.status, words in outcome.err, (tmp_path / "p.yaml").exists()) == (2, True, False)


def test_nothing_of_a_description_asks_the_environment(usher: Usher, tmp_path: Path) -> None:
    asks = "${env:HOME} ${env:PATH|x}"
    schema = {"type": "string", "enum": [asks], "default": asks, "description": asks}
    operation = {
        "operationId": "op",
        "security": [{"k": [asks]}],
        "parameters": [{"name": asks, "in": "query", "schema": schema}],
        "responses": {"200": {"description": asks, "content": {asks: {"example": asks}}}},
    }
    doc = {
        "openapi": "3.1.0",
        "info": {"title": asks, "version": "1"},
        "paths": {"/a": {"get": operation}},
        "components": {"securitySchemes": {"k": {"type": "apiKey", "in": "header", "name": "X-K"}}},
    }
    assert usher("import", "d.json", "--into", "p.yaml", d__json=json.dumps(doc)).status == 0
    written = (tmp_path / "p.yaml").read_text()
    assert "HOME" in written
    assert re.search(r"(?<!\$)\$\{env:(?!SIGNING_SECRET)", written) is None
