"""Whatever a command is given that it can't use: one sentence with its place and its mend, status 2, nothing written."""

from __future__ import annotations

import re
import shutil
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from io import StringIO
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import DEMO, Outcome
from patient_usher.cli import main

Usher = Callable[..., Outcome]
P, T, LIMITS = "limits.yaml", "limits-story.yaml", "throttle.quota=1,2"
SWEEP = ("sweep", P, T, "--try")
COMPARE = ("compare", P, P, T)

ARGUMENTS = [
    (("check",), "no pipeline is named, and no file has this name; name one, or run usher init"),
    (("check", P, "--budget", "-5"), "'-5' is no count; write a whole number, 1 or more"),
    (("check", P, "--budget", "x"), "'x' is no count"),
    (("check", P, "--level", "bad"), "choose from 'error', 'warning', 'advice'"),
    (("check", P, "--explain", "stals"), "there is no finding 'stals'; did you mean 'stalls'?"),
    (("check", P, "--mend", "nope"), "nothing called 'nope' is found"),
    (("check", P, "--environment", "nope"), "there is no environment 'nope'"),
    (("check", P, "--set", "x"), "'x' sets nothing; write STAGE.OPTION=VALUE"),
    (("check", T), "this is a trace, no pipeline"),
    (("explore", P, "--budget", "0"), "'0' is no count"),
    (("explore", P, "--seed", "x"), "'x' is no whole number"),
    (("explore", P, "--into", "nowhere/t.yaml"), "there is no folder nowhere"),
    (("explore", P, "--always", "no.yaml"), "no.yaml:1:1: there is no such file"),
    (("reorder", P), "there is no trace to replay; name one, or a --wish, or --tell-apart"),
    (("reorder", P, T, "--wish", "x"), "'x' is no wish; write A<B, in quotes"),
    (("reorder", P, T, "--wish", "throtle<who"), "no stage that can move is called 'throtle'; did you mean 'throttle'?"),
    (("reorder", P, T, "--wish", "throttle<throttle"), "no stage stands before itself"),
    (("reorder", P, T, "--picture", "x.gif"), "x.gif is no picture's name; write FILE.png or FILE.svg"),
    (("reorder", P, T, "--picture", "nowhere/x.png"), "there is no folder nowhere"),
    (("reorder", P, T, "--into", P), "limits.yaml is the pipeline itself; write the variant into another file"),
    (("sweep", P, T), "the following arguments are required: --try"),
    ((*SWEEP, "x"), "'x' tries nothing; write STAGE.OPTION=A,B,C"),
    ((*SWEEP, "throttle.quota="), "tries nothing"),
    ((*SWEEP, "throtle.quota=1"), "--try: there is no stage 'throtle' to change; did you mean 'throttle'?"),
    ((*SWEEP, "throttle.quota=a"), "--try: 'quota' must be a whole number, not 'a'"),
    ((*SWEEP, "routes.nope.cost=1"), "--try: there is no route 'nope' to change"),
    ((*SWEEP, "deployment.instances=0"), "'instances' must be at least 1, not 0"),
    ((*SWEEP, "throttle.quota=1..99999999"), "try fewer values, 10,000 at most"),
    ((*SWEEP, LIMITS, "--goal", "x"), "'x' is no figure; there are requests, refused"),
    ((*SWEEP, LIMITS, "--goal", "refused >"), "refused is compared with no number"),
    ((*SWEEP, LIMITS, "--goal", "refused(address=3 > 1"), "write address=, caller=, identity= or route= and a name in them"),
    ((*SWEEP, LIMITS, "--goal", '__import__("os")'), "is no figure"),
    ((*SWEEP, LIMITS, "--picture", "x.gif"), "x.gif is no picture's name"),
    ((*SWEEP, LIMITS, "--cores", "0"), "'0' is no count"),
    (("chart", P, "--format", "csv"), "limits.yaml is no result, and there is no trace"),
    (("chart", P, T), "nothing to write is named; add --picture FILE.png, or --format csv"),
    (("chart", P, T, "--picture", "x.gif"), "x.gif is no picture's name"),
    (("chart", "odd.json", "--picture", "x.png"), "odd.json:1:1: this result isn't whole"),
    (("export", "odd.json", "--into", "x.gif"), "this result isn't whole"),
    (("export", "none.json", "--into", "x.har"), "none.json:1:1: this is no result; save what replay --format json prints"),
    (("export", "whole.json", "--into", "x.gif"), "x.gif says nothing of its format; write FILE.har, FILE.jsonl, FILE.csv, FILE.parquet"),
    (("export", "whole.json", "--into", "x.har", "--starts", "noon"), "--starts: 'noon' is no time"),
    (("accept", P, "one.har"), "a recording is no trace to write into"),
    (("accept", P, T, "--only", "nope"), "there is no request 'nope'"),
    (("accept", P, P), "this is a pipeline, no trace"),
    (("compare", P, P), "two pipelines, and no trace to replay; name one behind them"),
    (("compare", "whole.json", "odd.json"), "this result isn't whole"),
    ((*COMPARE, "--a-environment", "nope"), "there is no environment 'nope'"),
    ((*COMPARE, "--b-set", "x"), "'x' sets nothing"),
    ((*COMPARE, "--report", "md"), "'md' names no report; write FORMAT=FILE, as in html=report.html"),
    ((*COMPARE, "--report", "html="), "'html=' names no report"),
    ((*COMPARE, "--report", "pdf=x"), "there is no report of the form 'pdf'; known here: junit, md, html, json, svg"),
    (("replay", P, T, "--report", "md=a", "--report", "html=a"), "two reports go to a; give each a file of its own"),
    (("replay", P, T, "--into", "x.gif"), "x.gif is no table's name"),
    (("replay", P, T, "--only", "nope"), "there is no request 'nope'"),
    (("replay", P, T, "--coverage-at-least", "200"), "'200' is no percentage; write 0 to 100"),
    (("replay", P, T, "--coverage", "--format", "jsonl"), "coverage belongs to text or json"),
    (("replay", P, T, "--unnoticed", "--format", "jsonl"), "--unnoticed belongs to text or json"),
    (("replay", P, T, "--append", P), "this is a pipeline, no trace"),
    (("replay", P, T, "--host", "x.example"), "--host is for recordings, and there is none here"),
    (("replay", P, "one.har", "--sign", "same:nobody"), "the pipeline has no account 'nobody'"),
    (("replay", P, T, "--watch", "--into", "x.csv"), "--watch belongs to text and to files"),
    (("replay", P, "-"), "standard input:1:1: the file is empty"),
    (("show", P, "GET"), "a method is given, but no URL; write GET /path, say"),
    (("show", P, "G T", "/x"), "'G T' is no method; write one, as in GET"),
    (("show", P, "GET", "http://["), "is no URL"),
    (("send", P, "GET", "/ x"), "holds white space or a control character; write %20, say"),
    (("send", P, "GET", "/", "-H", "bad"), "'bad' is no header field; write 'NAME: VALUE'"),
    (("send", P, "GET", "/", "--caller", "maren"), "a caller is named, but no trace that declares it"),
    (("send", P, "GET", "/", "--body", "x"), "write json:JSON"),
    (("completion", "tcsh"), "choose from 'bash', 'zsh', 'fish'"),
    (("demo", "nope"), "choose from 'story'"),
    (("demo", "--copy", P), "the folder can't be made"),
    (("init", P), "the folder can't be made"),
    (("schema", "x"), "choose from 'pipeline', 'trace', 'result'"),
    (("shwo", P), "there is no command 'shwo'"),
    (("check", P, "--budgte", "3"), "did you mean '--budget'?"),
]  # fmt: skip

