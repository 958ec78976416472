"""Corners that the standards name and few requests reach: coded bodies, files of records, schemas, own code on every way."""

from __future__ import annotations

import base64
import gzip
import json
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import brotli
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Outcome, described, replay, steps, text, walk
from patient_usher import Unusable, load

Usher = Callable[..., Outcome]

# Bodies in every coding (RFC 9110 8.4; RFC 1950 to 1952, 7932, 8878).

CODERS: dict[str, Callable[[bytes], bytes]] = {
    "gzip": gzip.compress,
    "deflate": zlib.compress,
    "br": brotli.compress,
    "zstd": zstandard.compress,
}
POST = {"id": "r", "at": "POST /", "access": "everyone", "handler": {"answer": {"json": {"said": "${body.a}"}}}}


def sent(octets: bytes, coding: str, **options: Any) -> dict[str, Any]:
    """What comes of a body that says it is coded so."""
    headers = {"Content-Type": "application/json", "Content-Encoding": coding}
    request = {"send": "POST /", "headers": headers, "base64": base64.b64encode(octets).decode()}
    return walk([{"kind": "read-body", "codings": list(CODERS), **options}], request, routes=[POST])


@pytest.mark.parametrize("coding", CODERS)
@settings(max_examples=25, deadline=None)
@given(said=st.text(max_size=200))
def test_a_coded_body_is_read_as_it_was_before(coding: str, said: str) -> None:
    body = json.dumps({"a": said}).encode()
    assert json.loads(sent(CODERS[coding](body), coding)["response"]["body"]) == {"said": said}


