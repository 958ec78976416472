"""Mutated pipelines, traces, recordings and arguments: whatever comes, it ends at once and with a sentence.

``python tests/fuzz.py N SEED`` runs N cases in processes of this one's own; the tests run a few. A case is a
violation where the command ends with another status than 0, 1 or 2, shows a traceback, takes longer than
``PATIENCE``, or sends a terminal escape; where what it prints or writes isn't well-formed, or (of every third)
differs when it is done again; where an import writes what the tool itself refuses; and where something half-written is left.
"""

from __future__ import annotations

import csv
import io
import json
import re
import signal
import sys
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from random import Random
from types import FrameType
from xml.etree import ElementTree

import patient_usher.demo
from patient_usher import Trace, Unusable, load, replay
from patient_usher.cli import main as usher

DEMO = Path(patient_usher.demo.__file__).parent
PAIRS = [
    ("harbour.yaml", "story.yaml"),
    ("quay.yaml", "quay-story.yaml"),
    ("boaters.yaml", "boaters-story.yaml"),
    ("limits.yaml", "limits-story.yaml"),
    ("shelf.yaml", "shelf-story.yaml"),
    ("front.yaml", "front-story.yaml"),
    ("recorded.yaml", "harbour.har"),
]
ODD = [
    "\x1b[31m", "\x07", "\x9b", "\u202e", "\udc80", "'", '"', "{", "}", "[", "]", ": ", "\n  - ", "#", "&a", "*a", "!!x", "|", "%",
    "1e999", ".inf", "-1", "0", "9" * 400, "10GiB", "99999d", "null", "true", "~", "${", "${query.x}", "${env:HOME}", "$${",
    "**", "/**/**/**", "%2F", "(a+)+$", "*", "..", "é", "\x00", "nan", "2031-13-45", "GET", "status: 999", "then: nothing",
    "{pattern: '('}", "only: ['/**']", "[" * 70, "http://", "https://[::1]:99999/", "Set-Cookie", "\r\nX: y",
]  # fmt: skip
PATIENCE = 20
_ESCAPES = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f]")


class TooSlow(Exception):
    """A case that doesn't end."""


def mutated(text: str, random: Random) -> str:
    """A few of a text's pieces changed, doubled, dropped or put elsewhere."""
    for _ in range(random.randrange(1, 5)):
        at = random.randrange(len(text) + 1)
        to = min(at + random.randrange(0, 30), len(text))
        choice = random.randrange(6)
        if choice == 0:
            text = text[:at] + random.choice(ODD) + text[at:]
        elif choice == 1:
            text = text[:at] + text[to:]
        elif choice == 2:
            text = text[:at] + random.choice(ODD) + text[to:]
        elif choice == 3:
            text = text[:at] + text[at:to] * random.randrange(2, 5) + text[to:]
        elif choice == 4:
            words = list(re.finditer(r"[A-Za-z0-9_.-]+", text))
            if not words:
                continue
            one, other = random.choice(words), random.choice(words)
            text = text[: one.start()] + other[0] + text[one.end() :]
        else:
            lines = text.split("\n")
            lines.insert(random.randrange(len(lines)), random.choice(lines))
            text = "\n".join(lines)
    return text


def arguments_of(folder: Path, pipeline: str, trace: str, random: Random) -> list[str]:
    """A command line on these files, itself a little odd now and then."""
    files = [str(folder / pipeline), str(folder / trace)]
    shapes = [
        ["replay", *files],
        ["replay", *files, "--format", random.choice(["json", "jsonl"])],
        ["replay", *files, "--details", "--strict"],
        ["replay", *files, "--set", mutated("throttle.quota=10", random)],
        ["replay", *files, "--sign", "same:maren", "--expect-recorded"],
        ["show", files[0]],
        ["show", files[0], "GET", mutated("/v1/tides?station=x", random)],
        ["send", files[0], random.choice(["GET", "POST"]), mutated("/v1/berths/T07", random), "--body", mutated('json:{"a": [1]}', random)],
        ["send", files[0], "POST", "/v1/session", "--body", mutated("form:a=1&b=2", random), "-H", mutated("X-A: b", random)],
    ]  # fmt: skip
    return random.choice(shapes)


