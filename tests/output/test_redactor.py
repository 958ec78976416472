"""One door: no value of the environment and no declared credential comes out, of any command, in any spelling."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Callable, Iterator
from html import escape, unescape
from pathlib import Path
from urllib.parse import quote, unquote_plus

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Outcome, make_pipeline
from patient_usher.core.engine.compile.credentials import places_of
from patient_usher.core.http.secrets import Places, shortened
from patient_usher.output.redactor import Redactor, printable
from test_pytest_plugin import project

Usher = Callable[..., Outcome]

PASSWORD = 'h4rbour"gate\\<mole&"é-0001'
KEY = "made-up-key-0123456789-of-maren"
DECLARED = "declared-in-the-file-9876543210"
SECRETS = (PASSWORD, KEY, DECLARED)
ENV = {"MAREN_PASSWORD": PASSWORD, "MAREN_KEY": KEY}

PIPELINE = """
patient-usher: pipeline/1
name: Harbour of ${env:MAREN_PASSWORD|nobody}
refuse: raise
stages:
  - access-log
  - {id: pages, kind: cors, allow-origins: ["https://boaters.example"], allow-headers: [x-harbour-key, content-type]}
  - {id: net, kind: error-handler, reveal: everything}
  - read-body
  - {id: fair, kind: rate-limit, quota: 2, window: 10s, per: [header.X-Harbour-Key]}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key, name: X-Harbour-Key}, {scheme: bearer, keys: main}]}
  - {id: marks, kind: header-fields, on-answer: {put: {X-Told: "${env:MAREN_PASSWORD|nobody}"}}}
groups:
  - id: v1
    prefix: /v1
    desk: {at: /session, gives: token, keys: main}
    routes:
      - {id: echo, at: POST /echo, access: signed-in, handler: {echo: true}}
      - {id: told, at: GET /told, access: everyone, handler: {answer: {json: {is: "${env:MAREN_PASSWORD|nobody}", deep: ["<${env:MAREN_KEY|k}>"]}}}}
      - {id: boom, at: GET /boom, access: everyone, handler: {raise: {type: Oops, message: "of ${env:MAREN_PASSWORD|nobody}"}}}
      - {id: bits, at: GET /bits, access: everyone, handler: {answer: {file: bits.bin}}}
accounts:
  maren: {password: "${env:MAREN_PASSWORD|nobody}", api-keys: ["${env:MAREN_KEY|k}", "declared-in-the-file-9876543210"]}
signing-keys: {main: {algorithm: HS256, secret: "made-up-secret-for-the-demo-only-0000"}}
always:
  - {id: quiet, when: {path: /v1/told}, expect: {body: {lacks: "${env:MAREN_PASSWORD|nobody}"}}}
"""
TRACE = """
patient-usher: trace/1
callers: {page: {kind: browser, origin: "https://boaters.example"}}
requests:
  - {id: in, send: POST /v1/session, json: {name: maren, password: "${env:MAREN_PASSWORD|nobody}"}, expect: {status: 200}}
  - {id: key, send: POST /v1/echo, sign: {api-key: maren}, json: {password: "${env:MAREN_PASSWORD|nobody}", more: "${env:MAREN_KEY|k}"}}
  - {id: own, send: POST /v1/echo, headers: {X-Harbour-Key: declared-in-the-file-9876543210}, text: "${env:MAREN_PASSWORD|nobody}"}
  - {id: page, caller: page, send: POST /v1/echo, headers: {X-Harbour-Key: declared-in-the-file-9876543210}, json: {a: 1}}
  - {id: many, send: POST /v1/echo, times: 4, sign: {api-key: maren}, json: {}}
  - {id: query, send: "GET /v1/told?token=${env:MAREN_KEY|k}&x=${env:MAREN_KEY|k}", expect: {status: 404, body: {contains: "${env:MAREN_KEY|k}"}}}
  - {id: boom, send: GET /v1/boom, expect: {status: 200}}
  - {id: bits, send: GET /v1/bits}
