"""No credential comes out, in any form, of any command: whatever a handler repeats of what it was sent."""

from __future__ import annotations

import base64
import html
import json
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import quote, quote_plus

import pytest

from conftest import Outcome
from patient_usher import Trace, load, replay

PASSWORD, KEY, GIVEN = "planted & <password>-1", "planted-key-number-two", "planted-session-of-a-service"
SECRET = "planted-signing-secret-for-this-test"
ALL = "${header.authorization} ${header.cookie} ${header.x-api-key} ${query.access_token} ${header.x-more}"
PIPELINE = f"""patient-usher: pipeline/1
refuse: raise
stages:
  - {{id: net, kind: error-handler, reveal: everything}}
  - access-log
  - {{id: body, kind: read-body, other-media: passed-on}}
  - {{id: cookies, kind: read-cookies, signed-with: main}}
  - id: who
    kind: authenticate
    without-credential: pass-on
    wrong-credential: pass-on
    schemes: [{{scheme: bearer, keys: main}}, {{scheme: basic}}, {{scheme: api-key}}, {{scheme: session-cookie}}]
  - {{id: note, kind: decide, cases: [{{set: {{seen: "{ALL}"}}, log: {{level: info, message: "saw {ALL}"}}}}]}}
  - {{id: mark, kind: header-fields, on-answer: {{put: {{X-Seen: "{ALL}"}}}}}}
groups:
  - {{id: in, prefix: /in, desk: {{at: /session, gives: [token, cookie], keys: main, lasts: 1h}}}}
routes:
  - {{id: echo, at: POST /echo, access: everyone, handler: {{echo: true}}}}
  - {{id: text, at: GET /text, access: everyone, handler: {{answer: {{text: "you sent {ALL}", headers: {{Set-Cookie: "sid={GIVEN}"}}}}}}}}
  - {{id: fail, at: GET /fail, access: everyone, handler: {{raise: {{type: Odd, message: "failed for {ALL}"}}}}}}
accounts:
  maren: {{password: {json.dumps(PASSWORD)}, api-keys: [{KEY}]}}
errors: {{Odd: {{}}}}
signing-keys: {{main: {{algorithm: HS256, secret: {SECRET}}}}}
"""
MORE = ", headers: {X-More: '${kept.token}'}"
REQUESTS = [
    f"{{id: in, caller: jar, send: POST /in/session, json: {{name: maren, password: {json.dumps(PASSWORD)}}}, keep: {{token: /token}}}}",
    *(
        f"{{id: {path}-{number}, caller: jar, send: '{method} /{path}?access_token={KEY}'{extra}, expect: {{status: 299, body: {{contains: nothing of this}}}}}}"
        for path, method in (("echo", "POST"), ("text", "GET"), ("fail", "GET"))
        for number, extra in enumerate(
            (
                ", sign: {basic: maren}" + MORE,
                ", sign: {bearer: maren}" + MORE,
                ", sign: {api-key: maren}" + MORE,
                ", bearer: '${kept.token}'",
            )
        )
    ),
]  # fmt: skip
TRACE = "patient-usher: trace/1\nbase: https://api.example\ncallers: {jar: {cookies: keep}}\nrequests:\n"
TRACE += "".join(f"  - {request}\n" for request in REQUESTS)
Usher = Callable[..., Outcome]
COMMANDS = [
    *(f"replay p.yaml t.yaml --format {form}" for form in ("text", "json", "jsonl")),
    *(f"replay p.yaml t.yaml --report {form}=out" for form in ("html", "md", "junit", "svg")),
    "replay p.yaml t.yaml -q",
    "replay p.yaml t.yaml --only text-1",
    "replay p.yaml t.yaml --coverage",
    "replay p.yaml t.yaml --unnoticed",
    "replay p.yaml t.yaml --unnoticed --format json",
    *(f"compare p.yaml q.yaml t.yaml --format {form}" for form in ("text", "json", "md")),
    "compare p.yaml q.yaml t.yaml --report html=out",
    *(f"reorder p.yaml u.yaml --format {form}" for form in ("text", "json")),
    *(f"check p.yaml t.yaml --format {form}" for form in ("text", "json", "sarif", "annotations")),
    *(f"explore p.yaml --format {form}" for form in ("text", "json")),
    *(f"sweep p.yaml t.yaml --try net.reveal=nothing,everything --format {form}" for form in ("text", "json")),
    *(f"export r.json --into out.{form}" for form in ("har", "csv", "parquet")),
    "send p.yaml GET /text --sign basic:maren --append t.yaml",
    *(f"drift p.yaml t.yaml --app own:app --trust python --format {form}" for form in ("text", "json")),
    "drift p.yaml t.yaml --app own:app --trust python --into out.har",
    "drift p.yaml t.yaml --app own:app --trust python --report html=out",
]
SERVED = """
async def app(scope, receive, send):
    body = (await receive()).get("body", b"")
    sent = b" ".join(value for name, value in scope["headers"] if name != b"host") + b" " + body
    headers = [(b"content-type", b"text/plain"), (b"set-cookie", b"sid=planted-session-of-a-service"), (b"x-seen", sent.replace(b"\\n", b" "))]
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    await send({"type": "http.response.body", "body": b"you sent " + sent + b" " + scope["query_string"]})
"""


def forms(secret: str) -> Iterator[str]:
    """A credential as somebody may write it, long enough not to stand somewhere by chance."""
    inside = json.dumps(secret)[1:-1]
    octets = secret.encode()
    yield from (secret, inside, quote(secret, safe=""), quote_plus(secret), html.escape(secret), html.escape(inside))
    yield from (base64.b64encode(octets).decode().rstrip("="), base64.urlsafe_b64encode(octets).decode().rstrip("="))


@pytest.fixture(scope="module")
def planted(tmp_path_factory: pytest.TempPathFactory) -> set[str]:
    """Every credential of the pipeline, and every one that it mints, in every form."""
    folder = tmp_path_factory.mktemp("planted")
    (folder / "p.yaml").write_text(PIPELINE)
    (folder / "t.yaml").write_text(TRACE)
    found = {PASSWORD, KEY, SECRET, GIVEN, base64.b64encode(f"maren:{PASSWORD}".encode()).decode()}
    for sent in replay(load(folder / "p.yaml"), Trace.read(folder / "t.yaml")):
        for record in sent.exchanges:
            fields = {name.lower(): value for name, value in record.request.headers}
            found.add(fields.get("authorization", "").partition(" ")[2])
            found |= {part.partition("=")[2] for part in fields.get("cookie", "").split("; ")}
            found.add(fields.get("x-more", ""))
    assert len(found) >= 9
    return {form for secret in found if len(secret) > 9 for form in forms(secret)}


@pytest.mark.parametrize("command", COMMANDS)
def test_no_credential_comes_out(usher: Usher, planted: set[str], tmp_path: Path, command: str) -> None:
    files = {"p__yaml": PIPELINE, "q__yaml": PIPELINE.replace("you sent", "you have sent"), "t__yaml": TRACE}
    files["u__yaml"] = re.sub(r", expect: .*", "}", TRACE)  # no order would make these hold
    if "r.json" in command:
        (tmp_path / "r.json").write_text(usher("replay", "p.yaml", "t.yaml", "--format", "json", **files).out)
    found = usher(*command.split(), own__py=SERVED, **files)
    assert found.status in (0, 1), found.err
    said = found.out + found.err
    for path in tmp_path.glob("out*"):
        said += path.read_bytes().decode("latin-1")
    assert {form for form in planted if form in said} == set()
