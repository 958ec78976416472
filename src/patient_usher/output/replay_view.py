"""The replay for people: how far each request got, who answered, and whether that was expected.

Works on result records alone (and on the order of stages), so a saved result can be shown too.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import lru_cache

from patient_usher.core.model.document import Json
from patient_usher.core.model.enumerations import OUTCOMES, SLIPS
from patient_usher.core.verify.always import StatementTold
from patient_usher.core.verify.record import CacheRecord, Record
from patient_usher.output.outcome import SIGNS, STATEMENT_MARKS, Outcome, Shown, headline
from patient_usher.output.redactor import printable
from patient_usher.output.terminal import Line, Piece, cells, fit, line, line_width, squeezed, wrapped

SIGN_OF = {
    "continued": ("●", ""),
    "skipped": ("○", "dim"),
    "answered": ("◆", "answered"),
    "raised": ("▲", "raised"),
    "nothing": ("∞", "bad"),
    "answered-and-continued": ("◈", "bad"),
    "raised-out": ("▼", "raised"),
    "caught": ("◇", "caught"),
    "never": ("·", "dim"),
}
_WORDS, _LEAST_WORDS, _LEAST_URL, _LEAST_ID = 24, 6, 12, 8
"""How many cells the words behind the status take, and the least that each part is left with."""
LEGEND = "● passed on  ◆ answered  ▲ raised  ◇ caught it  ○ passed over  · never reached"
RARE = "∞ did nothing: the caller waits  ◈ answered, yet passed on  ▼ raised on the way out"


def staircase(names: list[str], title: list[Line], at: int, gap: str) -> Iterator[Line]:
    """Names above their columns, which begin at ``at``; lines of a title stand to the left."""
    for number, name in enumerate(names):
        left = (
            [Piece(fit(piece.text, at - 1).rstrip(), piece.style) for piece in title[number]]
            if number < len(title)
            else []
        )
        used = sum(len(piece.text) for piece in left)
        style = "name" if name in ("router", "handler") else ""
        bars = ("│" + gap) * number
        told = squeezed(name, max(line_width() - at - len(bars) - 2, _LEAST_WORDS))
        yield [*left, Piece(" " * max(at - used, 1)), Piece(bars, "dim"), Piece("┌ ", "dim"), Piece(told, style)]


def did_what(record: Record) -> dict[str, str]:
    """What each stage did, by the last word on it: a key of ``SIGN_OF``."""
    dids: dict[str, str] = {}
    for step in record.journey:
        stage, way, did = step.stage, step.way, step.did
        if way == "in" or did in ("caught", "nothing", "answered"):
            dids[stage] = did
        elif did == "raised":
            dids[stage] = "raised-out"
    return dids


class Burst:
    """Repetitions of one request: counted as they go by, so that a million take no more room than two.

    ``worst`` is the first of those with the gravest mark; ``first`` and ``last`` the first and the last at all.
    """

    def __init__(self, first: Shown) -> None:
        self.request_id = first.request_id
        self.first = self.last = self.worst = first
        self.tally: Counter[str] = Counter()
        self.begins: dict[str, float] = {}

    def add(self, send: Shown) -> None:
        """Count one, and remember the first with the gravest mark."""
        status = _status(send.final)
        self.last = send
        self.tally[status] += 1
        self.begins.setdefault(status, send.final.at)
        if _GRAVE.index(send.mark) > _GRAVE.index(self.worst.mark):
            self.worst = send


_GRAVE = ("none", "held", "slipped", "failed")


class ReplayTable:
    """One row a request, one column a stage."""

    def __init__(
        self,
        columns: list[str],
        order_of: Callable[[str | None], frozenset[str]],
        ids: list[str],
        requests: list[str],
        base: str = "",
    ) -> None:
        """``order_of`` gives the stages on a route's way; ``ids`` and ``requests`` set the widths.

        Of URLs that begin with ``base`` the path alone is shown.
        """
        self.columns = columns
        self.base = base
        self.order_of = order_of
        spare = line_width() - 2 - 1 - 2 - 2 - 3 - 1  # the sign, and what stands between the parts
        wide = len(columns) * 2 - 1
        self.gap = "" if len(columns) > 20 or wide > spare - _LEAST_ID - _LEAST_URL - _LEAST_WORDS else " "
        self.track_width = wide if self.gap else len(columns)
        spare -= self.track_width
        self.id_width = min(max([cells(id_) for id_ in ids] + [12]), 22)
        wanted = max([cells(text) for text in requests] + [40 - self.id_width])
        # The URL gives way first, then the id, then the words behind the status.
        self.request_width = max(min(wanted, spare - self.id_width - _WORDS), _LEAST_URL)
        self.id_width = max(min(self.id_width, spare - self.request_width - _WORDS), _LEAST_ID)
        self.seen: set[str] = set()
        self._track = lru_cache(maxsize=1024)(self._drawn)

    @property
    def track_at(self) -> int:
        """The column in which the track begins."""
        return 2 + self.id_width + 1 + self.request_width + 2

    def head(self, title: list[Line]) -> Iterator[Line]:
        """The stages' names above their columns, with the title beside them."""
        yield from staircase(self.columns, title, self.track_at, self.gap)

    def track(self, record: Record) -> list[Piece]:
        """How far an exchange got."""
        return self._track(record.route, tuple(did_what(record).items()))

    def _drawn(self, route: str | None, did: tuple[tuple[str, str], ...]) -> list[Piece]:
        dids, on_way = dict(did), self.order_of(route)
        reached = [at for at, name in enumerate(self.columns) if name in dids]
        last = max(reached, default=-1)
        slipped = next(
            (at for at, name in enumerate(self.columns) if dids.get(name) == "answered-and-continued"),
            len(self.columns),
        )
        pieces: list[Piece] = []
        for at, name in enumerate(self.columns):
            running = "╌" if at > slipped else "─"
            if name in dids:
                pieces.append(Piece(*SIGN_OF[dids[name]]))
                self.seen.add(dids[name])
            elif name in on_way:
                pieces.append(Piece(*SIGN_OF["never"]))
                self.seen.add("never")
            else:
                pieces.append(Piece(running if at < last else " ", "dim"))
            if self.gap and at < len(self.columns) - 1:
                pieces.append(Piece(("╌" if at >= slipped else "─") if at < last else " ", "dim"))
        return pieces

    def rows(self, send: Shown) -> Iterator[Line]:
        """One request: the mark, what was sent, how far it got, what came back and from whom.

        Preflights and redirects of its have rows of their own; of a long chain the middle is left out.
        """
        records, final = send.records, send.final
        sign, style = SIGNS[send.mark]
        picked = records if len(records) <= 5 else [*records[:3], records[-1]]
        for at, record in enumerate(picked):
            if len(records) > len(picked) and at == 3:
                yield line(f"    ... and {len(records) - len(picked)} more")
            if at == 0:
                mark = Piece(f"{sign} ", style)
                label = Piece(fit(send.id, self.id_width) + " ", "bad" if send.mark == "failed" else "")
            else:
                mark = Piece("  ")
                hop = record.id.partition("/")[2].replace("[", " ").rstrip("]")
                label = Piece(fit("→ " + (hop or "call"), self.id_width) + " ", "dim")
            yield self._row(mark, label, record)
        browser = final.browser
        told = any(check.what == "browser" and not check.ok for check in final.checks)
        if browser is not None and browser.verdict == "blocked" and not told:
            for part in wrapped(f"blocked ({browser.why}): {browser.reason}", 4):
                yield line("    ", (part, "raised"))

    def _row(self, mark: Piece, label: Piece, record: Record) -> Line:
        response = record.response
        room = line_width() - self.track_at - self.track_width - 6
        return [
            mark,
            label,
            Piece(fit(request_line(record, self.base), self.request_width) + "  "),
            *self.track(record),
            Piece("  " + (str(response.status) if response else "---"), status_style(record)),
            Piece(" " + fit(who(record), room).rstrip(), "dim" if record.outcome == "handled" else ""),
        ]

    def burst(self, burst: Burst) -> list[Line]:
        """Repetitions of one request in one line, and when the first of each status came."""
        first, last = burst.first.final, burst.last.final
        parts = [
            f"{count} × {status}" + (f" from {clock(burst.begins[status])}" if status != _status(first) else "")
            for status, count in burst.tally.most_common()
        ]
        sign, style = SIGNS[burst.worst.mark]
        bad = "bad" if burst.worst.mark == "failed" else ""
        label = Piece(fit(f"{burst.request_id} ×{burst.tally.total()}", self.id_width) + " ", bad)
        request = Piece(fit(request_line(first, self.base), self.request_width) + "  ")
        told = ", ".join(parts)
        row = [Piece(f"{sign} ", style), label, request, *self.track(last)]
        if len(told) <= line_width() - self.track_at - self.track_width - 2:
            return [[*row, Piece("  " + told)]]
        return [row, line(f"    {told}")]

    def legend(self) -> Iterator[Line]:
        """What the marks mean; the rare ones only where they were seen."""
        signs = {SIGN_OF[did][0] for did in self.seen}
        said = [part for part in f"{LEGEND}  {RARE}".split("  ") if part[0] in signs]
        for part in wrapped("  ".join(said).replace(" ", "\u00a0").replace("\u00a0\u00a0", "  ")) if said else ():
            yield line((part.replace("\u00a0", " "), "dim"))


