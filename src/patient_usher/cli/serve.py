"""Answer real requests with the model: over HTTP/1.1 or TLS, in real time, for curl, a browser or a client under test.

What waits holds its connection, limits and sessions live on, and each request's row is printed when it is over.
Ctrl-C ends it.
"""

from __future__ import annotations

import gc
import sys
from argparse import ArgumentParser, ArgumentTypeError, Namespace
from collections import Counter
from pathlib import Path

from patient_usher.cli.arguments import count, duration, factor, outgoing, place, unusable
from patient_usher.cli.common import add_pipeline_arguments, pipeline_of
from patient_usher.cli.watching import Watched
from patient_usher.core.http.dates import timestamp
from patient_usher.core.http.urls import Url, parse_url
from patient_usher.core.model.document import JsonObject, Unusable
from patient_usher.core.model.text_types import parse_size
from patient_usher.core.model.words import counted
from patient_usher.core.verify.record import Record
from patient_usher.files.atomic_write import append_requests, write_whole
from patient_usher.files.lines import header_of
from patient_usher.files.observed_request import VISITOR, as_request
from patient_usher.files.secret_keeper import SecretKeeper
from patient_usher.files.yaml_reader import MAX_OCTETS, open_file, parse, read_text
from patient_usher.output import result
from patient_usher.output.journey import journey
from patient_usher.output.outcome import Shown, scene_of
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.replay_view import ReplayTable, complaints
from patient_usher.output.terminal import line, say, stdout_painter
from patient_usher.use_cases.serve import HOST, PATIENCE, PORT, Answers, Ended, Serving
from patient_usher.use_cases.session import collect_garbage
from patient_usher.wire.serving import Bounds

EXAMPLES = (
    "usher serve pipeline.yaml --watch",
    "usher serve pipeline.yaml --tls --as https://api.tern.example --append seen.yaml",
)
_LOOPBACK = ("127.", "::1", "localhost")
MOST_APPENDED = 5_000
"""How many requests a run adds to a trace: one that people read."""


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument(
        "--listen", metavar="HOST:PORT", type=place, default=(HOST, PORT),
        help=f"where to listen (default {HOST}:{PORT}); port 0 takes any that is free",
    )  # fmt: skip
    parser.add_argument("--tls", action="store_true", help="speak TLS, with a certificate made now")
    parser.add_argument(
        "--certificate", metavar="FILE", type=outgoing, help="write that certificate, for clients to trust"
    )
    parser.add_argument(
        "--as", dest="origin", metavar="URL", type=_origin, help="the origin that requests are taken to be for"
    )
    parser.add_argument("--faster", metavar="N", type=factor, default=1.0, help="time runs so many times as fast")
    parser.add_argument(
        "--patience", metavar="DURATION", type=duration, default=round(PATIENCE * 1_000_000),
        help=f"how long callers wait for an answer (default {PATIENCE:g}s)",
    )  # fmt: skip
    parser.add_argument(
        "--watch", action="store_true", help="when the pipeline's files change, go on with the new ones; state stays"
    )
    parser.add_argument(
        "--only-differing", action="store_true",
        help="with --watch: after a change, only rows of requests that are answered otherwise than before, or new",
    )  # fmt: skip
    parser.add_argument(
        "--append", metavar="TRACE", type=outgoing, help="add what came to this trace, with what happened as expected"
    )
    parser.add_argument("--details", action="store_true", help="each request's journey, too")
    parser.add_argument("--quiet", "-q", action="store_true", help="no rows")
    parser.add_argument(
        "--format", choices=["text", "jsonl"], default="text", help="text for people (default), or an exchange a line"
    )
    bounds = parser.add_argument_group("bounds")
    bounds.add_argument(
        "--at-once", metavar="N", type=count, default=Bounds().at_once,
        help="the most requests under way (default 1000); more are turned away with 503",
    )  # fmt: skip
    bounds.add_argument(
        "--body-at-most", metavar="SIZE", type=_size, default=Bounds().body,
        help="the largest body (default 16MiB); others are turned away with 413",
    )  # fmt: skip
    bounds.add_argument(
        "--within", metavar="DURATION", type=duration, default=30_000_000,
        help="until when a request has come in whole (default 30s); others are turned away with 408",
    )  # fmt: skip
    add_pipeline_arguments(parser, optional="default", env=False)


def _origin(text: str) -> Url:
    try:
        url = parse_url(text)
    except ValueError as error:
        raise ArgumentTypeError(f"'{text}' is no origin: {error}") from None
    if url.path != "/" or url.query:
        raise ArgumentTypeError(f"'{text}' has more than an origin; write {url.origin}")
    return url