"""
BULK = [
    {"patient-usher": "trace/1"},
    *({"id": f"k{n}", "at": f"{n}s", "send": "GET /v1/told", "headers": {"X-Harbour-Key": DECLARED}} for n in range(5)),
]
TRUST = ("--trust", "env:MAREN_PASSWORD", "--trust", "env:MAREN_KEY")
REPORTS = [part for form in ("junit", "md", "html", "json", "svg") for part in ("--report", f"{form}=out.{form}")]
P, T, B = "p.yaml", "t.yaml", "b.jsonl"
COMMANDS: list[tuple[str, ...]] = [
    ("show", P), ("show", P, "GET", "/v1/told"),
    ("send", P, "POST", "/v1/session", "--body", 'json:{"name": "maren", "password": "x"}', *REPORTS),
    ("send", P, "GET", "/v1/told", "--sign", "api-key:maren", "--format", "json"),
    ("send", P, "POST", "/v1/echo", "-H", f"X-Harbour-Key: {DECLARED}", "--body", "text:a", "--append", "kept.yaml"),
    ("replay", P, T, *TRUST), ("replay", P, T, *TRUST, "--details"), ("replay", P, T, *TRUST, "-q"),
    ("replay", P, T, *TRUST, "--format", "json"), ("replay", P, T, *TRUST, "--format", "jsonl"),
    ("replay", P, T, *TRUST, "--strict", *REPORTS), ("replay", P, T, *TRUST, "--coverage", "--append", "more.yaml"),
    ("replay", P, T, *TRUST, "--coverage", "--format", "json"), ("replay", P, T, *TRUST, "--unnoticed"), ("replay", P, B), ("replay", P, B, "--details"),
    *(("replay", P, T, *TRUST, "--into", f"rows{suffix}") for suffix in (".csv", ".jsonl", ".parquet")),
    ("accept", P, T, *TRUST, "--dry-run"), ("accept", P, "c.yaml", "--with-slips", *TRUST),
    ("check", P), ("check", P, T, *TRUST), ("check", P, "--format", "json"), ("check", P, "--format", "sarif"),
    ("check", P, "--mend", "all", "--into", "mended.yaml"),
    ("compare", P, "q.yaml", T, *TRUST), ("compare", P, "q.yaml", T, *TRUST, "--details", *REPORTS),
    ("compare", P, P, T, *TRUST, "--b-set", f"marks.on-answer={PASSWORD}"),
    *(("compare", P, "q.yaml", T, *TRUST, "--format", form) for form in ("json", "md")),
    ("reorder", P, "s.yaml", *TRUST), ("reorder", P, "s.yaml", *TRUST, "--format", "json"),
    ("reorder", P, "--tell-apart", "--budget", "40", "--into", "apart.yaml"), ("reorder", P, "--tell-apart", "--budget", "40", "--format", "json"),
    ("explore", P, "--budget", "300", "--into", "cases.yaml"), ("explore", P, "--budget", "300", "--format", "json"),
    *(("sweep", P, T, *TRUST, "--try", "fair.quota=1,9", "--format", form) for form in ("text", "json", "csv")),
    ("chart", P, B, "--format", "csv"), ("chart", P, B, "--picture", "c.svg"),
    ("replay", "wrong.yaml", T, *TRUST), ("replay", P, "wrong-t.yaml", *TRUST),
]  # fmt: skip


def spelled(secret: str) -> Iterator[str]:
    """A secret as formats write it."""
    for text in (secret, json.dumps(secret)[1:-1], json.dumps(secret, ensure_ascii=False)[1:-1]):
        yield from (text, escape(text), escape(text, quote=False), quote(text, safe=""), repr(text)[1:-1])
        yield "".join(f"\\{char}" if char in "\\`*_[]|#~" else char for char in escape(text, quote=False))
        yield base64.b64encode(text.encode()).decode().rstrip("=")


def leaks(text: str) -> list[str]:
    """Secrets that stand in a text, as they are or as a format writes them, whole or broken over lines."""
    forms = [text, unescape(text), unquote_plus(text), text.replace("\n", ""), " ".join(text.split())]
    return [secret for secret in SECRETS for part in spelled(secret) if any(part in form for form in forms)]


@pytest.fixture
def harbour(usher: Usher, tmp_path: Path) -> Callable[..., Outcome]:
    """The command, with files that hold secrets already in its folder."""
    files = {
        "p.yaml": PIPELINE, "q.yaml": "like: p.yaml\nstages: {fair: {quota: 9}, net: {reveal: nothing}}\n", "t.yaml": TRACE, "c.yaml": TRACE,
        "b.jsonl": "".join(json.dumps(row) + "\n" for row in BULK),
        "wrong.yaml": PIPELINE.replace("window: 10s", 'window: "${env:MAREN_PASSWORD|x}"'),
        "s.yaml": re.sub(r", expect: .*\}\n", "}\n", TRACE),  # nothing to search an order for
        "wrong-t.yaml": TRACE.replace("sign: {api-key: maren}", 'sign: {api-key: "${env:MAREN_KEY|x}"}'),
    }  # fmt: skip
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    (tmp_path / "bits.bin").write_bytes(b"\xff\x00" + PASSWORD.encode() + b"\xfe")
    given_ = {*files, "bits.bin"}

    def run(*arguments: str) -> Outcome:
        done = usher(*arguments, env=ENV)
        written = {
            path.name: path.read_bytes().decode("latin-1") for path in tmp_path.iterdir() if path.name not in given_
        }
        said = {"standard output": done.out, "standard error": done.err, **written}
        found = {name: leaks(text) for name, text in said.items() if leaks(text)}
        # What a trace or a command line says in clear may be written where it stood: nothing is added to it.
        assert not found, (arguments, found)
        return done

    return run


@pytest.mark.parametrize("arguments", COMMANDS, ids=" ".join)
def test_nothing_secret_comes_out(harbour: Callable[..., Outcome], arguments: tuple[str, ...]) -> None:
    assert harbour(*arguments).status in (0, 1, 2)


def test_a_result_that_was_saved_is_safe_to_hand_on(harbour: Callable[..., Outcome], tmp_path: Path) -> None:
    (tmp_path / "saved.json").write_text(harbour("replay", P, T, *TRUST, "--format", "json").out)
    for name in ("out.har", "out.csv", "out.jsonl", "out.parquet"):
        assert harbour("export", "saved.json", "--into", name).status == 0
    assert harbour("compare", "saved.json", "saved.json", "--format", "json").status == 0
    assert harbour("chart", "saved.json", "--format", "csv").status == 0


def test_the_plugin_tells_nothing_either(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name, value in ENV.items():
        monkeypatch.setenv(name, value)
    (tmp_path / "bits.bin").write_bytes(b"x")
    status, said = project(tmp_path, "    p.yaml t.yaml\nusher_strict = true\n", "-vv", p=PIPELINE, t=TRACE)
    assert status == 1
    assert "breaks the invariant quiet" in said or "not as expected" in said or "expected 200" in said
    assert not leaks(said)


SECRET = st.text(st.characters(codec="utf-8", exclude_characters="\n\r"), min_size=6, max_size=30)


@given(SECRET, st.sampled_from(["{}", "a {} b", '{{"k": "{}"}}', "<i>{}</i>"]))
@settings(max_examples=200, deadline=None)
def test_a_known_value_is_found_in_every_spelling(secret: str, around: str) -> None:
    redactor = Redactor()
    redactor.watch({secret: "${env:NAME}"})
    for part in (secret, json.dumps(secret)[1:-1], escape(secret), quote(secret, safe="")):
        assert "${env:NAME}" in redactor.text(around.format(part))
    assert redactor.redacted({"a": [secret, (secret,)], secret: 1}) == {
        "a": ["${env:NAME}", ("${env:NAME}",)], "${env:NAME}": 1
    }  # fmt: skip


PLACES = Places(fields=["X-Harbour-Key"], parameters=["berth-code"])
MESSAGES = [
    ("field", "X-Harbour-Key", "abcdefghijklmnop", "abcd…(16)"), ("field", "authorization", "Bearer abcdefghijklmnop", "Bearer abcd…(16)"),
    ("field", "Accept", "text/html", "text/html"), ("field", "Cookie", "sid=abcdefghijklmnop; a=b", "sid=abcd…(16); a=…(1)"),
    ("field", "Location", "/next?token=abcdefghijklmnop", "/next?token=abcd…(16)"), ("url", "", "/x?berth-code=abcdefghijklmnop&day=2", "/x?berth-code=abcd…(16)&day=2"),
    ("url", "", "/x?day=2", "/x?day=2"), ("body", "", '{"password": "abc\\"def", "a": 1}', '{"password": "…(8)", "a": 1}'), ("body", "", '{"pin": 1, "token": 123456}', '{"pin": 1, "token": "…(6)"}'),
    ("body", "", '{"X-Harbour-Key": "abcdefghijklmnop"}', '{"X-Harbour-Key": "abcd…(16)"}'), ("body", "", "a=1&password=secret", "a=1&password=…(6)"), ("body", "", "plain", "plain"),
]  # fmt: skip


@pytest.mark.parametrize(("part", "name", "text", "told"), MESSAGES)
def test_credentials_are_known_by_where_they_stand(part: str, name: str, text: str, told: str) -> None:
    shorten = {
        "field": lambda value: PLACES.shortened_field(name, value),
        "url": PLACES.shortened_url,
        "body": PLACES.shortened_body,
    }
    assert shorten[part](text) == told


def test_a_warning_names_no_secret_that_stands_elsewhere(usher: Callable[..., Outcome]) -> None:
    pipeline = """patient-usher: pipeline/1
