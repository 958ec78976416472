"""Logs of any shape: what every line of the table means, what is no line of a log, and what becomes of durations."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from random import Random
from typing import Any

import pytest

from conftest import Outcome
from files.log_shapes import NONE, PLAIN, SHAPES, Shape, T
from patient_usher.core.http.dates import timestamp
from patient_usher.files.log_lines import LogEntry, UnreadableLine, any_text, text_line
from patient_usher.files.log_members import FORMATS, any_line, by_pattern
from patient_usher.files.log_times import moment
from patient_usher.files.log_trace import Callers, ImportStats, arrivals, lines
from patient_usher.files.sources import InputSource, format_of

Usher = Callable[..., Outcome]


def read(path: Path, shape: Shape) -> list[LogEntry]:
    """The file as it is imported: its format found by looking."""
    source = InputSource(path.name, path)
    options = dict(zip(shape.more[::2], shape.more[1::2], strict=True))
    named = dict(part.split("=") for part in options.get("--fields", "").split(",") if part)
    pattern = options.get("--pattern")
    reader = by_pattern(pattern) if pattern else FORMATS[str(format_of(source))](named)
    return list(lines(source.opened(), source.name, reader, Callers(), ImportStats()))


@pytest.mark.parametrize("shape", SHAPES, ids=[shape.name for shape in SHAPES])
def test_what_a_line_means(tmp_path: Path, shape: Shape) -> None:
    path = tmp_path / "a.log"
    path.write_text(shape.text + "\n")
    first = read(path, shape)[0]._asdict()
    wanted = {**dict.fromkeys(("user", "referrer", "agent", "host", "took")), **PLAIN, **shape.means}
    wanted["at"] = moment(wanted["at"])
    assert {key: first[key] for key in wanted} == wanted


def test_the_table_is_long_enough() -> None:
    assert len({shape.name for shape in SHAPES}) == len(SHAPES) >= 60


@pytest.mark.parametrize("line", NONE)
def test_what_is_no_line_of_a_log(line: str) -> None:
    with pytest.raises(UnreadableLine):
        any_line({})(line.encode())


@pytest.mark.parametrize("seed", range(30))
def test_whatever_stands_around_it_a_line_means_the_same(seed: int) -> None:
    """Prefixes and suffixes put together at random."""
    random = Random(seed)
    shape = random.choice(
        [
            one
            for one in SHAPES
            if "\n" not in one.text and one.text[:1] not in "{<[" and not one.more and "=" not in one.text.split('"')[0]
        ]
    )
    front = random.choice(
        ["", "web-1 | ", "<134>1 2031-05-01T07:00:00Z front web 17 - - ", "2031-05-01T07:00:00.5Z stdout F ", "[INFO] "]
    )
    behind = random.choice(["", " trace=abc", " req-17", " -"])
    plain, framed = (any_line({})(text.encode()) for text in (shape.text, front + shape.text + behind))
    same = ("at", "method", "target", "status", "address", "user", "referrer", "agent")
    assert [getattr(plain, name) for name in same] == [getattr(framed, name) for name in same]


@pytest.mark.parametrize("seed", range(5))
def test_the_quick_way_and_the_thorough_one_agree(seed: int) -> None:
    """Lines of the combined format are read by one expression: as they are read by what stands in them."""
    random = Random(seed)
    for _ in range(200):
        address = random.choice(["192.0.2.7", "2001:db8::7", "::ffff:192.0.2.9", "198.51.100.250"])
        user, status = random.choice(["-", "maren"]), random.choice(["200", "404", "-"])
        tail = random.choice(["", ' "-" "-"', ' "https://a.example/" "buoy/1 (x)"', ' "-" "b"'])
        request = random.choice(["GET /a HTTP/1.1", "POST /b?c=d HTTP/2.0", "GET /x", "HEAD / HTTP/1.0"])
        line = f'{address} - {user} [{T}] "{request}" {status} 5{tail}'
        assert text_line(line.encode())._replace(short=False) == any_text(line)


# From the list to the caller.

CHAINS = [
    ("192.0.2.7", (), "192.0.2.7"), ("10.0.0.1", ("192.0.2.7",), "192.0.2.7"), ("10.0.0.1", ("203.0.113.9", "192.0.2.7", "10.0.0.2"), "192.0.2.7"),
    ("198.51.100.1", ("192.0.2.7",), "198.51.100.1"), ("10.0.0.1", ("10.0.0.2",), "10.0.0.2"), (None, ("192.0.2.7", "10.0.0.2"), "192.0.2.7"),
]  # fmt: skip


@pytest.mark.parametrize(("address", "forwarded", "caller"), CHAINS)
def test_the_list_is_read_from_the_right(address: str | None, forwarded: tuple[str, ...], caller: str) -> None:
    assert Callers().of(LogEntry(0, "GET", "/", address=address, forwarded=forwarded)).address == caller


# Durations.


@pytest.mark.parametrize("seed", range(10))
def test_requests_came_before_they_were_logged(seed: int) -> None:
    """By as much as they took, in order, none lost, as brute force has it."""
    random = Random(seed)
    timed, at = [], 0
    for number in range(300):
        at += random.randrange(0, 2_000_000)
        timed.append(
            (at, LogEntry(at, "GET", f"/{number}", took=random.choice([None, 0, random.randrange(1, 50_000_000)])))
        )
    groups, rest = [], timed
    while rest:
        groups.append(rest[: (size := random.randrange(1, 9))])
        rest = rest[size:]
    found = [pair for group in arrivals(groups, "end", ImportStats()) for pair in group]
    assert [at for at, _ in found] == sorted(at for at, _ in found)
    assert sorted(one.target for _, one in found) == sorted(one.target for _, one in timed)
    wanted = {one.target: at - (one.took or 0) for at, one in timed}
    first = next(number for number, (_, one) in enumerate(timed) if one.took)
    late = {one.target for _, one in timed[: first + 8]}
    assert all(at == wanted[one.target] or one.target in late or at > wanted[one.target] for at, one in found)
    exact = sum(at == wanted[one.target] for at, one in found)
    assert exact > 280
    assert list(arrivals(groups, "start", ImportStats())) == groups


def log(**more: Any) -> str:
    rows = [
        '192.0.2.7 - - [01/May/2031:08:00:10.500 +0000] "GET /a HTTP/1.1" 200 5 "-" "-" 1.500',
        '192.0.2.7 - - [01/May/2031:08:00:11.000 +0000] "GET /b HTTP/1.1" 200 5 "-" "-" 0.100',
    ]
    return "\n".join(rows) + "\n"


@pytest.mark.parametrize(("logged", "times"), [("end", ["/a 0", "/b 1900000"]), ("start", ["/a 0", "/b 500000"])])
def test_arrivals_in_a_trace(usher: Usher, tmp_path: Path, logged: str, times: list[str]) -> None:
    outcome = usher("import", "a.log", "--into", "t.jsonl", "--logged-at", logged, a__log=log())
    assert outcome.status == 0, outcome.err
    rows = [json.loads(line) for line in (tmp_path / "t.jsonl").read_text().splitlines()]
    assert [f"{row['send'].split()[1]} {row['at'][:-2]}" for row in rows[1:]] == times
    assert rows[0]["starts"] == timestamp(
        moment("2031-05-01T08:00:09Z" if logged == "end" else "2031-05-01T08:00:10.5Z")
    )
    assert (
        "the first is taken for GET /a at 2031-05-01T08:00:10.5Z from 192.0.2.7, answered 200 after 1.5 s"
        in " ".join(outcome.out.split())
    )


SLOW = """patient-usher: pipeline/1
stages: [{id: late, kind: timeout, after: 2s}]
routes:
  - {id: a, at: GET /a, access: everyone, handler: {answer: {text: ok}, busy-for: 5ms}}
  - {id: b, at: GET /b, access: everyone, handler: {answer: {text: ok}}}
