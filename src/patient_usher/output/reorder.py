"""Which stages may swap: as a matrix and a list for people, as a picture, and as one JSON document."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path

from patient_usher.core.model.document import JsonObject
from patient_usher.core.model.words import counted
from patient_usher.core.questions.compare import KINDS
from patient_usher.core.questions.reorder.discriminate import Apart
from patient_usher.core.questions.reorder.swaps import VERDICTS, SwapPair
from patient_usher.core.variants.orders import Found
from patient_usher.core.verify.document_types import (
    ApartRecord,
    FoundOrder,
    OrderClass,
    PairRecord,
    Reorder,
    RequestDocument,
)
from patient_usher.core.verify.record import Record
from patient_usher.output.comparison import Compared, worked
from patient_usher.output.figure import SIZE, drawing, drawn
from patient_usher.output.noticed import noticed
from patient_usher.output.terminal import Line, Piece, line, line_width, wrapped
from patient_usher.output.yaml_snippet import yaml_of

MARKS = {"free": ("○", "good"), "fields": ("◇", "field"), "must-not": ("✗", "bad"), "mends": ("✓", "good")}
MOST_CLASSES = 12
_SUMMED = {"must-not": "must not swap", "mends": "would mend", "fields": "in fields only", "free": "may swap freely"}


def document(
    pairs: Sequence[SwapPair],
    found: Found | None,
    replays: int,
    apart: Apart | None = None,
    requests: Sequence[RequestDocument] = (),
    before: Sequence[Record] = (),
) -> Reorder:
    """As JSON says it; ``requests`` are those that tell orders apart, ``before`` the records of the present order."""
    order = found.order if found is not None else None
    return Reorder(
        replays=replays,
        pairs=[
            PairRecord(p.a, p.b, p.verdict, p.changed, len(p.broken), len(p.mended), _notices(p, before), p.example)
            for p in pairs
        ],
        found=FoundOrder(list(order), found.moves, found.exact) if found and order else None,
        conflict=list(found.conflict) if found is not None else [],
        never=list(found.never) if found is not None else [],
        whole=found.whole if found is not None else True,
        apart=_apart(apart, requests) if apart is not None else None,
    )


def _apart(apart: Apart, requests: Sequence[RequestDocument]) -> ApartRecord:
    classes = [OrderClass(one.orders, list(one.example), list(one.before), list(one.answers)) for one in apart.classes]
    return ApartRecord(apart.orders, apart.exact, list(apart.notes), list(apart.equal), classes, list(requests))


def told(title: str, order: Sequence[str], pairs: Sequence[SwapPair], before: Sequence[Record]) -> Iterator[Line]:
    """The worst swap worked through, a list of pairs by verdict, and their matrix."""
    yield line((title, "title"))
    worst = _worst(pairs)
    if worst is not None and worst.example is not None:
        yield []
        head = f"── {worst.a} and {worst.b} swapped: {worst.example} "
        yield line((head + "─" * max(line_width() - len(head), 0), "dim"))
        if any(worst.example in group.ids for group in worst.comparison.groups):
            names = ("as it is", f"{worst.a} and {worst.b} swapped")
            yield from worked(Compared(names, before, worst.swapped, worst.comparison), worst.example)
        yield []
    yield from _listed(pairs, before)
    if len(pairs) > len(order):
        yield []
        yield from _matrix(order, pairs)


def _notices(pair: SwapPair, before: Sequence[Record]) -> str | None:
    """What whoever calls notices of a swap, in one sentence."""
    was, is_ = (next((one for one in records if one.id == pair.example), None) for records in (before, pair.swapped))
    return noticed(is_, was, "as it is") if was is not None and is_ is not None else None


def _worst(pairs: Sequence[SwapPair]) -> SwapPair | None:
    """The swap with the gravest change."""
    kinds = list(KINDS)

    def grave(pair: SwapPair) -> tuple[int, int]:
        return min((kinds.index(one.kind) for one in pair.comparison.differs), default=99), -len(pair.broken)

    shown = [pair for pair in pairs if pair.example is not None]
    return min(shown, key=grave) if shown else None


def _matrix(order: Sequence[str], pairs: Sequence[SwapPair]) -> Iterator[Line]:
    verdicts = {(pair.a, pair.b): pair.verdict for pair in pairs}
    width = max(map(len, order)) + 2
    for row, first in enumerate(order[:-1]):
        pieces = [Piece(f"  {first:<{width}}", "name"), Piece("  " * row)]
        for second in order[row + 1 :]:
            mark, style = MARKS[verdicts[first, second]]
            pieces.append(Piece(f"{mark} ", style))
        yield pieces
    for row, name in enumerate(order[1:]):
        yield line(" " * (width + 2) + "  " * row, (f"└ {name}", "dim"))
    legend = [Piece("  ")]
    for verdict, words in VERDICTS.items():
        mark, style = MARKS[verdict]
        legend += [Piece(mark, style), Piece(f" {words}   ", "dim")]
    yield legend


def _listed(pairs: Sequence[SwapPair], before: Sequence[Record]) -> Iterator[Line]:
    width = max([len(pair.a) + len(pair.b) + 7 for pair in pairs] + [20])
    for verdict in ("must-not", "mends", "fields", "free"):
        chosen = [pair for pair in pairs if pair.verdict == verdict]
        mark, style = MARKS[verdict]
        if chosen:
            yield line((f"{mark} {VERDICTS[verdict]}", style))
        for pair in chosen:
            name = f"  {pair.a} – {pair.b}"
            for at, part in enumerate(wrapped(_consequence(pair, before), width)):
                yield line(f"{'' if at else name:<{width}}", (part, "dim"))


def _consequence(pair: SwapPair, before: Sequence[Record]) -> str:
    if not pair.changed and not pair.broken:
        return "nothing changes"
    seen = _notices(pair, before)
    parts = [f"{counted(pair.changed, 'request')} change{'s' if pair.changed == 1 else ''}"]
    if pair.mended:
        parts.append(f"mends {len(pair.mended)}")
    if pair.broken:
        parts.append(f"{len(pair.broken)} not as expected")
    of = [one for one in pair.comparison.differs if one.id == pair.example and one.kind != "order"]
    if of:
        parts.append(f"{KINDS[of[0].kind]} of {pair.example}")
    elif pair.broken:
        parts.append(f"what {pair.example} expects")
    return (f"{seen} " if seen else "") + ", ".join(parts)


def summary(pairs: Sequence[SwapPair], replays: int) -> Iterator[Line]:
    """How many pairs may swap, and how many mustn't."""
    counts = Counter(pair.verdict for pair in pairs)
    told = ", ".join(f"{counts[verdict]} {words}" for verdict, words in _SUMMED.items() if counts[verdict])
    yield []
    yield line(("• ", "dim"), f"{counted(len(pairs), 'pair')}: {told}", (f"; {replays:,} replays", "dim"))