FILES = {
    "odd.json": '{"patient-usher": "result/1", "exchanges": [3]}',
    "none.json": "[]",
    "whole.json": '{"patient-usher": "result/1", "pipeline": "p", "trace": "t", "environment": [], "seed": 0, "summary": {"requests": 0, "exchanges": 0, "failed": 0, "by_status": {}, "by_answerer": {}}, "always": [], "exchanges": []}',
    "one.har": '{"log": {"entries": [{"startedDateTime": "2031-05-01T08:00:00Z", "request": {"method": "GET", "url": "https://api.ternharbour.example/v1/tides", "headers": []}, "response": {"status": 200, "headers": []}}]}}',
}


@pytest.mark.parametrize(("arguments", "words"), ARGUMENTS, ids=[" ".join(row[0]) for row in ARGUMENTS])
def test_what_a_command_can_not_use(usher: Usher, tmp_path: Path, arguments: tuple[str, ...], words: str) -> None:
    for name in (P, T):
        shutil.copy(DEMO / name, tmp_path)
    for name, text in FILES.items():
        (tmp_path / name).write_text(text)
    before = {path: path.read_bytes() for path in tmp_path.iterdir()}
    outcome = usher(*arguments)
    assert (outcome.status, outcome.out) == (2, ""), outcome
    assert words in outcome.err
    assert all(
        re.match(r"usher|command line: |--[a-z-]+: |[^:]+:\d+:\d+: ", line) for line in outcome.err.splitlines()
    ), "each with its place"
    assert {path: path.read_bytes() for path in tmp_path.iterdir()} == before


