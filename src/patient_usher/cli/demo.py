"""Run the story of a made-up harbour: no files, no options needed. Further chapters by name."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from contextlib import chdir
from functools import cache
from pathlib import Path
from typing import NamedTuple

from patient_usher import demo
from patient_usher.cli.common import admitted
from patient_usher.cli.replaying import Tally, TextReport
from patient_usher.files.har import AS_IT_IS, HarOptions
from patient_usher.files.trace import Trace
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Line, Painter, line, stdout_painter
from patient_usher.use_cases.compare import records_of, session
from patient_usher.use_cases.rows_file import RowsFile
from patient_usher.use_cases.session import Pipeline, load

FOLDER = Path(demo.__file__).parent
SERVICE = "landing_service.py"


class ChapterPart(NamedTuple):
    """One replay of a chapter, and what is said before it."""

    says: str
    pipeline: str
    trace: str
    """Nothing: the pipeline is checked. A dollar: what stands for the pipeline is a command, run beside its files.
    An at sign: the pipeline is served, and real requests are sent to it."""
    as_it_should: bool = True
    """Whether all expectations hold; a mistake is shown by some that don't."""
    against: str = ""
    """Another pipeline: shown is what changes from the first to this one."""


# Chapter -> (what it is about, its parts).
CHAPTERS: dict[str, tuple[str, list[ChapterPart]]] = {
    "story": (
        "stages, refusals, errors, the two classic slips, and a mistake in the order",
        [
            ChapterPart("A pipeline, and requests walked through it. Each row is one request, each column one stage.", "harbour.yaml", "story.yaml"),
            ChapterPart(
                "The same requests, and one mistake in the order: authentication stands outside the error handler. "
                "The rows with a cross show what it breaks; the journey shows where.",
                "mistaken.yaml", "story.yaml", False,
            ),
        ],
    ),
    "quay": (
        "sign-up to sign-out by token and by cookie, bodies, field errors, maintenance",
        [ChapterPart("A day on the quay, from sign-up to closing time.", "quay.yaml", "quay-story.yaml")],
    ),
    "flows": (
        "the same harbour where stages run one after the other, and errors skip forward",
        [
            ChapterPart("In a sequential flow the error handler stands last: every error skips forward to it.", "sequential.yaml", "story.yaml"),
            ChapterPart("With nested habits it stands first, where no error ever comes past.", "sequential-mistaken.yaml", "story.yaml", False),
        ],
    ),
    "leak": (
        "a server without an error handler that tells strangers what failed, and its mend",
        [
            ChapterPart("Nobody catches, and the server says what it was: names, files and a password.", "leaking.yaml", "leaking-story.yaml", False),
            ChapterPart("The mend: the safety net answers for all of it, and the log has the rest.", "harbour.yaml", "leaking-story.yaml"),
        ],
    ),
    "front": (
        "HTTPS only behind a front that ends TLS: the loop, and the mend",
        [
            ChapterPart("The front passes plain HTTP on, so everyone is sent round in a loop.", "front.yaml", "front-story.yaml", False),
            ChapterPart("The mend: the service believes what the front says of the caller.", "front-believed.yaml", "front-story.yaml"),
        ],
    ),
    "pages": (
        "a page's calls, and five ways in which a browser blocks them",
        [
            ChapterPart("A page reads the tides and books a berth; another page may not.", "boaters.yaml", "boaters-story.yaml"),
            *(
                ChapterPart(f"Blocked, number {number}. The sentences name the stage and the mend.", f"boaters-blocked-{number}.yaml", "boaters-story.yaml", False)
                for number in range(1, 6)
            ),
        ],
    ),
    "return": (
        "coming back from another site, a forged form, and what SameSite has to do with both",
        [
            ChapterPart("Lax: the link back from another site takes the session along, the strangers' form doesn't.", "return.yaml", "return-story.yaml"),
            ChapterPart("Strict: whoever comes back from another site is signed out.", "return-strict.yaml", "return-story.yaml", False),
            ChapterPart("None: the strangers' form is as good as hers.", "return-none.yaml", "return-story.yaml", False),
        ],
    ),
    "compare": (
        "what changes between an order and a mistaken one",
        [
            ChapterPart("The order and the mistaken one: which requests change, and where their ways part.", "harbour.yaml", "story.yaml", False, "mistaken.yaml"),
            ChapterPart("The shelf in its place and in front of authentication: a copy gets into other hands.", "shelf.yaml", "shelf-story.yaml", False, "shelf-leaking.yaml"),
        ],
    ),
    "check": (
        "mistakes found without any trace, each with the request that shows it and its mend",
        [
            ChapterPart("Nobody wrote a request: the check tried some, and this one proves what is wrong.", "mistaken.yaml", ""),
            ChapterPart("A copy that gets into other hands takes two requests.", "shelf-leaking.yaml", ""),
            ChapterPart("The order as it should be: what is accepted on purpose stays in sight.", "harbour.yaml", ""),
        ],
    ),
    "limits": (
        "rate limits of several kinds, timeouts, instances, and where identity matters",
        [
            ChapterPart("Bursts, fairness, guessing, too many at once, too slow.", "limits.yaml", "limits-story.yaml"),
            ChapterPart("The same on three instances, each counting for itself.", "limits-instances.yaml", "limits-story.yaml", False),
            ChapterPart("The fair share in front of authentication: all callers count as one.", "limits-misplaced.yaml", "limits-story.yaml", False),
        ],
    ),
    "shelf": (
        "caching, conditional requests, compression, and an answer that leaks",
        [
            ChapterPart("Asking twice: the proof of a cache is whether the handler ran again.", "shelf.yaml", "shelf-story.yaml"),
            ChapterPart("In front of authentication the cache gives one caller's answer to another.", "shelf-leaking.yaml", "shelf-story.yaml", False),
        ],
    ),
    "workshop": (
        "two parsers in a row, a gate in two places, a server that hangs up",
        [
            ChapterPart("Bodies of two sorts, answers of one's own, a token and a cookie from one desk.", "workshop.yaml", "workshop-story.yaml"),
            ChapterPart("A variant that adds two stages: what changes.", "workshop.yaml", "workshop-story.yaml", False, "workshop-looser.yaml"),
        ],
    ),
    "traffic": (
        "a busy day's log: who hurts us, which quota would stop them, which lifetime saves most",
        [
            ChapterPart("A log's first 8,000 requests become a trace: what came within a second is spread over it.", "import busy.log --into busy.jsonl --first 8000", "$"),
            ChapterPart("Replayed: who came, what became of it, what the shelf saved.", "replay busy.yaml busy.jsonl", "$"),
            ChapterPart(
                "Which quota stops the one who hurts us, and nobody else?",
                "sweep busy.yaml busy.jsonl --try throttle.quota=20,60,120 --goal 'refused(address=203.0.113.9) > 0.8 and refused(others) == 0'", "$",
            ),
            ChapterPart("Which lifetime saves the handlers most?", "sweep busy.yaml busy.jsonl --try routes.tides.cache.shared=1s,10s,10m", "$"),
        ],
    ),
    "serve": (
        "the harbour as a service: real requests over HTTP, a row for each as it is over",
        [ChapterPart("The model answers whoever calls. Here seven calls over HTTP, in this process: usher serve harbour.yaml", "harbour.yaml", "@")],
    ),
    "drift": (
        "a real service held against its model: one that agrees, one with three mistakes",
        [
            ChapterPart(
                "Requests go to the model and to a service; the second status is the service's. This one does what its model says.",
                "drift landing.yaml landing-story.yaml --app landing_service:agreeing --trust python", "$",
            ),
            ChapterPart(
                "The same service, written in a hurry: authentication outside CORS, no rights asked, another quota.",
                "drift landing.yaml landing-story.yaml --app landing_service:drifted --trust python", "$", False,
            ),
        ],
    ),
    "recording": (
        "a model held against a real browser's recording",
        [ChapterPart("Every request of the recording, with the status that was recorded as what is expected.", "recorded.yaml", "harbour.har")],
    ),
}  # fmt: skip