CURL = "curl 'https://api.ternharbour.example/v1/tides?station=tern' -H 'Accept: application/json' -u maren:x -d 'a=b' \\\n  --compressed -X POST\n"
LOG = (
    '198.51.100.4 - maren [01/May/2031:08:00:00 +0000] "GET /v1/tides?station=tern HTTP/1.1" 200 12 "-" "TernApp/1"\n'
    * 3
)
W3C = "#Version: 1.0\n#Fields: date time cs-method cs-uri-stem sc-status c-ip\n2031-05-01 08:00:00 GET /v1/tides 200 198.51.100.4\n"
LINES = (
    '{"time": "2031-05-01T08:00:00Z", "method": "GET", "url": "/v1/tides", "status": 200, "ip": "198.51.100.4"}\n' * 3
)
OPENAPI = """openapi: 3.1.0
info: {title: Berths, version: "1"}
servers: [{url: "https://api.ternharbour.example/v1"}]
paths:
  /berths/{berth}:
    get:
      operationId: berth
      parameters: [{name: berth, in: path, required: true, schema: {type: string}}, {name: day, in: query, schema: {type: integer, minimum: 1}}]
      responses: {"200": {description: ok, content: {application/json: {schema: {$ref: "#/components/schemas/Berth"}}}}}
components:
  schemas: {Berth: {type: object, required: [name], properties: {name: {type: string, pattern: "^[A-Z]+$"}}}}
  securitySchemes: {key: {type: apiKey, in: header, name: X-Api-Key}}
"""
TO_IMPORT = {"c.sh": CURL, "a.log": LOG, "w.log": W3C, "l.jsonl": LINES, "o.yaml": OPENAPI}
TABLES = ("rows.csv", "rows.jsonl", "rows.parquet")


def others(folder: Path, pipeline: str, trace: str, random: Random) -> list[str]:
    """A command line of any other command."""
    files = [str(folder / pipeline), str(folder / trace)]
    out = str(folder / "out")
    if trace.endswith(".har") and random.random() < 0.5:
        return ["import", files[1], "--into", f"{out}.yaml"]
    chosen = random.choice(list(TO_IMPORT))
    (folder / chosen).write_text(mutated(TO_IMPORT[chosen], random), encoding="utf-8", errors="surrogateescape")
    saved = folder / "result.json"
    odd = mutated(random.choice(["10", "a,b", "0.5", "1..4", "x > 0"]), random)
    shapes = [
        *[["import", str(folder / chosen), "--into", f"{out}.yaml"]] * 4,
        ["import", str(folder / chosen), "--into", f"{out}.jsonl", "--expect-recorded", "--faster", odd],
        ["export", str(saved), "--into", f"{out}{random.choice(['.har', '.csv', '.parquet', '.jsonl'])}"],
        ["chart", str(saved), "--format", "csv"],
        ["compare", str(saved), files[0], files[1], "--format", "json"],
        ["compare", files[0], str(DEMO / pipeline), files[1], "--report", f"{random.choice(['md', 'html', 'svg', 'json'])}={out}"],
        ["check", files[0], "--format", random.choice(["json", "sarif"])],
        ["check", *files, "--level", "error"],
        ["explore", files[0], "--format", "json"],
        ["accept", *files],
        ["replay", *files, "--into", str(folder / random.choice(TABLES))],
        ["replay", *files, "--report", f"{random.choice(['junit', 'md', 'html', 'svg', 'json'])}={out}", "--coverage"],
        ["sweep", *files, "--try", f"throttle.quota={odd}", "--cores", "1", "--goal", odd],
        ["reorder", *files, "--format", "json"],
    ]  # fmt: skip
    chosen_shape = random.choice(shapes)
    if str(saved) in chosen_shape:
        text = io.StringIO()
        with redirect_stdout(_Out()) as made, redirect_stderr(text):
            usher(["replay", str(DEMO / pipeline), str(DEMO / trace), "--format", "json"])
        saved.write_text(mutated(made.text(), random), encoding="utf-8", errors="surrogateescape")
    return chosen_shape


def malformed(arguments: list[str], out: str, folder: Path) -> str:
    """What is wrong with the form of what a command has printed and written, or nothing."""
    if "--format" in arguments and arguments[arguments.index("--format") + 1] in ("json", "sarif") and out:
        json.loads(out)
    for path in folder.iterdir():
        if path.name.startswith(".out") or path.name.startswith(".rows"):
            return f"{path.name} is left"
        if not path.name.startswith(("out", "rows")):
            continue
        form = next((word.partition("=")[0] for word in arguments if word.endswith(f"={path}")), path.suffix[1:])
        text = path.read_text() if form != "parquet" else ""
        if form in ("json", "har"):
            json.loads(text)
        elif form in ("junit", "svg"):
            ElementTree.fromstring(text)
        elif form == "csv":
            list(csv.reader(io.StringIO(text), strict=True))
        elif arguments[0] == "import":
            return refused(path, text)
    return ""