"""


@pytest.mark.parametrize(
    ("busy", "statuses", "took"),
    [
        ((), [200, 200, 200, 200], [0.005, 0.005, 0.005, 0]),
        (("--busy", "each"), [200, 200, 504, 504], [0.1, 0.3, 2.0, 2.0]),
        (("--busy", "median"), [200, 200, 200, 504], [0.3, 0.3, 0.3, 2.0]),
    ],
)
def test_what_a_timeout_would_have_cut_off(
    usher: Usher, tmp_path: Path, busy: tuple[str, ...], statuses: list[int], took: list[float]
) -> None:
    """Handlers are busy for what the log says: each its own, or the median of the route."""
    rows = [("/a", 0.1), ("/a", 0.3), ("/a", 9.0), ("/b", 4.0)]
    text = "".join(
        f'192.0.2.7 - - [01/May/2031:08:{n:02}:10.000 +0000] "GET {path} HTTP/1.1" 200 5 "-" "-" {took:.3f}\n'
        for n, (path, took) in enumerate(rows)
    )
    assert usher("import", "a.log", "--into", "t.jsonl", a__log=text).status == 0
    outcome = usher("replay", "p.yaml", "t.jsonl", *busy, "--into", "r.jsonl", p__yaml=SLOW)
    assert outcome.status == 0, outcome.err
    found = [json.loads(line) for line in (tmp_path / "r.jsonl").read_text().splitlines()]
    assert [row["status"] for row in found] == statuses
    assert [row["took"] for row in found] == took
    assert ("busy for: a 300 ms, b 4000 ms" in outcome.err) is (busy == ("--busy", "median"))


def test_busy_where_nothing_says_how_long(usher: Usher) -> None:
    trace = "patient-usher: trace/1\nrequests: [{id: a, send: GET /a}]\n"
    outcome = usher("replay", "p.yaml", "t.yaml", "--busy", "median", p__yaml=SLOW, t__yaml=trace)
    assert (outcome.status, "no request of this trace says how long it took" in outcome.err) == (2, True)


# Hosts, and what is wrong.


def test_several_hosts_are_told_and_chosen(usher: Usher, tmp_path: Path) -> None:
    text = "".join(
        f'{host} 192.0.2.{n} - - [{T}] "GET /{n} HTTP/1.1" 200 5\n'
        for n, host in enumerate(["a.example", "b.example", "A.example"])
    )
    told = usher("import", "a.log", "--into", "t.jsonl", a__log=text)
    assert "they are for several hosts (a.example 2, b.example 1); --host chooses" in told.out
    usher("import", "a.log", "--into", "t.jsonl", "--host", "a.example")
    assert len((tmp_path / "t.jsonl").read_text().splitlines()) == 3


def test_credentials_for_logged_callers(usher: Usher, tmp_path: Path) -> None:
    """By address, by agent, else the user whom the line names; who never comes is told."""
    text = "".join(
        f'192.0.2.{n} - {user} [{T}] "GET /{n} HTTP/1.1" 200 5 "-" "{agent}"\n'
        for n, user, agent in [(1, "-", "x"), (2, "-", "buoy/2"), (3, "jory", "x"), (4, "-", "y")]
    )
    more = (
        "--sign",
        "api-key",
        "--sign-as",
        "192.0.2.1=maren",
        "--sign-as",
        "agent:buoy=odile",
        "--sign-as",
        "192.0.2.9=maren",
    )
    outcome = usher("import", "a.log", "--into", "t.jsonl", *more, a__log=text)
    rows = [json.loads(line) for line in (tmp_path / "t.jsonl").read_text().splitlines()[1:]]
    assert [row.get("sign", {}).get("api-key") for row in rows] == ["maren", "odile", "jory", None]
    assert "no request comes from 192.0.2.9 (--sign-as)" in outcome.out


WRONG = [
    (("--sign-as", "192.0.2.1=maren"), "give --sign too"), (("--sign", "basic", "--sign-as", "maren"), "write ADDRESS=ACCOUNT"), (("--sign", "basic", "--sign-as", "agent:=maren"), "says not whose"),
    (("--pattern", "("), "this is no expression"), (("--pattern", "(?P<at>.)"), "these groups tell no request"), (("--pattern", "(?P<when>.)"), "'when' is nothing that is looked for"),
    (("--trusted", "nowhere"), "--trusted"), (("--fields", "when=x"), "'when=x' names no member"),
]  # fmt: skip


@pytest.mark.parametrize(("options", "words"), WRONG)
def test_what_cannot_be_read_so(usher: Usher, options: tuple[str, ...], words: str) -> None:
    outcome = usher("import", "a.log", "--into", "t.jsonl", *options, a__log=log())
    assert (outcome.status, words in outcome.err) == (2, True), outcome.err


def test_what_is_imported_twice_is_the_same(usher: Usher, tmp_path: Path) -> None:
    text = "".join(shape.text + "\n" for shape in SHAPES if "\n" not in shape.text and not shape.more)
    for name in ("one", "two"):
        assert usher("import", "a.log", "--into", f"{name}.jsonl", "--from", "log", a__log=text).status == 0
    assert (tmp_path / "one.jsonl").read_bytes() == (tmp_path / "two.jsonl").read_bytes()
    assert len((tmp_path / "one.jsonl").read_text().splitlines()) > 50