NEXT = """\
What you have seen: which stages each request went through, who answered it and why, the two
classic slips, and a mistake in the order found by requests that have to hold.

Next, in a folder of your own:
  usher demo --copy harbour                                       the files behind this
  usher replay harbour/harbour.yaml harbour/story.yaml --only engine-room
  usher replay harbour/harbour.yaml harbour/story.yaml --only engine-room -e development
  usher send harbour/harbour.yaml GET /v1/harbour/ledger --sign bearer:odile
  usher check harbour/mistaken.yaml                               what is wrong with it, proved
  usher init mine                                                 a pipeline of your own

More chapters, each with usher demo CHAPTER:"""


EXAMPLES = ("usher demo", "usher demo --copy harbour")


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.epilog = "chapters:\n" + "\n".join(f"  {name:<10} {about}" for name, (about, _) in CHAPTERS.items())
    parser.add_argument(
        "chapter",
        metavar="CHAPTER",
        nargs="?",
        choices=list(CHAPTERS),
        default="story",
        help="one of those below (default: story)",
    )
    parser.add_argument(
        "--copy", metavar="FOLDER", type=Path, help="write the demo's files into a folder, to play with"
    )


def run(args: Namespace) -> int:
    """Show a chapter. Returns 0 where it went as it should."""
    if args.copy is not None:
        return _copy(args.copy)
    painter = stdout_painter()
    status = 0
    parts = CHAPTERS[args.chapter][1]
    for number, part in enumerate(parts, 1):
        painter.write(
            [*([[]] if number > 1 else []), *_said(f"{number}  {part.says}" if len(parts) > 1 else part.says), []]
        )
        with chdir(FOLDER):  # files are named as a copy has them
            if (_report(painter, part) == 0) is not part.as_it_should:
                status = 3
    if args.chapter == "story":
        painter.write(
            [[], *(line((text, "title" if number < 2 else "")) for number, text in enumerate(NEXT.splitlines()))]
        )
        painter.write(line(f"  {name:<10} {about}") for name, (about, _) in CHAPTERS.items() if name != "story")
    return status