COMBINED = '192.0.2.7 - - [01/May/2031:08:00:00 +0000] "GET /a HTTP/1.1" 200 5\n'
HEAD = '{"patient-usher": "trace/1"}\n'
OPENAPI = '{"openapi": "3.0.3", "paths": {"/a": {"get": %s}}}'
INCOMING = [
    ("", (), "a:1:1: the file is empty; name one with something in it"),
    ("hello\n", (), "a:1:1: its format isn't known; it begins with 'hello'"),
    ("\x00\x01\x02", (), "its format isn't known"),
    ("[1]", (), "its format isn't known"),
    ('{"a": 1,\n"b": 2}', (), "no member of it is 'log', 'openapi' or 'patient-usher'"),
    ("patient-usher: pipeline/1\n", (), "this is a pipeline already"),
    ('{"patient-usher": "result/1"}', (), "this is a result; usher export hands it on"),
    ("hello\n", ("--from", "log"), "a:1:1: none of 1 lines can be read; of the first, no request stands in it, as in \"GET /path HTTP/1.1\": hello; say what the file is with --from"),
    ('{"log": 3}', ("--from", "har"), "a:1:9: a recording has log, and in it entries, a list"),
    ('{"log": {"entries": 3}}', (), "a:1:21: a recording has log"),
    ('{"log": {"entries": [3]}}', (), "a:1:22: the entry isn't shaped as HAR 1.2 says"),
    ('{"log": {"entries": [{}]}}', (), "the entry has no"),
    ('{"log": {"entries": []}}', (), "the recording has no request that could be replayed"),
    ('swagger: "2.0"\npaths: {}\n', (), "a:1:10: OpenAPI 2.0 can't be read; give a description of OpenAPI 3.0, 3.1 or 3.2"),
    ('{"openapi": "3.0.1", "info": 3}', (), "a:1:30: 'info' must be a mapping, not 3"),
    (OPENAPI % '{"parameters": [3]}', (), "'parameters' must be a list of mappings"),
    (OPENAPI % '{"requestBody": {"content": 4}}', (), "'content' must be a mapping, not 4"),
    (OPENAPI % '{"responses": []}', (), "'responses' must be a mapping"),
    (OPENAPI % '{"responses": {"200": {"$ref": "#/nowhere"}}}', (), "a:1:77: #/nowhere names nothing in this file; put what it names into the file"),
    ('{"patient-usher": "trace/1", "requests": [3]}', (), "a:1:43: 'request' must be a mapping"),
    (OPENAPI % '{"requestBody": {"content": {"application/json": {"schema": "ty"}}}}', (), "a:1:106: this is no JSON Schema"),
    (OPENAPI % '{"requestBody": {"content": {"application/json": {"schema": {"minimum": "x"}}}}}', (), "this is no JSON Schema: 'x' is not of type 'number'"),
    (OPENAPI % '{"responses": {"200": 3}}', (), "'200' must be a mapping, not 3"),
    ('{"log": {"entries": [{"startedDateTime": "2031-05-01T08:00:00Z", "request": {"method": "GET", "url": "https://a.example/", "headers": [{"name": "a b", "value": ""}]}, "response": {"status": 200}}]}}', (), "'a b' is no header field name"),
    ("# a note\ncurl https://a.example/ \\\n -X PUT\ncurl -X 'P T' https://a.example/\n", (), "a:4:1: 'P T' is no method; write one, as in -X PUT"),
    ("curl https://a.example/ -H 'a b: c'\n", (), "a:1:1: 'a b' is no header field name"),
    ("curl 'https://a.example/\n", (), "a:1:1: the command can't be read"),
    ('{"patient-usher": "trace/1", "base": "nowhere"}\n{"send": "GET /"}\n', (), "a:1:38: 'nowhere' is no base URL"),
    (HEAD + "3\n", (), "a:2:1: this line is no request; write one a line, as a JSON object"),
    (HEAD + '{"send": 3}\n', ("--where", "{method: GET}"), "a:2:1: this line is no request"),
    (HEAD + '{"send": "GET /"}\n{"send": "GET /", "at": "x"}\n', (), "a:3:1: this line is no request"),
    ("curl -X POST\n", (), "a:1:1:"),
    (COMBINED, ("--where", "{paht: /a}"), "--where: unknown key 'paht'; did you mean 'path'?"),
    (COMBINED, ("--where", "{path: a}"), "--where:"),
    (COMBINED, ("--fields", "x=1"), "--fields: 'x=1' names no member"),
    (COMBINED, ("--sample", "3"), "'3' is no share; write more than 0 and at most 1"),
    (COMBINED, ("--first", "-1"), "'-1' is no count"),
    (COMBINED, ("--faster", "0"), "'0' is no factor; write a number from 0.000001 on"),
    (COMBINED, ("--shift", "3x"), "'3x' is no duration"),
    (COMBINED, ("--into", "nowhere/t"), "the file can't be written"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "options", "words"), INCOMING)