def _status(record: Record) -> str:
    return str(record.response.status) if record.response else record.outcome


def status_style(record: Record) -> str:
    """The style of a status: well, refused, or broken."""
    if record.response is None:
        return "bad"
    status = record.response.status
    return "good" if status < 400 else "raised" if status < 500 else "bad"


def request_line(record: Record, base: str) -> str:
    """Method and target; scheme and host too, where they aren't the base's."""
    url = record.request.url
    if url.startswith(base + "/"):
        url = url.removeprefix(base)
    return f"{record.request.method} {url}"


def who(record: Record) -> str:
    """Who answered, and why, in a few words."""
    outcome, by, refused, why = record.outcome, record.answered_by, record.refused_by, record.why
    browser = record.browser
    if browser is not None and browser.verdict != "readable" and browser.why != "navigated":
        return f"{browser.verdict} to the page"
    if outcome in ("stalled", "abandoned", "not-sent", "redirect-loop", "from-caller-cache"):
        return str(outcome)
    if outcome == "answered-twice":
        return f"{by}; answered twice"
    if outcome == "crashed":
        return f"uncaught {record.errors[-1].type}"
    if refused is not None:
        return f"{refused}: {why}"
    if outcome in ("errored", "timed-out") and record.errors:
        return f"caught {record.errors[-1].type}"
    if record.caches:
        return f"{by} ({_cache_state(record.caches[-1])})"
    return str(by)