def _said(text: str) -> list[Line]:
    import textwrap

    return [line((part, "title")) for part in textwrap.wrap(text, 98, subsequent_indent="   ")]


def _report(painter: Painter, part: ChapterPart) -> int:
    if part.against:
        return _compared(painter, part)
    if not part.trace:
        return _checked(painter, part)
    if part.trace == "$":
        return _commanded(painter, part.pipeline)
    if part.trace == "@":
        return _served(part.pipeline)
    pipeline = _loaded(part.pipeline)
    har = HarOptions(sign="same:maren", expect_recorded=True) if part.trace.endswith(".har") else AS_IT_IS
    found = session(pipeline, [Trace.read(Path(part.trace), har=har)])
    tally = Tally(found, strict=False, keeps=False)
    for run_state, trace in found.run_states():
        TextReport(painter, found, tally, RowsFile(None), journeys=1, mentions=True).run(run_state, trace)
    return 1 if tally.failed else 0


def _loaded(name: str) -> Pipeline:
    return admitted(load(name).compiled)


def _compared(painter: Painter, part: ChapterPart) -> int:
    from patient_usher.output.comparison import compared_of, comparison_lines

    trace = Trace.read(Path(part.trace))
    first, second = (
        [REDACTOR.record(record) for record in records_of(session(_loaded(name), [trace]))]
        for name in (part.pipeline, part.against)
    )
    compared = compared_of((part.pipeline, part.against), first, second)
    painter.write(comparison_lines(compared))
    return 1 if compared.comparison.changed else 0


KEY = {"X-Harbour-Key": "marens-made-up-key"}
CALLS = [
    ("GET", "/v1/tides?station=tern", {}), ("GET", "/v1/berths/T07", {}), ("GET", "/v1/berths/T07", KEY),
    ("POST", "/v1/berths/T12/bookings", KEY), ("GET", "/v1/weather", {}), ("POST", "/v1/fuel/orders", KEY), ("GET", "/health", {}),
]  # fmt: skip
"""What is asked of the pipeline that the chapter ``serve`` serves."""


def _served(name: str) -> int:
    """Serve a pipeline at a port that is free, and call it over HTTP. Returns 0 where every call was answered."""
    from time import monotonic, sleep

    import httpx

    from patient_usher.cli.arguments import Parser
    from patient_usher.cli.serve import Console, add_arguments
    from patient_usher.use_cases.serve import served

    parser = Parser()
    add_arguments(parser)
    desk = Console(parser.parse_args([name]), "for this demo")
    with served(_loaded(name), on_ended=desk.ended, aside=desk.aside) as serving:
        desk.open(serving)
        with httpx.Client(base_url=serving.url, trust_env=False) as client:
            answered = [client.request(method, path, headers=headers) for method, path, headers in CALLS]
        ends = monotonic() + 5
        while desk.statuses.total() < len(CALLS) and monotonic() < ends:
            sleep(0.01)
    desk.close()
    return 0 if len(answered) == len(CALLS) else 1


def _commanded(painter: Painter, command: str) -> int:
    """Run a command in a folder of its own that has the busy day's log, and a service."""
    import shlex
    import sys
    import textwrap

    from patient_usher.cli import main

    folder = _workplace()
    parts = textwrap.wrap(f"$ usher {command}", 96, subsequent_indent="    ", break_on_hyphens=False)
    painter.write([*(line((part + (" \\" if part is not parts[-1] else ""), "field")) for part in parts), []])
    sys.stdout.flush()
    with chdir(folder):
        return main(shlex.split(command))


@cache
def _workplace() -> Path:
    from atexit import register
    from shutil import copy, rmtree
    from tempfile import mkdtemp

    folder = Path(mkdtemp(prefix="usher-demo-"))
    register(rmtree, folder, ignore_errors=True)
    for name in ("busy.yaml", "landing.yaml", "landing-story.yaml", SERVICE):
        copy(FOLDER / name, folder)
    (folder / "busy.log").write_text(_busy_log(), encoding="utf-8")
    return folder


def _busy_log() -> str:
    from patient_usher.demo.busy_day import lines

    return "".join(f"{line}\n" for line in lines())


def _checked(painter: Painter, part: ChapterPart) -> int:
    from patient_usher.output import findings
    from patient_usher.use_cases.check import check

    painter.write(findings.told(check(_loaded(part.pipeline)), command=f"usher check {part.pipeline}"))
    return 0


def _copy(folder: Path) -> int:
    from patient_usher.cli.init import write_new

    names = sorted(path.name for path in FOLDER.iterdir() if path.suffix in (".yaml", ".har", ".csv", ".jsonl"))
    names.append(SERVICE)
    texts = {name: (FOLDER / name).read_text(encoding="utf-8") for name in names}
    write_new(folder, {**texts, "busy.log": _busy_log()})
    print(f"wrote {', '.join(names)} to {folder}")
    return 0