stages: [{id: who, kind: authenticate, schemes: [{scheme: basic}]}, {id: may, kind: authorize}]
accounts: {maren: {roles: [made-up-berth-word], password: made-up-berth-word}}
routes: [{id: r, at: GET /, access: {role: made-up-berth-wort}, handler: {answer: {text: ok}}}]
"""
    trace = "patient-usher: trace/1\nbase: https://a.example\nrequests: [{id: a, send: GET /}]\n"
    done = usher("replay", "p.yaml", "t.yaml", p__yaml=pipeline, t__yaml=trace)
    assert ("warning: no account has the role" in done.err, "made-up-berth-word" in done.err + done.out) == (
        True,
        False,
    )


def test_whom_a_limit_counts_is_shortened_where_it_is_a_credential() -> None:
    limits = {"address": "address", "key": "header.x-api-key", "code": "query.berth-code", "plan": "header.x-plan"}
    schemes = [{"scheme": "api-key"}, {"scheme": "api-key", "in": "query", "name": "berth-code"}]
    stages = [
        {"id": "who", "kind": "authenticate", "schemes": schemes},
        *({"id": id_, "kind": "rate-limit", "quota": 2, "window": "1m", "per": [per]} for id_, per in limits.items()),
    ]
    assert places_of(make_pipeline(stages).compiled).limits == {"key", "code"}


def test_what_is_short_shows_nothing_of_itself() -> None:
    assert (shortened("abcdefghijkl"), shortened("abcdefghijklm")) == ("…(12)", "abcd…(13)")


CONTROLS = [
    ("a\x1b[2Jb", "a\\x1b[2Jb"),
    ("a\u202eb", "a\\u202eb"),
    ("a\u2066b", "a\\u2066b"),
    ("a\nb", "a\\nb"),
    ("plain é", "plain é"),
]


@pytest.mark.parametrize(("text", "told"), CONTROLS)
def test_nothing_that_a_terminal_obeys_comes_out(text: str, told: str) -> None:
    assert printable(text) == told