def _cache_state(cache: CacheRecord) -> str:
    state: str = cache.state.replace("-", " ")
    if cache.state == "hit":
        why = f", {cache.why}" if cache.why else ""
        return f"hit, {clock(cache.age or 0)} old{why}"
    return state + (", stored" if cache.stored and cache.state in ("miss", "stale") else "")


def clock(seconds: float) -> str:
    """Virtual seconds since the start, short."""
    if seconds >= 3600:
        whole = int(seconds)
        rest = f"{seconds - whole:.6f}"[1:].rstrip("0").rstrip(".") if seconds != whole else ""
        return f"{whole // 3600}:{whole % 3600 // 60:02}:{whole % 60:02}{rest}"
    return f"{seconds:.6f}".rstrip("0").rstrip(".") + "s"


def failures(record: Record) -> Iterator[Line]:
    """The checks that did not hold."""
    for check in record.checks:
        if not check.ok:
            wanted, got = printable(value_text(check.expected)), printable(value_text(check.actual))
            text = f"{check.what}: expected {wanted}, got {got}"
            if check.what == "browser":
                for part in wrapped(text, 4, "  "):
                    yield line("    ", (part, "bad"))
            elif len(text) <= line_width() - 4:
                yield line("    ", (text, "bad"))
            else:
                yield line("    ", (fit(f"{check.what}: expected {wanted}", line_width() - 4).rstrip(), "bad"))
                yield line("    ", (fit(f"{' ' * len(check.what)}  got      {got}", line_width() - 4).rstrip(), "bad"))


def complaints(send: Shown) -> Iterator[Line]:
    """What is wrong with a send: checks that did not hold, statements that it broke, slips that nobody expected."""
    yield from failures(send.final)
    for name in send.broken:
        yield line("    ", (f"breaks the invariant {name}", "bad"))
    if send.mark == "slipped":
        for record in send.records:
            if record.outcome in SLIPS:
                what = f"{record.id}: {record.outcome}, which nobody expected: {OUTCOMES[record.outcome]}"
                for part in wrapped(what, 4, "  "):
                    yield line("    ", (part, "bad"))


def value_text(value: Json) -> str:
    """A value as a sentence names it."""
    if value is None:
        return "nothing"
    if isinstance(value, str):
        return value if value.strip() else json.dumps(value)
    if isinstance(value, list) and all(isinstance(item, str) for item in value):
        return ", ".join(value) or "nothing"
    return json.dumps(value, ensure_ascii=False)


def counts(outcome: Outcome, savings: Sequence[str]) -> Iterator[Line]:
    """How many had which status, who answered them, and what the stages saved."""
    record = outcome.summary
    statuses = ", ".join(f"{count} × {status}" for status, count in record.by_status.items())
    answerers = ", ".join(f"{name} {count}" for name, count in record.by_answerer.items())
    texts = [f"statuses: {statuses}", f"answered by: {answerers}", *savings]
    for text in texts if statuses else ():
        yield from remark(text, "dim")


def summary(outcome: Outcome, first_failed: Sequence[str]) -> Iterator[Line]:
    """The last line: whether all was as expected."""
    record = outcome.summary
    sign, style = SIGNS[outcome.mark]
    text = headline(outcome)
    if record.failed:
        more = f" and {record.failed - len(first_failed)} more" if record.failed > len(first_failed) else ""
        text += f": {', '.join(first_failed)}{more}"
    for at, part in enumerate(wrapped(text, 2)):
        yield line((f"{sign} " if at == 0 else "  ", style), (part, style if style != "dim" else ""))


def statement_lines(statements: Iterable[StatementTold]) -> Iterator[Line]:
    """What became of each statement, a sentence with its sign."""
    for one in statements:
        sign, style = SIGNS[STATEMENT_MARKS[one.verdict]]
        for at, part in enumerate(wrapped(one.sentence, 2)):
            yield line((f"{sign} " if at == 0 else "  ", style), (part, style))


def remark(text: str, style: str) -> Iterator[Line]:
    """A remark below a table, on as many lines as it takes."""
    for part in wrapped(text.replace(" × ", "\u00a0×\u00a0"), 2, "  "):
        yield line((f"  {part}".replace("\u00a0", " "), style))
