"""What a page's call sends by its cache mode, held against a real browser (Fetch 4.6)."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import browsers
from conftest import make_pipeline, replay, text

VECTOR = json.loads((Path(__file__).parents[3] / "vectors" / "cache-modes-of-chromium.json").read_text())
STORED = {"headers": {"ETag": '"t"', "Vary": "X-None"}, "text": "content"}


def route(method: str, prefix: str) -> dict[str, Any]:
    age = "3600" if prefix == "fresh" else "0"
    answer = {**STORED, "headers": {**STORED["headers"], "Cache-Control": f"max-age={age}"}}
    path = f"{method} /{prefix}/{{+rest}}" if prefix else f"{method} /{{+rest}}"
    return {"id": f"{method}-{prefix or 'other'}", "at": path, "access": "everyone", "handler": text(**answer)}


def test_the_fields_that_go_with_a_cache_mode_are_a_browsers() -> None:
    pipeline = make_pipeline([], routes=[route("GET", "fresh"), route("GET", ""), route("POST", "")])
    requests = []
    for at, call in enumerate(VECTOR["calls"]):
        init = call["init"]
        made = {"id": f"r{at}", "caller": "page", "send": f"{init.get('method', 'GET')} {call['url']}"}
        made |= {"cache": init["cache"]} if "cache" in init else {}
        made |= {"headers": init["headers"]} if "headers" in init else {}
        made |= {"text": init["body"]} if "body" in init else {}
        requests.append(made)
    page = {"kind": "browser", "origin": "http://localhost"}
    found = {r["id"]: r for r in replay(pipeline, *requests, base="http://localhost", callers={"page": page})}
    names = {name.lower(): name for name in VECTOR["fields"]}
    for at, (call, sent) in enumerate(zip(VECTOR["calls"], VECTOR["sent"], strict=True)):
        record = found[f"r{at}"]
        ours = {names[n.lower()]: v for n, v in record["request"]["headers"] if n.lower() in names}
        ours = {} if record["outcome"] == "from-caller-cache" else ours
        assert (call, ours) == (call, sent)


@browsers.needs_chromium
def test_the_vector_is_what_the_browser_sends_today() -> None:
    assert browsers.fields_by_call(VECTOR["calls"], VECTOR["fields"]) == VECTOR["sent"]
