"""What happens now, written as what is expected: every other octet of the file stays."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import DEMO, Outcome

Usher = Callable[..., Outcome]
PIPELINE = """
patient-usher: pipeline/1
stages: [{id: who, kind: authenticate, schemes: [{scheme: api-key}]}]
routes:
  - {id: open, at: GET /open, access: everyone, handler: {answer: {text: ok}}}
  - {id: shut, at: POST /shut, handler: {answer: {text: ok}}}
"""
OK, NO = (
    "{status: 200, handler: reached, body: {exact: ok}}",
    "{status: 401, refused-by: who, why: absent, handler: not-reached}",
)
HEAD = "patient-usher: trace/1\n# what people ask\nrequests:\n"

# A trace, and the same with what happens now.
STYLES: dict[str, tuple[str, str]] = {
    "flow": (f"{HEAD}  - {{id: a, send: GET /open}}   # first\n", f"{HEAD}  - {{id: a, send: GET /open, expect: {OK}}}   # first\n"),
    "trailing comma": (f"{HEAD}  - {{id: a, send: GET /open,}}\n", f"{HEAD}  - {{id: a, send: GET /open, expect: {OK}}}\n"),
    "flow on lines": (f"{HEAD}  - {{\n      id: a,  # one\n      send: GET /open  # two\n    }}\n",
                      f"{HEAD}  - {{\n      id: a,  # one\n      send: GET /open,\n      expect: {OK}  # two\n    }}\n"),
    "block": (f"{HEAD}  - id: a\n    send: POST /shut  # why\n\n  # the next\n  - id: b\n    send: GET /open\n",
              f"{HEAD}  - id: a\n    send: POST /shut  # why\n    expect: {NO}\n\n  # the next\n  - id: b\n    send: GET /open\n    expect: {OK}\n"),
    "nested": (f"{HEAD}  - id: a\n    send: POST /shut\n    json:\n      berth:\n        name: T07\n      # not a berth\n  - {{id: b, send: GET /open}}\n",
               f"{HEAD}  - id: a\n    send: POST /shut\n    json:\n      berth:\n        name: T07\n    expect: {NO}\n      # not a berth\n  - {{id: b, send: GET /open, expect: {OK}}}\n"),
    "block text": (f"{HEAD}  - id: a\n    send: POST /shut\n    text: |\n      two\n      lines\n\n  - {{id: b, send: GET /open}}\n",
                   f"{HEAD}  - id: a\n    send: POST /shut\n    text: |\n      two\n      lines\n    expect: {NO}\n\n  - {{id: b, send: GET /open, expect: {OK}}}\n"),
    "no end of line": (f"{HEAD}  - id: a\n    send: GET /open", f"{HEAD}  - id: a\n    send: GET /open\n    expect: {OK}"),
    "windows": (f"{HEAD}  - id: a\n    send: GET /open\n".replace("\n", "\r\n"), f"{HEAD}  - id: a\n    send: GET /open\n    expect: {OK}\n".replace("\n", "\r\n")),
    "byte order mark": (f"\ufeff{HEAD}  - {{id: a, send: GET /open}}\n", f"\ufeff{HEAD}  - {{id: a, send: GET /open, expect: {OK}}}\n"),
    "expecting": (f"{HEAD}  - {{id: a, send: GET /open, expect: {{status: 2xx}}}}\n", f"{HEAD}  - {{id: a, send: GET /open, expect: {{status: 2xx}}}}\n"),
    "repeated": (f"{HEAD}  - {{id: a, times: 3, send: GET /open}}\n", f"{HEAD}  - {{id: a, times: 3, send: GET /open, expect: {{tally: {{200: 3}}, body: {{exact: ok}}}}}}\n"),
    "json": ('{"patient-usher": "trace/1", "requests": [{"id": "a", "send": "GET /open"}]}',
             '{"patient-usher": "trace/1", "requests": [{"id": "a", "send": "GET /open", "expect": {"status": 200, "handler": "reached", "body": {"exact": "ok"}}}]}'),
    "json on lines": ('{\n "patient-usher": "trace/1",\n "requests": [\n  {\n   "id": "a",\n   "send": "GET /open"\n  }\n ]\n}\n',
                      '{\n "patient-usher": "trace/1",\n "requests": [\n  {\n   "id": "a",\n   "send": "GET /open",\n   "expect": {"status": 200, "handler": "reached", "body": {"exact": "ok"}}\n  }\n ]\n}\n'),
    "json lines": ('{"patient-usher": "trace/1"}\n{"id": "a",  "send": "GET /open" }\n\n{"id": "b", "send": "GET /open", "expect": {"status": 200}}\n',
                   '{"patient-usher": "trace/1"}\n{"id": "a",  "send": "GET /open", "expect": {"status": 200, "handler": "reached"}}\n\n{"id": "b", "send": "GET /open", "expect": {"status": 200}}\n'),
}  # fmt: skip


@pytest.mark.parametrize("style", STYLES)
def test_every_other_octet_stays(usher: Usher, tmp_path: Path, style: str) -> None:
    before, after = STYLES[style]
    done = usher("accept", "p.yaml", "t.yaml", p__yaml=PIPELINE, t__yaml=before)
    assert (done.status, done.out) == (0, ""), done.err
    assert (tmp_path / "t.yaml").read_bytes().decode() == after
    again = usher("accept", "p.yaml", "t.yaml")
    assert (again.status, (tmp_path / "t.yaml").read_bytes().decode()) == (0, after), "twice changes nothing"
    assert usher("replay", "p.yaml", "t.yaml", "--strict").status == 0


WRONG = f"{HEAD}  - {{id: a, send: GET /open, expect: {{status: 404, headers: {{X: missing}}}}}}\n  - {{id: b, send: POST /shut}}\n"


def test_what_is_expected_stays_unless_it_is_to_be_replaced(usher: Usher, tmp_path: Path) -> None:
    kept = usher("accept", "p.yaml", "t.yaml", p__yaml=PIPELINE, t__yaml=WRONG)
    assert (kept.status, "left alone, since what they expect doesn't hold: a" in kept.err) == (1, True)
    assert "expect: {status: 404, headers: {X: missing}}" in (tmp_path / "t.yaml").read_text()
    assert f"send: POST /shut, expect: {NO}" in (tmp_path / "t.yaml").read_text()
    assert usher("accept", "p.yaml", "t.yaml", "--replace").status == 0
    assert f"send: GET /open, expect: {OK}}}" in (tmp_path / "t.yaml").read_text()


def test_a_patch_is_printed_and_nothing_written(usher: Usher, tmp_path: Path) -> None:
    done = usher("accept", "p.yaml", "t.yaml", "--dry-run", "--only", "b", p__yaml=PIPELINE, t__yaml=WRONG)
    assert (done.status, (tmp_path / "t.yaml").read_text()) == (0, WRONG)
    signs = [line[0] for line in done.out.splitlines() if line[:3] not in ("---", "+++")]
    assert signs == ["@", " ", "-", "+"]
    assert f"+  - {{id: b, send: POST /shut, expect: {NO}}}" in done.out


@pytest.mark.parametrize(
    ("arguments", "trace", "said"),
    [
        (["--only", "c"], WRONG, "there is no request 'c'"),
        ([], '{"log": {"version": "1.2", "entries": []}}', "a recording is no trace to write into"),
        ([], "patient-usher: pipeline/1\n", "this is a pipeline"),
    ],
)
def test_what_cannot_be_written_into(usher: Usher, tmp_path: Path, arguments: list[str], trace: str, said: str) -> None:
    done = usher("accept", "p.yaml", "t.yaml", *arguments, p__yaml=PIPELINE, t__yaml=trace)
    assert (done.status, said in done.err) == (2, True), done.err
    assert (tmp_path / "t.yaml").read_text() == trace


@pytest.mark.parametrize(
    "name", ["story", "quay-story", "boaters-story", "limits-story", "shelf-story", "return-story"]
)
def test_the_demo_expects_what_happens(usher: Usher, tmp_path: Path, name: str) -> None:
    """Traces that hold gain nothing but what nobody expected yet, and hold as before."""
    pipeline = str(DEMO / f"{name.removesuffix('-story') if name != 'story' else 'harbour'}.yaml")
    before = (DEMO / f"{name}.yaml").read_text()
    assert usher("accept", pipeline, "t.yaml", t__yaml=before).status == 0
    after = (tmp_path / "t.yaml").read_text()
    assert [line.partition(", expect:")[0].rstrip("}") for line in after.splitlines() if "expect" not in line] == [
        line.partition(", expect:")[0].rstrip("}")
        for line in before.splitlines()
        if line in after.splitlines() and "expect" not in line
    ]
    assert usher("replay", pipeline, "t.yaml").status == 0