def _size(text: str) -> int:
    try:
        return parse_size(text)
    except ValueError as error:
        raise ArgumentTypeError(str(error)) from None


def run(args: Namespace) -> int:
    """Serve until told to stop. Returns 0."""
    if args.only_differing and not args.watch:
        raise unusable(
            "--only-differing compares with what was before a change", "give --watch too", "--only-differing"
        )
    if args.certificate is not None and not args.tls:
        raise unusable("--certificate writes the one of --tls", "give --tls too", "--certificate")
    for option in ("details", "quiet"):
        if getattr(args, option) and args.format != "text":
            raise unusable(f"--{option} belongs to --format text", "leave it out", f"--{option}")
    host, port = args.listen
    bounds = Bounds(args.at_once, args.body_at_most, args.within / 1_000_000)
    _open_files(args.at_once + 100)
    desk = Console(args)
    watched = Watched(args.pipeline)
    with watched:
        pipeline = pipeline_of(args)
    serving = Serving(
        pipeline, host=host, port=port, tls=args.tls, origin=args.origin, faster=args.faster,
        patience=args.patience / 1_000_000, bounds=bounds, seed=args.seed,
        watched=not args.quiet or args.append is not None,
        on_ended=desk.ended, aside=desk.aside, on_ready=lambda: desk.open(serving), look=lambda: desk.look(watched),
    )  # fmt: skip
    if serving.certificate is not None and args.certificate is not None:
        write_whole(args.certificate, serving.certificate.pem.decode())
    if not host.startswith(_LOOPBACK):
        say(f"usher serve: {host} isn't this machine alone: whoever reaches it is answered")
    collect_garbage()
    try:
        serving.work()
    except KeyboardInterrupt:
        pass
    finally:
        desk.close()
        gc.freeze()  # whatever is left ends with the process: nobody needs to look through it
    return 0


def _open_files(wanted: int) -> None:
    """Let so many connections be open, as far as the system does."""
    try:
        import resource
    except ImportError:
        return
    soft, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (min(wanted, most) if most > 0 else wanted, most))


class Console:
    """What is printed and kept of a run, as ``args`` have it."""

    def __init__(self, args: Namespace, hint: str = "Ctrl-C ends it") -> None:
        self.args, self.hint, self.painter = args, hint, stdout_painter()
        self.table: ReplayTable | None = None
        self.serving: Serving | None = None
        self.answers = Answers() if args.watch else None
        self.changed = False
        self.statuses: Counter[str] = Counter()
        self.by: Counter[str] = Counter()
        self.broken: Counter[str] = Counter()
        self.trace = _Kept(args.append) if args.append is not None else None

    def open(self, serving: Serving) -> None:
        """It listens: say where, and above which columns its rows will stand."""
        self.serving = serving
        if self.trace is not None:
            self.trace.begin(serving, self.args.origin.origin if self.args.origin is not None else serving.url)
        if self.args.format != "text":
            say(f"serving {serving.pipeline.name} at {serving.url}; {self.hint}")
            return
        self._head()
        if serving.certificate is not None:
            self.painter.write([line((f"certificate, SHA-256: {serving.certificate.fingerprint}", "dim"))])
        sys.stdout.flush()

    def _head(self) -> None:
        assert self.serving is not None
        compiled = self.serving.pipeline
        on_way, base = compiled.on_way, self.args.origin.origin if self.args.origin is not None else self.serving.url
        self.table = ReplayTable(
            REDACTOR.redacted(compiled.columns()), lambda route: on_way.get(route, on_way[None]), [], ["x" * 30], base
        )
        scene = scene_of(compiled, [], self.args.seed)
        title = [
            line((scene.pipeline, "title")),
            line((f"at {self.serving.url}", "name")),
            line((self.hint, "dim")),
        ]
        if not self.args.quiet:
            self.painter.write(self.table.head(title))
        else:
            self.painter.write([line((scene.pipeline, "title"), f" at {self.serving.url}; {self.hint}")])

    def ended(self, ended: Ended) -> None:
        """One exchange is over."""
        x = ended.x
        self.statuses[str(x.answer.status) if x.answer is not None else x.outcome] += 1
        self.by[x.answered_by if x.answer is not None and x.answered_by else "nobody"] += 1
        self.broken.update(ended.broken)
        if self.trace is not None:
            self.trace.add(ended)
        if self.args.quiet:
            return
        record = REDACTOR.record(ended.record())
        if self.answers is not None and not self.answers.differs(record) and self.changed and self.args.only_differing:
            return
        if self.args.format == "jsonl":
            sys.stdout.buffer.write(result.dump(record) + b"\n")
        else:
            self._row(record, ended)
        sys.stdout.flush()

    def _row(self, record: Record, ended: Ended) -> None:
        assert self.table is not None
        label = f"{record.id[1:]} {timestamp(ended.x.at)[11:19]}"
        shown = Shown(label, record.id, [record], ended.mark, ended.broken)
        self.painter.write([*self.table.rows(shown), *complaints(shown)])
        if self.args.details:
            self.painter.write(journey(record, whole=True))

    def aside(self, words: str) -> None:
        """Something that never became an exchange."""
        self.statuses["in front of it"] += 1
        if not self.args.quiet:
            say(f"  {words}")

    def look(self, watched: Watched) -> None:
        """Every now and then: write what came, and see whether files have changed."""
        if self.trace is not None:
            self.trace.write()
        if self.args.watch and watched.changed():
            try:
                with watched:
                    pipeline = pipeline_of(self.args)
            except Unusable as error:
                for problem in error.problems:
                    say(str(problem))
                say("  the pipeline before it goes on")
                return
            assert self.serving is not None
            self.serving.go_on_as(pipeline)
            self.changed = True
            if self.answers is not None:
                self.answers.change()
            if self.args.format == "text":
                self._head()
                self.painter.write([line(("changed; limits, sessions, records and caches stay", "dim"))])
                sys.stdout.flush()

    def close(self) -> None:
        """What it came to."""
        if self.trace is not None:
            self.trace.write()
            for words in self.trace.told():
                say(words)
        if self.args.format != "text":
            return
        total = self.statuses.total()
        statuses = ", ".join(f"{times} × {status}" for status, times in self.statuses.most_common())
        by = ", ".join(f"{name} {times}" for name, times in self.by.most_common(8))
        lines = [[], *(self.table.legend() if self.table is not None and not self.args.quiet and total else ())]
        lines += [[]] if lines[1:] else []
        if by:
            lines.append(line((f"  answered by: {REDACTOR.redacted(by)}", "dim")))
        lines += [line((f"  breaks the invariant {name}: {times} ×", "bad")) for name, times in self.broken.items()]
        sign = ("✗ ", "bad") if self.broken else ("• ", "dim")
        lines.append(line(sign, f"{counted(total, 'request')}{f': {statuses}' if statuses else ''}"))
        self.painter.write(lines)


