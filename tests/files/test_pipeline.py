"""Every mistake in a file: file:line:column, what is wrong, what would be right, all at once, status 2."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from ruamel.yaml import YAML, YAMLError

from conftest import DEMO, Outcome
from patient_usher import Unusable
from patient_usher.core.model.document import Spot
from patient_usher.files.pipeline import load_pipeline

Usher = Callable[..., Outcome]

HEAD = "patient-usher: pipeline/1\n"
ROUTE = "routes: [{id: r, at: GET /, handler: {answer: {text: ok}}}]\n"
KEYS = "signing-keys: {main: {algorithm: HS256, secret: made-up}}\n"


def stage(text: str) -> str:
    return f"{HEAD}stages:\n  - {text}\n{ROUTE}"


# name, pipeline, where (line:column), what, mend
PIPELINES: list[tuple[str, str, str, str, str]] = [
    ("unknown key at the top", HEAD + "stagess: []\n", "2:1", "unknown key 'stagess'", "did you mean 'stages'?"),
    ("unknown option of a kind", stage("{id: n, kind: error-handler, reveel: nothing}"), "3:34", "unknown key 'reveel'", "did you mean 'reveal'?"),
    ("unknown key in a list of a kind", stage("{id: n, kind: error-handler, answers: [{raised: X, stats: 3}]}"), "3:56", "unknown key 'stats'", "did you mean 'status'?"),
    ("a scheme's name alone", stage("{id: w, kind: authenticate, schemes: [basic]}"), "3:43", "a scheme is a mapping that names it", "write - {scheme: basic}, with its options"),
    ("a scheme as a key", stage("{id: w, kind: authenticate, schemes: [{api-key: {header: X-Key}}]}"), "3:43", "a scheme is a mapping that names it", "write - {scheme: api-key}, with its options"),
    ("another scheme", stage("{id: w, kind: authenticate, schemes: [{scheme: basics}]}"), "3:43", "'basics' is none of those that are known here", "did you mean 'basic'?"),
    ("unknown key of a scheme", stage("{id: w, kind: authenticate, schemes: [{scheme: bearer, key: main}]}") + KEYS, "3:60", "unknown key 'key'", "did you mean 'keys'?"),
    ("unknown key deep in a group", HEAD + "groups:\n  - id: g\n    groups:\n      - {id: h, routs: []}\n", "5:17", "unknown key 'routs'", "did you mean 'routes'?"),
    ("unknown kind", stage("acces-log"), "3:5", "there is no kind 'acces-log'", "did you mean 'access-log'?"),
    ("no kind", stage("{id: x}"), "3:5", "the stage has no kind", "known here"),
    ("kind by another name", stage("etag"), "3:5", "there is no kind 'etag'", "did you mean 'conditional'?"),
    ("kind in another spelling", stage("{id: n, kind: Rate_Limit}"), "3:19", "there is no kind 'Rate_Limit'", "did you mean 'rate-limit'?"),
    ("kind as a key", stage("cors: {allow-origins: ['*']}"), "3:5", "a stage's kind is no key of its own, as 'cors' is here", "write - {kind: cors, OPTION: VALUE}"),
    ("kind as an empty key", stage("{throttle: null, quota: 3}"), "3:6", "as 'throttle' is here", "write - {kind: rate-limit, OPTION: VALUE}"),
    ("a stage that is a number", stage("7"), "3:5", "a stage is a kind or a mapping", "write - access-log"),
    ("value not in the list", stage("{id: n, kind: error-handler, reveal: al}"), "3:42", "'reveal' can't be 'al'", "nothing, message, everything"),
    ("wrong type", HEAD + "name: [a]\n", "2:7", "'name' must be text, not a list", ""),
    ("wrong item", HEAD + "environment: [quay, 5]\n", "2:21", "an item of 'environment' must be text, not 5", ""),
    ("wrong item of an option", HEAD + "stages:\n  - {id: c, kind: compress, codings: [gzip, rar]}\n", "3:45", "an item of 'codings' can't be 'rar'", "known here: br, zstd, gzip, deflate"),
    ("number for text", HEAD + "name: 7\n", "2:7", "'name' must be text, not 7", ""),
    ("mapping for list", HEAD + "routes: {id: r}\n", "2:9", "'routes' must be a list, not a mapping", ""),
    ("version", "patient-usher: pipeline/2\n", "1:16", "'patient-usher' can't be 'pipeline/2'", "pipeline/1"),
    ("version missing", "name: x\n", "1:1", "'patient-usher' is missing here", "add patient-usher:"),
    ("handler missing", HEAD + "routes: [{id: r, at: GET /}]\n", "2:10", "'handler' is missing here", "add handler:"),
    ("duplicate stage", HEAD + "stages:\n  - access-log\n  - access-log\n", "4:5", "the stage id 'access-log' is taken", "an id of its own"),
    ("duplicate route", HEAD + "routes:\n  - {id: r, at: GET /a, handler: {echo: true}}\n  - {id: r, at: GET /b, handler: {echo: true}}\n", "4:10", "the id 'r' is taken by another route", "an id of its own"),
    ("same path twice", HEAD + 'routes:\n  - {id: r, at: "GET /{a}", handler: {echo: true}}\n  - {id: s, at: "GET /{b}", handler: {echo: true}}\n', "4:17", "'r' has this method and path already", "another path"),
    ("desk on a route's path", HEAD + "routes:\n  - {id: own, at: POST /in, handler: {echo: true}}\ngroups:\n  - {id: g, desk: {at: /in, gives: token, keys: main}}\n" + KEYS, "5:24", "'own' has the method and path of sign-in already", "another path"),
    ("desk on a desk's path", HEAD + "groups:\n  - {id: g, desk: {at: /in, gives: token, keys: main}}\n  - {id: h, prefix: /in, desk: {at: /, gives: token, keys: main}}\n" + KEYS, "4:37", "'g.sign-in' has the method and path of sign-in already", "another path"),
    ("route on a desk's path", HEAD + "groups:\n  - {id: g, desk: {at: /in, gives: token, keys: main}, routes: [{id: r, at: DELETE /in, handler: {echo: true}}]}\n" + KEYS, "3:77", "'g.sign-out' has this method and path already", "another path"),
    ("preflights of no success", stage("{id: c, kind: cors, allow-origins: ['*'], preflight-status: 300}"), "3:65", "'preflight-status' must be at most 299, not 300", ""),
    ("cost of nothing", stage("{id: l, kind: rate-limit, quota: 1, window: 1s, cost: 0}"), "3:59", "'cost' must be at least 1, not 0", ""),
    ("duplicate key", HEAD + "name: a\nname: b\n", "3:1", "the key 'name' stands here twice", "keep one"),
    ("dangling key", stage("{id: w, kind: authenticate, schemes: [{scheme: bearer, keys: mian}]}") + KEYS, "3:66", "there is no signing key 'mian'", "did you mean 'main'?"),
    ("dangling records", HEAD + "routes: [{id: r, at: GET /, handler: {records: berths, do: list}}]\n", "2:48", "there are no records 'berths'", ""),
    ("dangling is-a", HEAD + "errors: {Taken: {is-a: Conflct}}\n", "2:24", "there is no error type 'Conflct'", "did you mean 'Conflict'?"),
    ("is-a in a circle", HEAD + "errors: {A: {is-a: B}, B: {is-a: A}}\n", "2:20", "is a kind of itself", "built-in"),
    ("reserved id", stage("{id: handler, kind: access-log}"), "3:10", "the id 'handler' is taken", "for themselves"),
    ("bad id", stage("{id: a b, kind: access-log}"), "3:10", "'a b' is no id", "letters"),
    ("path without a slash", HEAD + "routes: [{id: r, at: GET tides, handler: {echo: true}}]\n", "2:22", "the path 'tides' must start with /", ""),
    ("no method", HEAD + "routes: [{id: r, at: /tides, handler: {echo: true}}]\n", "2:22", "'/tides' says no method and path", "GET /tides/{station}"),
    ("brace in mid-segment", HEAD + 'routes: [{id: r, at: "GET /t{a}", handler: {echo: true}}]\n', "2:22", "the segment 't{a}' must be a literal, {name} or {+rest}", ""),
    ("tail not last", HEAD + 'routes: [{id: r, at: "GET /{+a}/b", handler: {echo: true}}]\n', "2:22", "takes the whole tail, so it must come last", ""),
    ("parameter twice", HEAD + 'routes: [{id: r, at: "GET /{a}/{a}", handler: {echo: true}}]\n', "2:22", "a parameter is named twice", ""),
    ("tab", HEAD + "stages:\n\t- access-log\n", "3:1", "a tab stands here where only spaces may", "indent with spaces"),
    ("unquoted brace in a path", HEAD + "routes:\n  - {id: r, at: GET /berths/{berth}, handler: {echo: true}}\n", "3:", "a brace stands unquoted", "put the value into quotes"),
    ("unquoted placeholder", HEAD + "routes:\n  - {id: r, at: GET /, handler: {answer: {text: ${query.a}}}}\n", "3:", "a placeholder stands unquoted", "put the value into quotes"),
    ("no YAML", HEAD + "stages: [access-log\n", "3:1", "a list that begins with [ has no end", "close it with ]"),
    ("a list", "- a\n", "1:1", "a pipeline must be a mapping", "start with patient-usher: pipeline/1"),
    ("empty", "", "1:1", "the file is empty", "write something into it"),
    ("duration", stage("{id: c, kind: maintenance, retry-after: 15 minutes}"), "3:45", "'15 minutes' is no duration", "250ms or 15m"),
    ("size", stage("{id: b, kind: read-body, max-size: 2kb}"), "3:40", "'2kb' is no size", "2KiB"),
    ("status", stage("{id: c, kind: maintenance, status: 99}"), "3:40", "99 is no final status", "200 to 599"),
    ("only", stage("{id: c, kind: maintenance, only: [a/b]}"), "3:39", "must start with /", ""),
    ("only with half a star", stage("{id: c, kind: maintenance, only: [/a*]}"), "3:39", "a star must be a whole segment", "* for any one"),
    ("placeholder", HEAD + 'routes: [{id: r, at: GET /, handler: {answer: {text: "${qery.a}"}}}]\n', "2:54", "there is no value 'qery.a'", "query.NAME"),
    ("two handlers", HEAD + "routes: [{id: r, at: GET /, handler: {echo: true, answer: {}}}]\n", "2:38", "the handler has answer and echo at once", "give one of"),
    ("no handler", HEAD + "routes: [{id: r, at: GET /, handler: {}}]\n", "2:38", "the handler is empty", "give one of"),
    ("two bodies", HEAD + "routes: [{id: r, at: GET /, handler: {answer: {text: a, json: b}}}]\n", "2:47", "the answer's content has json and text at once", "give one"),
    ("access", HEAD + "routes: [{id: r, at: GET /, access: {rule: x}, handler: {echo: true}}]\n", "2:37", "access knows no 'rule'", "did you mean 'role'?"),
    ("gate without cases", stage("{id: g, kind: decide}"), "3:5", "the stage has no cases", "give cases"),
    ("then twice", stage("{id: g, kind: decide, cases: [{then: {answer: {}, raise: X}}]}"), "3:42", "then has answer and raise at once", "give one"),
    ("when", stage('{id: g, kind: decide, cases: [{when: {header: {x: {pattern: "("}}}}]}'), "3:55", "is no regular expression", ""),
    ("when: unknown", stage("{id: g, kind: decide, cases: [{when: {metod: GET}}]}"), "3:43", "unknown key 'metod'", "did you mean 'method'?"),
    ("header-fields for nothing", stage("{id: h, kind: header-fields}"), "3:5", "the stage does nothing", "on-request"),
    ("environment", HEAD + "environment: dev\nenvironments: {development: {}}\n", "2:14", "there is no environment 'dev'", "development"),
    ("overlay of a stage that isn't there", stage("access-log") + "environments: {production: {stages: {acces-log: {level: debug}}}}\nenvironment: production\n", "5:38", "there is no stage 'acces-log' to change", "did you mean 'access-log'?"),
    ("HS256 without secret", HEAD + "signing-keys: {k: {algorithm: HS256, public: x}}\n", "2:19", "an HS256 key is a secret", "secret: TEXT"),
    ("PEM that is none", HEAD + "signing-keys: {k: {algorithm: RS256, public: x}}\n", "2:19", "the key 'k' can't be used", "PEM"),
    ("same key for two", HEAD + "accounts: {a: {api-keys: x}, b: {api-keys: x}}\n", "2:44", "b and a have the same key", "keys of its own"),
    ("desk without keys", HEAD + "groups: [{id: g, desk: {at: /session}}]\n", "2:24", "the desk gives tokens but names no keys", "add keys: NAME"),
    ("routes marker missing", HEAD + "flow: sequential\nstages: [access-log]\n" + ROUTE, "3:9", "a sequential flow has no routes marker", "put - routes once"),
    ("routes marker doubled", HEAD + "flow: sequential\nstages: [routes, routes]\n" + ROUTE, "3:9", "the routes marker stands here 2 times", "put - routes once"),
    ("routes marker in nested flow", HEAD + "stages: [routes]\n" + ROUTE, "2:9", "a routes marker stands where none belongs", "sequential flow"),
    ("innermost-first in sequential flow", HEAD + "flow: sequential\nlisted: innermost-first\nstages: [routes]\n" + ROUTE, "3:9", "listed belongs to the nested flow", "leave it out"),
    ("records from a file that isn't there", HEAD + "records: {b: {from: berths.csv}}\n", "2:21", "the file berths.csv can't be read", "check the path"),
    ("records from elsewhere", HEAD + "records: {b: {from: ../berths.csv}}\n", "2:21", "lies outside the folder", "--trust files"),
    ("ragged rows", HEAD + "records: {b: {from: ragged.csv}}\n", "2:21", "ragged.csv:3 has 3 cells, its head 2", "the same number"),
    ("rows without the key", HEAD + "records: {b: {rows: [{id: 1}, {name: x}]}}\n", "2:21", "row 2 has no 'id', the key", "add it"),
    ("ids without a number", HEAD + "records: {b: {ids: b}}\n", "2:14", "gives every record the same id", "put {n}"),
    ("input that is no schema", HEAD + "routes: [{id: r, at: POST /, input: {json: {type: objekt}}, handler: {echo: true}}]\n", "2:51", "this is no JSON Schema", ""),
    ("environment variable", HEAD + 'name: "${env:NO_SUCH_NAME}"\n', "2:7", "the environment has no variable NO_SUCH_NAME", "|fallback"),
    ("python without leave", stage('{id: p, kind: python, call: "os:system"}'), "3:5", "would run Python code", "--trust python"),
    ("anchor that isn't there", HEAD + "name: *x\n", "2:7", "", ""),
    ("tag", HEAD + "name: !!python/object:os.system x\n", "2:7", "is not read here", "leave it out"),
    ("two documents", HEAD + "---\nname: x\n", "2:1", "a second document begins here", "file of its own"),
    ("alias bomb", "a: &a [x,x,x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e,*e,*e]\ng: [*f,*f,*f,*f,*f,*f]\n", "7:", "with its aliases the file holds over", "fewer aliases"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "text", "where", "what", "mend"), PIPELINES, ids=[row[0] for row in PIPELINES])
def test_pipelines(usher: Usher, name: str, text: str, where: str, what: str, mend: str) -> None:
    done = usher("show", "p.yaml", p__yaml=text, ragged__csv="id,a\n1,2\n1,2,3\n")
    assert (done.status, done.out) == (2, ""), done.err
    assert f"p.yaml:{where}" in done.err
    assert what in done.err
    assert mend in done.err
    assert "Traceback" not in done.err


def trace(*requests: str, head: str = "") -> str:
    return "patient-usher: trace/1\n" + head + "requests:\n" + "".join(f"  - {request}\n" for request in requests)


TRACES: list[tuple[str, str, str, str, str]] = [
    ("unknown key", trace("{id: a, send: GET /, expct: {}}"), "3:26", "unknown key 'expct'", "did you mean 'expect'?"),
    ("unknown expectation", trace("{id: a, send: GET /, expect: {statsu: 200}}"), "3:35", "unknown key 'statsu'", "did you mean 'status'?"),
    ("no method", trace("{id: a, send: /tides}"), "3:19", "says no method and path", "GET /tides?day=2"),
    ("white space in the path", trace("{id: a, send: GET /a b}"), "3:19", "holds white space", "%20"),
    ("bad URL", trace('{id: a, send: "GET ftp://x.example/"}'), "3:19", "a URL starts with http:// or https://", ""),
    *((f"{key} of a script", trace(f"{{id: a, send: GET /, {key}: {value}}}"), "3:26", f"{key} is a browser's", "name a caller of kind browser") for key, value in (("credentials", "include"), ("mode", "no-cors"), ("redirect", "manual"), ("cache", "reload"), ("origin", "https://a.example"))),
    ("duplicate id", trace("{id: a, send: GET /}", "{id: a, send: GET /}"), "4:10", "the id 'a' is taken", "an id of its own"),
    ("caller", trace("{id: a, send: GET /, caller: bouy}", head="callers: {buoy: {}}\n"), "4:34", "there is no caller 'bouy'", "did you mean 'buoy'?"),
    ("account", trace("{id: a, send: GET /, sign: {bearer: marin}}"), "3:41", "the pipeline has no account 'marin'", "did you mean 'maren'?"),
    ("account without a password", trace("{id: a, send: GET /, sign: {basic: maren}}"), "3:32", "the account 'maren' has no password", "add one"),
    ("key", trace("{id: a, send: GET /, sign: {bearer: maren, keys: mane}}"), "3:54", "the pipeline has no signing key 'mane'", "did you mean 'main'?"),
    ("stage", trace("{id: a, send: GET /, expect: {order: [who, mary]}}"), "3:42", "the pipeline has no stage 'mary'", ""),
    ("refuser", trace("{id: a, send: GET /, expect: {refused-by: woh}}"), "3:47", "the pipeline has no stage 'woh'", "did you mean 'who'?"),
    ("route", trace("{id: a, send: GET /, expect: {route: tide}}"), "3:42", "the pipeline has no route 'tide'", "did you mean 'tides'?"),
    ("environment", trace("{id: a, send: GET /, expect-in: {develop: {status: 200}}}"), "3:38", "the pipeline has no environment 'develop'", "did you mean 'development'?"),
    ("tally of one", trace("{id: a, send: GET /, expect: {tally: {200: 1}}}"), "3:42", "a tally needs repetitions", "times: N"),
    ("tally", trace("{id: a, send: GET /, times: 2, expect: {tally: {200: x}}}"), "3:52", "is no number of answers", ""),
    ("status", trace("{id: a, send: GET /, expect: {status: 2x}}"), "3:43", "'2x' is no status", "404, a class such as 4xx"),
    ("two credentials", trace("{id: a, send: GET /, sign: {bearer: maren}, bearer: x}"), "3:5", "sign and bearer at once", "one credential"),
    ("at and after", trace("{id: a, send: GET /, at: 1s, after: 1s}"), "3:5", "at and after at once", ""),
    ("every without times", trace("{id: a, send: GET /, every: 1s}"), "3:5", "every needs times", "times: 40"),
    ("two bodies", trace("{id: a, send: POST /, json: {}, text: x}"), "3:5", "the request's body has json and text at once", ""),
    ("keep", trace("{id: a, send: GET /, keep: {t: token}}"), "3:36", "says not what to keep", "/token"),
    ("starts", trace("{id: a, send: GET /}", head="starts: soon\n"), "2:9", "'soon' is no instant", "2031-05-01T08:00:00Z"),
    ("base", trace("{id: a, send: GET /}", head="base: https://x.example/v1\n"), "2:7", "must be scheme and host alone", ""),
    ("browser from nowhere", trace("{id: a, send: GET /}", head="callers: {b: {kind: browser}}\n"), "2:", "a browser has no origin", "add origin: https://host"),
    ("browser with a script's jar", trace("{id: a, send: GET /}", head="callers: {b: {kind: browser, origin: 'https://a.example', cookies: keep}}\n"), "2:", "a browser keeps cookies and follows redirects by itself", "leave cookies and redirects out"),
    ("script with an origin", trace("{id: a, send: GET /}", head="callers: {b: {origin: 'https://a.example'}}\n"), "2:", "an origin belongs to a browser", "add kind: browser"),
    ("script with third parties", trace("{id: a, send: GET /}", head="callers: {b: {third-party-cookies: blocked}}\n"), "2:", "third-party-cookies belongs to a browser", "add kind: browser"),
    ("script with unmarked cookies", trace("{id: a, send: GET /}", head="callers: {b: {unmarked-cookies: sent}}\n"), "2:", "unmarked-cookies belongs to a browser", "add kind: browser"),
    ("address", trace("{id: a, send: GET /}", head="callers: {b: {address: 300.1.1.1}}\n"), "2:24", "is no IP address", "192.0.2.7"),
    ("change", trace("{change: {stages: {nope: {enabled: true}}}}"), "3:14", "there is no stage 'nope' to change", ""),
    ("change of an option", trace("{change: {stages: {who: {realm: 3}}}}"), "3:14", "'realm' must be text", ""),
    ("placeholder", trace('{id: a, send: "GET /${kep.x}"}'), "3:19", "there is no value 'kep.x'", "kept.NAME"),
    ("a file", trace("{id: a, send: POST /, file: /etc/hostname}"), "3:33", "lies outside the folder", "--trust files"),
    ("HAR entry without a request", json.dumps({"log": {"entries": [{"response": {}}]}}), "1:22", "the entry has no request", "HAR 1.2"),
    ("HAR entry of another shape", json.dumps({"log": {"entries": [7]}}), "1:22", "isn't shaped as HAR 1.2 says", ""),
    ("HAR without requests", json.dumps({"log": {"entries": []}}), "1:", "the recording has no request that could be replayed", ""),
    ("JSON cut short", '{"patient-usher": "trace/1", "requests": [', "1:", "the file ends in the middle of something", "close what is still open"),
    ("JSON in lines, the first missing", '{"id": "a", "send": "GET /"}\n{"id": "b", "send": "GET /"}\n', "1:1", "no line says what these lines of JSON are", 'begin with one that does: {"patient-usher": "trace/1"}'),
    ("a log in lines of JSON", '{"a": 1}\n{"a": 2}\n', "1:1", "this looks like a log in lines of JSON", "usher import t.yaml --into trace.jsonl"),
    ("JSON with a place", '{"patient-usher": "trace/1",\n "requests": [{"id": "a", "sned": "GET /"}]}', "2:27", "unknown key 'sned'", "did you mean 'send'?"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "text", "where", "what", "mend"), TRACES, ids=[row[0] for row in TRACES])
def test_traces(usher: Usher, name: str, text: str, where: str, what: str, mend: str) -> None:
    done = usher("replay", str(DEMO / "harbour.yaml"), "t.yaml", t__yaml=text)
    assert (done.status, done.out) == (2, ""), done.err
    assert f"t.yaml:{where}" in done.err
    assert what in done.err
    assert mend in done.err
    assert "Traceback" not in done.err


def test_all_mistakes_are_reported_at_once(usher: Usher) -> None:
    pipeline = (
        HEAD
        + "stages:\n  - {id: a, kind: maintenance, retry-after: soon}\n  - nope\nroutes: [{id: r, at: x}]\nerrs: {}\n"
    )
    done = usher("replay", "p.yaml", "t.yaml", p__yaml=pipeline, t__yaml="")
    lines = done.err.splitlines()
    assert [line.split(": ")[0] for line in lines] == [
        "p.yaml:3:45",
        "p.yaml:4:5",
        "p.yaml:5:10",
        "p.yaml:5:22",
        "p.yaml:6:1",
    ]


OCTETS: list[tuple[str, bytes, str]] = [
    ("not UTF-8", b"patient-usher: pipeline/1\nname: \xff\n", "p.yaml:2:7: this is no UTF-8 text"),
    ("a control character", b"patient-usher: pipeline/1\nname: a\x00b\n", "p.yaml:2:8"),
    ("100 MB of nesting", b"[", "nested more than 60 deep"),
    ("100 MB of nested mappings", b'{"a":', "nested more than 60 deep"),
    ("JSON nested without end", b'{"a":' * 5000 + b"1" + b"}" * 5000, "nested more than 60 deep"),
]


@pytest.mark.parametrize(("name", "raw", "what"), OCTETS, ids=[row[0] for row in OCTETS])
def test_files_that_are_no_text(usher: Usher, name: str, raw: bytes, what: str) -> None:
    if name.startswith("100 MB"):  # made when it is needed: tests are collected in every process
        raw *= (100 << 20) // len(raw)
    done = usher("show", "p.yaml", p__yaml=raw)
    assert (done.status, done.out) == (2, "")
    assert what in done.err
    assert "Traceback" not in done.err


def test_a_folder_is_no_file(usher: Usher) -> None:
    done = usher("show", ".")
    assert (done.status, "this is a folder" in done.err) == (2, True)


# Variants.

BASE = HEAD + "stages: [access-log, {id: m, kind: header-fields, on-answer: {drop: x}}]\n" + ROUTE
VARIANTS: list[tuple[str, str, str, str]] = [
    ("order with an unknown stage", "order: [m, acces-log]", "v.yaml:3:12", "order names 'acces-log', which is no server-wide stage; did you mean 'access-log'?"),
    ("order that leaves one out", "order: [m]", "v.yaml:3:8", "order leaves out 'access-log'"),
    ("order that names one twice", "order: [m, m, access-log]", "v.yaml:3:12", "order names 'm' twice"),
    ("order with routes in nested flow", "order: [m, routes, access-log]", "v.yaml:3:12", "the routes marker stands in sequential flow only"),
    ("order without routes in sequential flow", "flow: sequential\norder: [m, access-log]", "v.yaml:4:8", "order leaves out 'routes'"),
    ("itself", "", "v.yaml:2:7", ""),
    ("an overlay of what isn't there", "stages: {x: {enabled: false}}", "v.yaml:3:10", "there is no stage 'x' to change"),
    ("an unknown part", "stags: {}", "v.yaml:3:1", "a variant can't change 'stags'; did you mean 'stages'?"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "text", "where", "what"), VARIANTS, ids=[row[0] for row in VARIANTS])
def test_variants(usher: Usher, name: str, text: str, where: str, what: str) -> None:
    like = "v.yaml" if name == "itself" else "p.yaml"
    done = usher("show", "v.yaml", p__yaml=BASE, v__yaml=f"{HEAD}like: {like}\n{text}\n")
    assert done.status == 2
    assert where in done.err
    assert what in done.err


def test_json_is_told_as_yaml_is(tmp_path: Path) -> None:
    """The same is wrong with it, in the same file."""
    (tmp_path / "p.yaml").write_text(BASE)
    (tmp_path / "ragged.csv").write_text("id,a\n1,2\n1,2,3\n")
    likes = [f"{HEAD}like: {like}.yaml\n" for like in ("nobody", "../p", "n" * 300)]
    variants = [f"{HEAD}like: p.yaml\n{text}\n" for _, text, _, _ in VARIANTS if text]
    told = 0
    for text in (*(row[1] for row in PIPELINES), *likes, *variants):
        if ": &" in text:
            continue  # JSON has no anchors
        try:
            document = json.dumps(YAML(typ="safe", pure=True).load(text), indent=1)
        except YAMLError:
            continue
        if document == "null":
            continue  # an empty file: JSON has none
        yaml, as_json = (_problems(tmp_path / name, said) for name, said in (("v.yaml", text), ("v.json", document)))
        assert [one[1:] for one in yaml] == [one[1:] for one in as_json], text
        assert {spot.file.replace("v.json", "v.yaml") for spot, *_ in as_json} == {spot.file for spot, *_ in yaml}
        told += bool(yaml)
    assert told > 80


def _problems(path: Path, text: str) -> list[tuple[Spot, str, str]]:
    path.write_text(text)
    try:
        load_pipeline(path)
    except Unusable as error:
        return [(problem.spot, problem.what, problem.mend) for problem in error.problems]
    return []


def test_a_variant_of_a_variant(usher: Usher) -> None:
    files: dict[str, Any] = {
        "p__yaml": BASE,
        "v__yaml": HEAD + "like: p.yaml\norder: [m, access-log]\n",
        "w__yaml": HEAD + "like: v.yaml\nname: W\nstages: {access-log: {enabled: false}}\n",
    }
    done = usher("show", "w.yaml", "GET", "/", **files)
    assert done.status == 0
    assert done.out.index("m  ") < done.out.index("access-log")
    assert "switched off" in done.out


def test_a_role_that_no_account_has_is_a_warning(usher: Usher) -> None:
    pipeline = (
        HEAD
        + "accounts: {a: {roles: [skipper]}}\nroutes: [{id: r, at: GET /, access: {role: skiper}, handler: {echo: true}}]\n"
    )
    done = usher("send", "p.yaml", "GET", "/", p__yaml=pipeline)
    assert done.status == 0
    assert "p.yaml:3:44: warning: no account has the role 'skiper'; did you mean 'skipper'?" in done.err