BODY = json.dumps({"a": "a word " * 400}).encode()
SPOILT: list[tuple[str, Callable[[bytes], bytes]]] = [
    ("no such thing", lambda packed: BODY),
    ("cut short", lambda packed: packed[: len(packed) // 2]),
    ("a bit turned", lambda packed: bytes([packed[0] ^ 0xFF]) + packed[1:]),
]


@pytest.mark.parametrize(("words", "spoil"), SPOILT, ids=[words for words, _ in SPOILT])
@pytest.mark.parametrize("coding", CODERS)
def test_a_spoilt_body_is_the_callers_mistake(coding: str, words: str, spoil: Callable[[bytes], bytes]) -> None:
    record = sent(spoil(CODERS[coding](BODY)), coding)
    assert (record["response"]["status"], record["why"]) == (400, "malformed-body")


@pytest.mark.parametrize("coding", CODERS)
def test_what_unpacks_to_more_than_may_be_read_is_too_large(coding: str) -> None:
    bomb = CODERS[coding](b'{"a": "' + b"0" * 20_000_000 + b'"}')
    assert len(bomb) < 100_000
    record = sent(bomb, coding, **{"max-size": "100KiB"})
    assert (record["response"]["status"], record["why"]) == (413, "too-large")


# Records from files.

ROWS: list[tuple[str, list[dict[str, Any]] | str]] = [
    ("id,berth\nb-1,T07\nb-2,T12\n", [{"id": "b-1", "berth": "T07"}, {"id": "b-2", "berth": "T12"}]),
    ('\ufeffid,note\nb-1,"a, b"\n\n', [{"id": "b-1", "note": "a, b"}]),
    ('[{"id": "b-1", "nights": 2}]', [{"id": "b-1", "nights": 2}]),
    ("id\n", []),
    ("", "rows is empty; its first line must name the columns"),
    ('id,note\nb-1,"a\n', "is no CSV"),
    ("id,note\nb-1\n", "rows:2 has 1 cells, its head 2; give every row the same number"),
    ("berth\nT07\n", "row 1 has no 'id', the key; add it, or name another key"),
    ('{"id": "b-1"}', "rows must be a list of objects; write [{...}, {...}]"),
    ("[1]", "rows must be a list of objects"),
    ("[{]", "rows is no JSON"),
]


@pytest.mark.parametrize(("content", "rows"), ROWS)
def test_records_begin_with_the_rows_of_a_file(tmp_path: Path, content: str, rows: list[dict[str, Any]] | str) -> None:
    (tmp_path / "rows").write_text(content)
    doc = {
        "patient-usher": "pipeline/1",
        "records": {"bookings": {"from": "rows"}},
        "routes": [{"id": "r", "at": "GET /", "access": "everyone", "handler": {"records": "bookings", "do": "list"}}],
    }
    (tmp_path / "p.json").write_text(json.dumps(doc))
    if isinstance(rows, str):
        with pytest.raises(Unusable) as caught:
            load(tmp_path / "p.json")
        assert rows in str(caught.value.problems[0])
        return
    assert json.loads(replay(load(tmp_path / "p.json"), {"send": "GET /"})[0]["response"]["body"]) == rows


# Schemas of inputs (JSON Schema 2020-12 Core).

DEFS = {
    "$defs": {"i": {"type": "integer"}, "named": {"$anchor": "whole", "type": "integer"}, "a/b": {"type": "integer"}}
}
REFS = [
    ("#/$defs/i", ""), ("#whole", ""), ("#/$defs/a~1b", ""), ("#/$defs/named", ""),
    ("#/$defs/j", "leads nowhere; name what stands under $defs"), ("#nobody", "leads nowhere"),
    ("https://boaters.example/schema", "leads out of the file; nothing is fetched; write it under $defs"), ("other.json#/x", "leads out of the file"),
    ("#/properties/n", "leads back to itself; let it lead to a schema"),
]  # fmt: skip


@pytest.mark.parametrize(("ref", "words"), REFS)
def test_references_lead_to_what_stands_in_the_schema(ref: str, words: str) -> None:
    schema = {"type": "object", "properties": {"n": {"$ref": ref}}, **DEFS}
    route = {"id": "r", "at": "GET /", "access": "everyone", "input": {"query": schema}, "handler": text()}
    doc = json.dumps({"patient-usher": "pipeline/1", "stages": ["validate"], "routes": [route]})
    if words:
        with pytest.raises(Unusable) as caught:
            described(doc, "p.json")
        assert words in str(caught.value.problems[0])
        return
    found = replay(described(doc, "p.json"), {"send": "GET /?n=3"}, {"send": "GET /?n=x"})
    assert [record["response"]["status"] for record in found] == [200, 422]


@pytest.mark.parametrize(
    ("schema", "words"),
    [
        ({"type": "strnig"}, "this is no JSON Schema"),
        ({"pattern": "("}, "'(' is no regular expression"),
        ({"patternProperties": {"(": {}}}, "'(' is no regular expression"),
        ({"properties": 3}, "this is no JSON Schema"),
        ({"required": "n"}, "this is no JSON Schema"),
    ],
)
def test_what_is_no_schema_is_told_at_load(schema: dict[str, Any], words: str) -> None:
    route = {"id": "r", "at": "GET /", "access": "everyone", "input": {"query": schema}, "handler": text()}
    with pytest.raises(Unusable) as caught:
        described(json.dumps({"patient-usher": "pipeline/1", "stages": ["validate"], "routes": [route]}), "p")
    assert words in str(caught.value.problems[0])


# Code of one's own, on every way and in both flows.

OWN = """
from patient_usher.plugin_api import NOTHING, Answer, AnswerAndPass, Fields, Wait, refusal, text_answer

class Own:
    def {method}: return {returns}
"""
HEAD, OUT, ERROR = "way_in(self, x)", "way_out(self, x)", "way_error(self, x, e)"
BUSY = 'refusal("Unavailable", "own-logic", "the harbour sleeps")'
RAISES = {"raise": {"type": "NotFound"}}
WAYS: list[tuple[str, str, Any, dict[str, str], tuple[str, int | None, str]]] = [
    # method, what it returns, handler; by flow: its step; outcome, status, who answered
    (HEAD, 'text_answer(201, "own")', text(), {"nested": "in own answered", "sequential": "in own answered"}, ("short-circuited", 201, "own")),
    (HEAD, BUSY, text(), {"nested": "in own answered", "sequential": "in own answered"}, ("short-circuited", 503, "own")),
    (HEAD, "NOTHING", text(), {"nested": "in own nothing", "sequential": "in own nothing"}, ("stalled", None, "")),
    (HEAD, "Wait(1_000_000, lambda x: None)", text(), {"nested": "out own continued", "sequential": "in own continued"}, ("handled", 200, "handler")),
    (HEAD, 'Wait(1_000_000, lambda x: text_answer(201, "late"))', text(), {"nested": "in own answered", "sequential": "in own answered"}, ("short-circuited", 201, "own")),
    (HEAD, 'AnswerAndPass(text_answer(202, "both"))', text(), {"nested": "in own answered-and-continued", "sequential": "in own answered-and-continued"}, ("answered-twice", 202, "own")),
    (OUT, 'text_answer(203, "another")', text(), {"nested": "out own answered", "sequential": "out own answered"}, ("short-circuited", 203, "own")),
    (OUT, "NOTHING", text(), {"nested": "out own nothing", "sequential": "out own nothing"}, ("stalled", None, "")),
    (OUT, "1 / 0", text(), {"nested": "out own raised", "sequential": "out own raised"}, ("crashed", 500, "server")),
    (ERROR, "None", RAISES, {"nested": "error own continued"}, ("errored", 404, "handler")),
    (ERROR, 'text_answer(299, "caught")', RAISES, {"nested": "error own caught"}, ("errored", 299, "own")),
    (ERROR, "NOTHING", RAISES, {"nested": "error own nothing"}, ("stalled", None, "")),
    (ERROR, "1 / 0", RAISES, {"nested": "error own raised"}, ("crashed", 500, "server")),
]  # fmt: skip


@pytest.mark.parametrize("flow", ["nested", "sequential"])
@pytest.mark.parametrize(("method", "returns", "handler", "step", "ends"), WAYS, ids=[f"{row[0][:9]}: {row[1][:32]}" for row in WAYS])  # fmt: skip
def test_own_code_on_every_way(
    tmp_path: Path, flow: str, method: str, returns: str, handler: Any, step: dict[str, str], ends: tuple[Any, ...]
) -> None:
    if flow not in step:
        pytest.skip("sequential errors skip forward, past what stands in front")
    (tmp_path / "own.py").write_text(OWN.format(method=method, returns=returns))
    own = {"id": "own", "kind": "python", "call": "own:Own"}
    doc = {
        "patient-usher": "pipeline/1",
        "flow": flow,
        "refuse": "answer",
        "stages": [own, *(["routes"] if flow == "sequential" else [])],
        "routes": [{"id": "r", "at": "GET /", "access": "everyone", "handler": handler}],
    }
    (tmp_path / "p.json").write_text(json.dumps(doc))
    record = replay(load(tmp_path / "p.json", trust=["python"]), {"send": "GET /"})[-1]
    answer = record["response"]
    assert step[flow] in steps(record)
    assert (record["outcome"], answer and answer["status"], record["answered_by"] or "") == ends