def search_told(present: Sequence[str], found: Found) -> Iterator[Line]:
    """What a search for an order came to."""
    yield []
    if found.order is not None:
        yield from _wrapped(" → ".join(found.order), "name")
        count = counted(found.moves, "move") if found.moves else "no move"
        sure = "every order with fewer was tried" if found.exact else "there are too many orders to try all"
        yield line(
            ("✓ ", "good"), f"this order has all of it: {count}", (f"; {sure}; {found.replays:,} replays", "dim")
        )
    elif not found.whole:
        more = f"--budget N replays more than these {found.replays:,} times"
        none = "no order has all of it; what conflicts wasn't found" if found.exact else "no order was found"
        yield line((f"✗ {none} before the budget was used up", "bad"), (f"; {more}", "dim"))
    elif found.exact:
        yield from _wrapped(f"a smallest set that no order meets: {', '.join(found.conflict)}")
        if found.never:
            yield from _wrapped(f"what no order meets by itself: {', '.join(found.never)}")
        yield line(("✗ no order has all of it", "bad"), (f"; {found.replays:,} replays", "dim"))
    else:
        words = f"{len(present)} stages have too many orders: searched up to two moves away, {found.replays:,} replays"
        yield line(("✗ no order was found", "bad"), (f"  {words}", "dim"))


def _wrapped(text: str, style: str = "") -> Iterator[Line]:
    for part in wrapped(text, 2):
        yield line((f"  {part}", style))


