"""Files that are made to cost much: each takes seconds at most, and little memory, or is refused with a sentence."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import zstandard

from conftest import USHER

SIZE = int(os.environ.get("USHER_BOUNDS", "20000"))
"""How large the files are, about; ``make fuzz`` takes nearly a megabyte."""
SECONDS, OCTETS = 5, 512 << 20
PIPELINE = "patient-usher: pipeline/1\n"
TRACE = "patient-usher: trace/1\nbase: https://api.example\nrequests:\n"
ROUTE = "routes: [{id: a, at: POST /a, access: everyone, handler: {echo: true}, input: {json: %s}}]\n"
IMPORT = ("import", "FILE", "--into", "out.yaml")
REPLAY_P = ("replay", "FILE", "t.yaml")
REPLAY_T = ("replay", "p.yaml", "FILE")


def many(part: str, size: int = SIZE) -> str:
    """So many of a part that they have the size."""
    return part * (size // len(part))


def har(entries: list[dict[str, Any]]) -> str:
    return json.dumps({"log": {"version": "1.2", "entries": entries}})


def entry(url: str = "https://api.example/a", body: str = "", headers: int = 0) -> dict[str, Any]:
    fields = [{"name": f"X-A{at}", "value": "b"} for at in range(headers)]
    request: dict[str, Any] = {"method": "POST", "url": url, "headers": fields}
    if body:
        request["postData"] = {"mimeType": "application/json", "text": body}
    return {"startedDateTime": "2031-05-01T08:00:00Z", "request": request, "response": {"status": 200, "content": {}}}


def table(columns: dict[str, list[Any]], rows: int = 1) -> bytes:
    """A table in Parquet, packed: so many rows that all have the first value of each column, which is written once."""
    import pyarrow
    from pyarrow import parquet

    same = pyarrow.array([0] * rows, pyarrow.int32())
    made = {name: pyarrow.DictionaryArray.from_arrays(same, values) for name, values in columns.items()}
    out = io.BytesIO()
    parquet.write_table(pyarrow.table(made), out, compression="zstd")
    return out.getvalue()


def described(schema: Any, **more: Any) -> str:
    media = {"application/json": {"schema": schema}}
    operation = {"requestBody": {"content": media}, "responses": {"200": {"description": "", "content": media}}}
    return json.dumps(
        {"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": {"/a": {"post": operation}}, **more}
    )


def doubled(levels: int) -> dict[str, Any]:
    return {
        f"s{at}": {
            "type": "object",
            "required": ["a", "b"],
            "properties": {key: {"$ref": f"#/components/schemas/s{at + 1}"} for key in "ab"},
        }
        for at in range(levels)
    }


NESTED: Any = {"type": "string"}
for _ in range(12):
    NESTED = {"type": "array", "minItems": 50, "items": NESTED}

LINE = '192.0.2.1 - - [10/Oct/2031:13:55:36 +0000] "GET /a HTTP/1.1" 200 1\n'
DEEP = SIZE // 4
Content = str | bytes | Callable[[], bytes]
"""What is large is made when it is asked for: tests are collected in every process."""
TRICKS: list[tuple[str, tuple[str, ...], str, Content]] = [
    ("yaml aliases", REPLAY_P, "a.yaml", "a: &a [" + many("x,", 90) + "]\n" + "".join(f"{chr(98 + n)}: &{chr(98 + n)} [{many('*' + chr(97 + n) + ',', 27)}]\n" for n in range(20))),
    ("yaml nests", REPLAY_P, "a.yaml", "[" * DEEP),
    ("yaml nests in blocks", REPLAY_P, "a.yaml", many("- ")),
    ("yaml keys", REPLAY_P, "a.yaml", PIPELINE + "".join(f"k{n}: 1\n" for n in range(SIZE // 10))),
    ("yaml text", REPLAY_P, "a.yaml", PIPELINE + "name: " + many("x ")),
    ("yaml quoted", REPLAY_P, "a.yaml", PIPELINE + 'name: "' + many("\\x41") + '"'),
    ("yaml unclosed", REPLAY_P, "a.yaml", PIPELINE + 'name: "' + many("x ")),
    ("yaml braces", REPLAY_P, "a.yaml", PIPELINE + "name: " + many("{")),
    ("yaml comments", REPLAY_P, "a.yaml", many("# \n") + PIPELINE),
    ("yaml requests", REPLAY_T, "a.yaml", TRACE + "".join(f"  - {{id: r{n}, send: GET /a}}\n" for n in range(SIZE // 30))),
    ("yaml stages", REPLAY_P, "a.yaml", PIPELINE + "stages:\n" + "".join(f"  - {{id: s{n}, kind: access-log}}\n" for n in range(SIZE // 35))),
    ("yaml routes", REPLAY_P, "a.yaml", PIPELINE + "routes:\n" + "".join(f"  - {{id: r{n}, at: GET /r{n}, handler: {{echo: true}}}}\n" for n in range(SIZE // 50))),
    ("same-as", REPLAY_P, "a.yaml", PIPELINE + "stages:\n  - {id: s0, kind: access-log}\n" + "".join(f"  - {{id: s{n + 1}, same-as: s{n}}}\n" for n in range(SIZE // 30))),
    ("json nests", REPLAY_P, "a.json", '{"a":' * DEEP),
    ("json lists", REPLAY_P, "a.json", "[" * DEEP + "]" * DEEP),
    ("json numbers", REPLAY_P, "a.json", '{"a": ' + "9" * SIZE + "}"),
    ("json escapes", REPLAY_P, "a.json", '{"a": "' + many("\\ud800") + '"}'),
    ("schema pattern", REPLAY_P, "a.yaml", PIPELINE + "stages: [read-body, validate]\n" + ROUTE % '{patternProperties: {"^(a|a)*$": {}}, additionalProperties: false}'),
    ("schema unique", REPLAY_P, "a.yaml", PIPELINE + "stages: [read-body, validate]\n" + ROUTE % "{type: array, uniqueItems: true}"),
    ("schema refs", REPLAY_P, "a.yaml", PIPELINE + "stages: [read-body, validate]\n" + ROUTE % '{anyOf: [{items: {"$ref": "#"}}, {items: {"$ref": "#"}}], not: {type: string}}'),
    ("har entries", IMPORT, "a.har", har([entry() for _ in range(SIZE // 200)])),
    ("har fields", IMPORT, "a.har", har([entry(headers=SIZE // 30)])),
    ("har body", IMPORT, "a.har", har([entry(body=json.dumps({"a": many("eyJ-.")}))])),
    ("har body nests", IMPORT, "a.har", har([entry(body="[" * DEEP + "]" * DEEP)])),
    ("har url", IMPORT, "a.har", har([entry(url="https://api.example/" + many("a/"))])),
    ("har query", IMPORT, "a.har", har([entry(url="https://api.example/?" + many("a=b&"))])),
    ("openapi lists", IMPORT, "a.json", described(NESTED)),
    ("openapi doubling", IMPORT, "a.json", described({"$ref": "#/components/schemas/s0"}, components={"schemas": doubled(40)})),
    ("openapi circle", IMPORT, "a.json", described({"$ref": "#/components/schemas/a"}, components={"schemas": {"a": {"allOf": [{"$ref": "#/components/schemas/a"}] * 30}}})),
    ("openapi paths", IMPORT, "a.json", json.dumps({"openapi": "3.1.0", "info": {}, "paths": {f"/a{n}": {"get": {"responses": {}}} for n in range(SIZE // 40)}})),
    ("openapi parameters", IMPORT, "a.json", json.dumps({"openapi": "3.1.0", "info": {}, "paths": {"/a": {"get": {"parameters": [{"name": f"p{n}", "in": "query"} for n in range(SIZE // 40)], "responses": {}}}}})),
    ("curl fields", IMPORT, "a.sh", "curl https://api.example/a \\\n" + many(" -H 'X-A: b' \\\n")),
    ("curl unclosed", IMPORT, "a.sh", "curl 'https://api.example/a\n" + many("b c\n")),
    ("curl commands", IMPORT, "a.sh", many("curl https://api.example/a\n")),
    ("curl parts", IMPORT, "a.sh", "curl https://api.example/a " + many("-F a=b ")),
    ("curl options of a part", IMPORT, "a.sh", "curl https://api.example/a -F 'a=b" + many(";") + "'"),
    ("curl media type of a part", IMPORT, "a.sh", "curl https://api.example/a -F 'a=b;type=a/b" + many(";c=d") + "'"),
    ("curl quotes of a part", IMPORT, "a.sh", "curl https://api.example/a -F 'a=b" + many(';"') + "'"),
    ("curl data", IMPORT, "a.sh", "curl https://api.example/a -d '" + many("a=b&") + "'"),
    ("curl pieces", IMPORT, "a.sh", "curl https://api.example/a " + many("-d a ")),
    ("curl queries", IMPORT, "a.sh", "curl https://api.example/a -G " + many("--url-query a=b ")),
    ("curl next", IMPORT, "a.sh", "curl https://api.example/a " + many("--next https://api.example/a ")),
    ("curl sets", IMPORT, "a.sh", "curl https://api.example/" + many("{a,b}")),
    ("curl ranges", IMPORT, "a.sh", "curl https://api.example/[1-" + "9" * SIZE + "]"),
    ("curl dots", IMPORT, "a.sh", "curl https://api.example/" + many("a/../")),
    ("curl substitutions", IMPORT, "a.sh", "curl https://api.example/a -d " + many("$(")),
    ("curl variables", IMPORT, "a.sh", "curl https://api.example/a -d " + "".join(f"$a{n}" for n in range(SIZE // 8))),
    ("curl input", IMPORT, "a.sh", "curl https://api.example/a -d @- <<E\n" + many("a\n")),
    ("curl for cmd", IMPORT, "a.bat", 'curl ^"https://api.example/^" ^\n --data-raw ^"' + many('^\\^"') + '^"'),
    ("curl backslashes for cmd", IMPORT, "a.bat", 'curl ^"https://api.example/^" ^\n --data-raw ^"' + many("^\\") + '^"'),
    ("log lines", IMPORT, "a.log", many(LINE)),
    ("log of one line", IMPORT, "a.log", LINE + many("x")),
    ("log quotes", IMPORT, "a.log", LINE + many('\\"') + "\n"),
    ("log target", IMPORT, "a.log", '192.0.2.1 - - [10/Oct/2031:13:55:36 +0000] "GET /' + many("a=&") + ' HTTP/1.1" 200 1\n'),
    ("log of ancient times", IMPORT, "a.jsonl", many('{"time": 1e999, "method": "GET", "path": "/"}\n')),
    ("log of nested lines", IMPORT, "a.jsonl", '{"time": 1, "method": "GET", "path": "/", "a": ' + "[" * DEEP + "\n"),
    ("gzip", IMPORT, "a.gz", lambda: gzip.compress(LINE.encode() * 4_000_000, 9)),
    ("gzip of nothing", IMPORT, "a.gz", lambda: gzip.compress(bytes(200 << 20), 9)),
    ("gzip members", IMPORT, "a.gz", gzip.compress(LINE.encode()) * (SIZE // 80)),
    ("bzip2", IMPORT, "a.bz2", lambda: bz2.compress(bytes(60 << 20)) * 5),
    ("xz", IMPORT, "a.xz", lambda: lzma.compress(bytes(300 << 20), preset=0)),
    ("zstd", IMPORT, "a.zst", lambda: zstandard.compress(bytes(300 << 20))),
    ("zstd window", IMPORT, "a.zst", zstandard.ZstdCompressor(compression_params=zstandard.ZstdCompressionParameters(window_log=30, enable_ldm=True)).compress(b"x" * 100)),
    ("parquet of much", IMPORT, "a.parquet", lambda: table({"path": ["/" + "a" * (30 << 20)]})),
    ("parquet of many", IMPORT, "a.parquet", lambda: table({"path": ["/" + "a" * 900_000], "method": ["GET"], "time": ["2031-05-01T08:00:00Z"]}, 200_000)),
    ("parquet of columns", IMPORT, "a.parquet", lambda: table({f"c{at}": [1] for at in range(2_000)})),
    ("pattern", ("replay", "FILE", "t.yaml"), "a.yaml", PIPELINE + 'stages: [{id: d, kind: decide, cases: [{when: {query: {a: {pattern: "^(a+)+$"}}}, then: nothing}]}]\n'),
    ("patterns of many", ("replay", "FILE", "t.yaml"), "a.yaml", PIPELINE + f'stages: [{{id: d, kind: decide, cases: [{{when: {{query: {{a: {{pattern: "{"(a{0,999}){0,999}" * 9}"}}}}}}, then: nothing}}]}}]\n'),
]  # fmt: skip
UNIQUE = json.dumps([{"a": at} for at in range(5_000)])
STANDARD = {
    "p.yaml": PIPELINE,
    "t.yaml": TRACE
    + "  - {id: a, send: POST /a, json: {" + "a" * 40 + "b: 1}}\n"
    + f"  - {{id: b, send: POST /a, json: {UNIQUE}}}\n"
    + "  - {id: c, send: POST /a, json: " + "[" * 60 + "1" + "]" * 60 + "}\n"
    + "  - {id: d, send: GET /a?a=" + "a" * 3_000 + "b}\n",
}  # fmt: skip


MEASURED = f"""
import json, os, resource, sys
child = os.fork()
if not child:
    resource.setrlimit(resource.RLIMIT_CPU, ({4 * SECONDS}, {4 * SECONDS}))
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    os.dup2(os.open("err", os.O_CREAT | os.O_WRONLY), 2)
    os.execv(sys.executable, [sys.executable, *sys.argv[1:]])
_, status, used = os.wait4(child, 0)
print(json.dumps([os.waitstatus_to_exitcode(status), used.ru_utime + used.ru_stime, used.ru_maxrss * 1024]))
"""


@pytest.mark.parametrize(
    ("command", "name", "content"), [trick[1:] for trick in TRICKS], ids=[trick[0] for trick in TRICKS]
)
def test_no_file_takes_long_or_much(tmp_path: Path, command: tuple[str, ...], name: str, content: Content) -> None:
    for other, text in STANDARD.items():
        (tmp_path / other).write_text(text)
    made = content if isinstance(content, str | bytes) else content()
    (tmp_path / name).write_bytes(made if isinstance(made, bytes) else made.encode())
    words = [str(USHER), *(name if word == "FILE" else word for word in command)]
    # By a small process between: what a forked one has used at most counts what its parent had.
    told = subprocess.run(
        [sys.executable, "-S", "-c", MEASURED, *words], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    status, seconds, octets = json.loads(told.stdout)
    said = (tmp_path / "err").read_text()
    assert status in (0, 1, 2), said[-500:]
    assert "Traceback" not in said
    assert (seconds < SECONDS, octets < OCTETS) == (True, True), (seconds, octets, said[:300])