def refused(path: Path, text: str) -> str:
    """Why the tool itself refuses what an import has written, or nothing."""
    try:
        if "pipeline/1" in text[:400]:
            load(path)
        else:
            for _ in replay(load(DEMO / "harbour.yaml"), Trace.read(path)):
                pass
    except Unusable as error:
        return f"import wrote what is refused: {error.problems[0]}"
    return ""


def _too_slow(number: int, frame: FrameType | None) -> None:
    raise TooSlow


class _Out(io.TextIOWrapper):
    """A standard output that can be read afterwards."""

    def __init__(self) -> None:
        super().__init__(io.BytesIO(), encoding="utf-8", errors="surrogateescape")

    def text(self) -> str:
        """What was written."""
        self.flush()
        return self.buffer.getvalue().decode("utf-8", "replace")  # type: ignore[attr-defined]


def violation(arguments: list[str], folder: Path, twice: bool = False) -> str:
    """Run one command in this process. What is wrong with how it ended, or nothing; also where it is done again."""
    before = {path: path.read_bytes() for path in folder.iterdir()}
    wrong, said = _run(arguments, folder)
    if wrong or not twice:
        return wrong
    once = {path: path.read_bytes() for path in folder.iterdir()}
    for path in once:
        path.unlink()
    for path, octets in before.items():
        path.write_bytes(octets)
    _, again = _run(arguments, folder)
    if said != again:
        return f"what it says differs when it is done again: {said!r} {again!r}"
    if others := {path.name for path in {*once, *folder.iterdir()} if once.get(path) != _octets(path)}:
        return f"what it writes differs when it is done again: {', '.join(sorted(others))}"
    return ""


def _octets(path: Path) -> bytes | None:
    return path.read_bytes() if path.exists() else None


def _run(arguments: list[str], folder: Path) -> tuple[str, tuple[object, ...]]:
    out, err = _Out(), _Out()
    status: object = None
    try:
        wrong, status = _ended(arguments, folder, out, err)
    except TooSlow:
        wrong = "too slow"
    except BaseException as error:
        wrong = f"{type(error).__name__}: {error}"
    finally:
        signal.alarm(0)
    return wrong, (status, out.text(), err.text())


def _ended(arguments: list[str], folder: Path, out: _Out, err: _Out) -> tuple[str, int]:
    signal.signal(signal.SIGALRM, _too_slow)
    signal.alarm(PATIENCE)
    with redirect_stdout(out), redirect_stderr(err):
        status = usher(arguments)
    signal.alarm(0)
    said = err.text()
    if status in (0, 1):
        try:
            if wrong := malformed(arguments, out.text(), folder):
                return wrong, status
        except (ValueError, ElementTree.ParseError, csv.Error) as error:
            return f"what it wrote is not well-formed: {error}", status
    if status not in (0, 1, 2):
        return f"status {status}: {said[:300]}", status
    if "Traceback" in said:
        return f"traceback: {said[:300]}", status
    if found := _ESCAPES.search(out.text().replace("\r\n", "\n") + said):
        return f"the character {found[0]!r} reaches the terminal", status
    return "" if status != 2 or said.strip() else "status 2 without a word", status


def run(count: int, seed: int, first: int = 0) -> list[tuple[int, list[str], str]]:
    """So many cases from this seed, from the ``first`` on; every violation with its number and arguments."""
    found = []
    for number in range(first, first + count):
        random = Random(seed * 1_000_003 + number)
        pipeline, trace = random.choice(PAIRS)
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for file in (pipeline, trace, "bookings.csv"):
                text = (DEMO / file).read_text(encoding="utf-8")
                if file != "bookings.csv" and random.random() < 0.7:
                    text = mutated(text, random)
                (folder / file).write_bytes(text.encode("utf-8", "surrogatepass"))
            make = others if random.random() < 0.6 else arguments_of
            arguments = make(folder, pipeline, trace, random)
            if wrong := violation(arguments, folder, twice=number % 3 == 0):
                found.append((number, arguments, wrong))
                if "--keep" in sys.argv:
                    for file in (pipeline, trace):
                        Path(f"fuzz-{number}-{file}").write_bytes((folder / file).read_bytes())
    return found


if __name__ == "__main__":
    numbers = [int(text) for text in sys.argv[1:] if text.isdecimal()]
    cases = numbers[0] if numbers else 20_000
    start = numbers[1] if len(numbers) > 1 else 1
    violations = run(cases, start)
    for case, command, what in violations[:40]:
        print(case, command[0], what[:300].encode("unicode_escape").decode())
    print(f"{cases} cases, {len(violations)} violations")
    raise SystemExit(bool(violations))