class _Kept:
    """The trace that what came is added to."""

    def __init__(self, path: Path) -> None:
        """Raises Unusable where it is there and is none."""
        self.path, self.keeper = path, SecretKeeper()
        self.rows: list[JsonObject] = []
        self.written = self.left = 0
        self.there: JsonObject | None = None
        if path.exists():
            with open_file(path) as stream:
                if header_of(stream.readline(MAX_OCTETS)) is not None:
                    raise unusable(
                        "this is a trace in JSON Lines", "name one in YAML or JSON, or a new file", str(path)
                    )
            found = parse(read_text(path), str(path))
            append_requests(path, [])
            self.there = found if isinstance(found, dict) else {}

    def begin(self, serving: Serving, base: str) -> None:
        """From when its times count, and of what its URLs are."""
        self.serving, self.base, self.starts = serving, base, serving.starts
        self.taken: set[str] = set()
        if self.there is None:
            header = {"patient-usher": "trace/1", "starts": timestamp(self.starts), "base": base}
            text = "".join(f"{key}: {value}\n" for key, value in header.items())
            write_whole(self.path, f"{text}callers: {{{VISITOR}: {{cookies: keep}}}}\nrequests: []\n")
            return
        self.taken = {str(entry.get("id")) for entry in self.there.get("requests") or () if isinstance(entry, dict)}
        self.base = str(self.there.get("base", base))

    def add(self, ended: Ended) -> None:
        """One exchange; not one whose caller left before it was over."""
        if ended.x.outcome == "abandoned" or self.written + len(self.rows) >= MOST_APPENDED:
            self.left += 1
            return
        row = as_request(ended.x, self.serving.pipeline, self.keeper, self.base, self.starts)
        if self.there is not None:  # its own times count from another start
            del row["at"]
            if VISITOR not in (self.there.get("callers") or {}):
                row.pop("caller", None)
        while row["id"] in self.taken:
            row["id"] += "-2"
        self.taken.add(row["id"])
        self.rows.append(row)

    def write(self) -> None:
        """Add what has come since."""
        if self.rows:
            rows, self.rows = sorted(self.rows, key=lambda row: int(row["id"][1:].split("-")[0])), []
            append_requests(self.path, REDACTOR.redacted(rows))
            self.written += len(rows)

    def told(self) -> list[str]:
        """What became of it, in words."""
        count = counted(self.written, "request")
        left = [f"  {self.left:,} were left out: their callers left, or it is full"] if self.left else []
        return [f"wrote {count} to {self.path}", *left, *(f"  {words}" for words in self.keeper.told())]