def test_what_can_not_be_imported(
    usher: Usher, tmp_path: Path, text: str, options: tuple[str, ...], words: str
) -> None:
    outcome = usher("import", "a", "--into", "t.yaml", *options, a=text)
    assert (outcome.status, outcome.out, words in outcome.err) == (2, "", True), outcome.err
    assert [path.name for path in tmp_path.iterdir()] == ["a"]


COMES_IN = [
    COMBINED * 3,
    "#Fields: date time c-ip cs-method cs-uri-stem sc-status\n2031-05-01 08:00:00 192.0.2.7 GET /tides 200\n",
    '{"ts": 1935648000.5, "method": "GET", "url": "/tides", "ip": "192.0.2.7", "status": 200}\n',
    "curl https://a.example/a -H 'Accept: text/plain' \\\n  -d 'a=b' -u maren:made-up\n",
    FILES["one.har"],
    OPENAPI % '{"parameters": [{"name": "q", "in": "query", "schema": {"type": "integer"}}], "responses": {"200": {"content": {"application/json": {"example": {"a": 1}}}}}}',
    HEAD + '{"id": "a", "at": "1ms", "send": "GET /a", "headers": {"A": "b"}}\n',
    "patient-usher: trace/1\nrequests: [{id: a, at: 1ms, send: GET /a, headers: {A: b}}]\n",
]  # fmt: skip
PIECES = ["{", "}", "[", "]", ":", ",", '"', "'", "null", "3", "-1", "1e999", "\n", "$ref", "${x}", "${env:HOME}", "\\", "\0", "é", "%", "&a", "*a", "- ", "!!x"]  # fmt: skip


@settings(
    max_examples=300, derandomize=True, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    st.sampled_from(COMES_IN),
    st.lists(
        st.tuples(st.integers(0, 400), st.integers(0, 30), st.sampled_from(["", *PIECES])), min_size=1, max_size=4
    ),
)
def test_whatever_comes_in_is_imported_or_told_with_its_place(
    tmp_path: Path, text: str, edits: list[tuple[int, int, str]]
) -> None:
    for at, length, piece in edits:
        text = text[:at] + piece + text[at + length :]
    (tmp_path / "in").write_text(text, errors="replace")
    out = tmp_path / "out"
    out.unlink(missing_ok=True)
    said = StringIO()
    with redirect_stderr(said), redirect_stdout(StringIO()):
        status = main(["import", str(tmp_path / "in"), "--into", str(out)])
    assert (status, out.exists()) in ((0, True), (2, False)), said.getvalue()
    assert status == 0 or all(line.startswith(f"{tmp_path / 'in'}:") for line in said.getvalue().splitlines())


LOGGED = '192.0.2.1 - - [01/May/2031:06:00:01 +0200] "GET /a HTTP/1.1" 200 5 "-" "a: b"\n'
OTHERS = [
    (("accept", str(DEMO / "harbour.yaml"), "x"), LOGGED, "this looks like an access log; usher import x --into trace.jsonl"), (("check", "x"), LOGGED, "this looks like an access log"),
    (("replay", str(DEMO / "harbour.yaml"), "x"), 'curl https://a.example -H "A: b"\n', "this looks like curl commands"), (("replay", str(DEMO / "harbour.yaml"), "x"), "#Version: 1.0\n#Fields: date\n", "the extended format of the W3C"),
    (("check", "x"), "openapi: 3.1.0\ninfo: {title: a}\n", "this is an OpenAPI description, no pipeline; usher import FILE --into pipeline.yaml"),
]  # fmt: skip


@pytest.mark.parametrize(("arguments", "text", "words"), OTHERS)
def test_a_wrong_file_names_the_command_that_fits(
    usher: Usher, arguments: tuple[str, ...], text: str, words: str
) -> None:
    done = usher(*arguments, x=text)
    assert (done.status, words in done.err, len(done.err.splitlines())) == (2, True, 1)
