"""What exploring a pipeline came to, for people."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from patient_usher.core.decisions.runner import BASE, Runner
from patient_usher.core.model.branches import Branch
from patient_usher.core.model.enumerations import OUTCOMES
from patient_usher.core.model.words import counted
from patient_usher.core.questions.explore import Broken, Ending, Explored
from patient_usher.core.verify.document_types import CaseRecord, Explore, StatementSeen
from patient_usher.output.coverage import coverage_document
from patient_usher.output.noticed import met
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Line, fit, line, line_width, wrapped
from patient_usher.output.yaml_snippet import yaml_of


def told(explored: Explored) -> Iterator[Line]:
    """The cases of each route, what never happened, and statements that break."""
    yield line((explored.compiled.name, "title"))
    lines = {item.route.id: f"{item.route.method} {item.route.template.text}" for item in explored.compiled.placed}
    for route, cases in explored.by_route().items():
        yield []
        by = sorted({case.answered_by for case in cases if case.answered_by})
        head = f"{lines.get(route or '', 'any other path or method')}, answered by {' or '.join(by) or 'nobody'}"
        yield line((route or "no route", "name"), (f"  {head}", "dim"))
        wide = min(max((len(_told(case)) for case in cases), default=0), max(line_width() - 40, 24))
        for case in cases:
            yield _case(case, wide)
        if route is not None and not any(case.handler for case in cases):
            yield line(("  ✗ nothing that was tried reached its handler", "bad"))
    yield from _never(explored)
    yield from _broken(explored)
    yield from _left_out(explored)
    yield []
    yield _summary(explored)


def _summary(explored: Explored) -> Line:
    possible, broken = len(explored.coverage.possible), len(explored.broken)
    held = bool(explored.statements) and all(explored.statements.values())  # what was never tried hasn't held
    proved = sum(_is_proved(explored, id_) for id_ in explored.statements)
    mark, style = ("✗ ", "bad") if broken else ("● ", "name") if held else ("• ", "dim")
    if held and proved == len(explored.statements):
        mark, style = "✓ ", "good"
    told = [f"{broken} of {counted(len(explored.statements), 'invariant')} broken"] if explored.statements else []
    told += [f"{proved} proved"] * bool(proved)
    told.append(f"{possible - len(explored.coverage.missing)} of {counted(possible, 'branch', 'branches')} taken")
    told.append(counted(len(explored.cases), "way to end", "ways to end"))
    return line((mark, style), ", ".join(told), (f"; {explored.tried:,} requests tried", "dim"))


def _is_proved(explored: Explored, id_: str) -> bool:
    """Whether a statement was tried, and holds for every request."""
    return bool(explored.statements[id_]) and not explored.proof.open[id_]


def _told(case: Ending) -> str:
    """Who answered, or refused, and why."""
    who = case.answered_by or "nobody"
    if case.refused_by and case.refused_by != case.answered_by:
        who += f", refused by {case.refused_by}"
    return who + (f" ({case.why})" if case.why else f" ({case.cache})" if case.cache else "")


def _case(case: Ending, wide: int) -> Line:
    status = str(case.status) if case.status else "—"
    slip = case.outcome if case.outcome in ("stalled", "crashed", "answered-twice", "abandoned") else ""
    words = f"  {OUTCOMES[slip]}" if slip else ""
    reached = ("handler ran" if case.handler else "").ljust(11 if words else 0)
    return line(
        "  ", (f"{status:>3}", _style(case)), f"  {fit(_told(case), wide)}  ", (reached, "dim"),
        (words, "bad"),
    )  # fmt: skip


def _style(case: Ending) -> str:
    return "bad" if not case.status or case.status >= 500 else "raised" if case.status >= 400 else "good"


def _never(explored: Explored) -> Iterator[Line]:
    impossible = {*explored.impossible}
    untaken = [branch for branch in explored.coverage.missing if branch not in impossible]
    yield []
    if not explored.coverage.missing:
        yield line(("✓ ", "good"), "every branch was taken")
    yield from _branches("branches that no request can take", explored.impossible)
    yield from _branches("branches that nothing tried takes", untaken)


def _branches(head: str, branches: Sequence[Branch]) -> Iterator[Line]:
    by_id: dict[str, list[str]] = {}
    for _, id_, name in branches:
        by_id.setdefault(id_, []).append(name)
    if by_id:
        yield line((head, "raised"))
    for id_, names in by_id.items():
        for at, part in enumerate(wrapped(", ".join(names), 22)):
            yield line("  ", (f"{'' if at else id_:<18}", "name"), f"  {part}")


def _broken(explored: Explored) -> Iterator[Line]:
    """Each statement by itself: whether it is proved, held in what was tried, was broken by what, or never tried."""
    yield []
    proof = explored.proof
    every = f"{counted(proof.classes, 'class', 'classes')}, {counted(proof.states, 'state')}"
    broken = {one.id: one for one in explored.broken}
    for id_, tried in explored.statements.items():
        one = broken.get(id_)
        if one is None:
            if _is_proved(explored, id_):
                yield line(("✓ invariant ", "good"), (id_, "name"), f": holds for every request ({every})")
                continue
            held = f": held in {tried:,} tried" if tried else ": never tried"
            if not tried and not proof.open[id_]:
                held = ": no request can try it"
            others = [reason for reason in proof.open[id_] if reason not in proof.left_out]
            yield line(
                ("● invariant " if tried else "• invariant ", "name" if tried else "dim"), (id_, "name"), held,
                (f"; not proved: {', '.join(others)}" if others else "", "dim"),
            )  # fmt: skip
            continue
        why = f": {one.why}{', if the handler fails' if _fails(one) else ''}"
        yield line(
            ("✗ invariant ", "bad"), (one.id, "name"), fit(why, max(line_width() - 13 - len(one.id), 20)).rstrip()
        )
        yield line("    ", (_notices(explored, one), "name"))
        document = one.scenario.document("")
        callers = {"callers": document["callers"]} if "callers" in document else {}
        for text in yaml_of(REDACTOR.redacted({**callers, "requests": document["requests"]})).splitlines():
            yield line((f"    {text}", "field"))


def _left_out(explored: Explored) -> Iterator[Line]:
    """What stands in the way of a proof."""
    if explored.proof.left_out:
        yield line(("left out, so that nothing it touches is proved", "dim"))
        for part in wrapped(", ".join(explored.proof.left_out), 2):
            yield line((f"  {part}", "dim"))


def _fails(one: Broken) -> bool:
    """Whether a statement breaks only because the search made a handler fail."""
    return any(
        "raise" in route.get("handler", {})
        for request in one.scenario.requests
        for route in request.get("change", {}).get("routes", {}).values()
    )


def _notices(explored: Explored, one: Broken) -> str:
    """What whoever calls notices where a statement breaks, in one sentence."""
    run = Runner(seed=explored.seed).run(one.scenario, explored.compiled)
    return met(REDACTOR.record(run.records()[-1])) if run is not None else ""


def document(explored: Explored) -> Explore:
    """As JSON says it."""
    broken = {one.id: one for one in explored.broken}
    statements = []
    for id_, tried in explored.statements.items():
        one = broken.get(id_)
        reasons = list(explored.proof.open.get(id_, ()))
        proved = _is_proved(explored, id_)
        verdict = "broken" if one is not None else "proved" if proved else "held" if tried else "never-tried"
        witness = one.scenario.document(BASE) if one is not None else None
        notices, why = (_notices(explored, one), one.why) if one is not None else (None, None)
        statements.append(StatementSeen(id_, verdict, tried, reasons, notices, why, witness))
    return Explore(
        pipeline=explored.compiled.name,
        tried=explored.tried,
        seed=explored.seed,
        endings=[CaseRecord(*case, times) for case, (times, _) in explored.cases.items()],
        coverage=coverage_document(explored.coverage, []),
        never=list(explored.coverage.missing),
        impossible=explored.impossible,
        classes=explored.proof.classes,
        states=explored.proof.states,
        left_out=list(explored.proof.left_out),
        statements=statements,
    )