def apart_told(title: str, apart: Apart) -> Iterator[Line]:
    """The requests that tell orders apart, with a table of answer against order."""
    yield line((title, "title"))
    count = len(apart.classes)
    yield []
    letters = [_letter(number) for number in range(min(count, MOST_CLASSES))]
    rows = [
        (
            f"{number}. {_request(scenario.requests[-1])}",
            [one.answers[number - 1] for one in apart.classes[:MOST_CLASSES]],
        )
        for number, scenario in enumerate(apart.requests, 1)
    ]
    cells = max([len(cell) for _, row in rows for cell in row] + [3])
    room = max(line_width() - (cells + 2) * len(letters), 24)
    if rows:
        yield line(" " * room, ("".join(f"{letter:>{cells + 2}}" for letter in letters), "name"))
    for name, row in rows:
        told = name if len(name) <= room else f"{name[: room - 1]}…"
        yield line(f"{told:<{room}}", *((f"{cell:>{cells + 2}}", _style(cell)) for cell in row))
    for (name, _), note in zip(rows, apart.notes, strict=True):
        more = f" (a letter more says that {note} is another)" if note else ""
        if note or len(name) > room:
            for part in wrapped(f"{name}{more}", indent="   "):
                yield line((part, "dim"))
    yield []
    for letter, one in zip(letters, apart.classes, strict=False):
        times = counted(one.orders, "order")
        yield line((f"{letter}  ", "name"), " → ".join(one.example), (f"  {times}", "dim"))
        if one.orders > 1 and one.before:
            told = ", ".join(f"{a} before {b}" for a, b in _needed(one.before))
            for part in wrapped(f"always {told}", 4):
                yield line(("    " + part, "dim"))
    if count > MOST_CLASSES:
        yield line((f"and {count - MOST_CLASSES} more sorts; --format json has them all", "dim"))
    if apart.equal:
        yield []
        pairs = ", ".join(f"{a} and {b}" for a, b in apart.equal)
        yield from _wrapped(f"equal in what was tried, whichever comes first: {pairs}")
    requests = counted(len(apart.requests), "request") if apart.requests else "no request"
    words = f"{requests} for {counted(count, 'sort')} of orders that can be told apart"
    words += "" if apart.exact else ", as far as was looked"
    yield []
    yield line(("• ", "dim"), words, (f"; {apart.orders:,} orders, {apart.tried:,} replays", "dim"))


def _needed(pairs: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
    """The pairs from which the others follow."""
    known = {*pairs}
    names = {name for pair in pairs for name in pair}
    return [(a, b) for a, b in pairs if not any((a, c) in known and (c, b) in known for c in names)]


def _letter(number: int) -> str:
    return chr(ord("A") + number)


def _style(cell: str) -> str:
    return "good" if cell.startswith("2") else "bad" if cell.startswith(("5", "none")) else "raised"


def _request(request: JsonObject) -> str:
    extra = {key: value for key, value in request.items() if key not in ("send", "id")}
    told = yaml_of([extra], deep=0).strip().strip("[]{}\n") if extra else ""
    return f"{request['send']}{'  ' + ' '.join(told.split()) if told else ''}"


def trace_of(apart: Apart, base: str) -> JsonObject:
    """The requests as a trace, to be sent to the real service."""
    requests = list(apart.trace.requests)
    return {"patient-usher": "trace/1", "name": "which order is it?", "base": base, "requests": requests}


def picture(path: Path, title: str, order: Sequence[str], pairs: Sequence[SwapPair]) -> bytes:
    """The matrix as a picture, PNG or SVG by the file's name: shapes as well as colours say the verdict."""
    pyplot = drawing()
    shapes = {
        "free": ("o", "#4d7a3a"),
        "fields": ("D", "#b58900"),
        "must-not": ("X", "#a40e26"),
        "mends": ("P", "#1f6f8b"),
    }
    count = len(order)
    figure, axes = pyplot.subplots(**SIZE)
    at = {name: number for number, name in enumerate(order)}
    for verdict, (shape, colour) in shapes.items():
        chosen = [pair for pair in pairs if pair.verdict == verdict]
        xs, ys = [at[pair.b] for pair in chosen], [at[pair.a] for pair in chosen]
        axes.scatter(xs, ys, s=900 if count < 10 else 400, marker=shape, color=colour, label=VERDICTS[verdict])
    for pair in pairs:
        if pair.changed:
            offset = (at[pair.b], at[pair.a] + 0.38)
            axes.annotate(str(pair.changed), offset, ha="center", va="center", fontsize=11)
    axes.set_xticks(range(count), order, rotation=30, ha="left", fontsize=12)
    axes.set_yticks(range(count), order, fontsize=12)
    axes.xaxis.tick_top()
    axes.set_xlim(-0.5, count - 0.5)
    axes.set_ylim(count - 0.5, -0.5)
    axes.grid(color="#dddddd")
    axes.set_axisbelow(True)
    axes.spines[:].set_visible(False)
    axes.legend(loc="lower left", fontsize=12, markerscale=0.5, frameon=False)
    figure.suptitle(f"{title}: what swapping two stages changes (numbers: requests)", fontsize=15)
    figure.tight_layout()
    return drawn(figure, path)
