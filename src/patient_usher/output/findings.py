"""What a check came to: for people, as one JSON document, and as SARIF 2.1.0."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from msgspec import structs

from patient_usher.core.model.document import Json, JsonObject, locate
from patient_usher.core.model.words import counted
from patient_usher.core.questions.check.rule import Rule
from patient_usher.core.questions.check.search import Checked, Finding
from patient_usher.core.questions.check.witness import Document, caught
from patient_usher.core.variants.search import Explanation
from patient_usher.core.verify.document_types import Choice, Differs, FindingRecord, Findings, Place
from patient_usher.core.verify.record import Record
from patient_usher.output.comparison import Compared, compared_of, worked
from patient_usher.output.explanation import EXPECTED, explanation, explanation_record
from patient_usher.output.noticed import noticed
from patient_usher.output.redactor import REDACTOR
from patient_usher.output.terminal import Line, line, line_width, wrapped
from patient_usher.output.yaml_snippet import yaml_of

MARKS = {"error": ("✗", "bad"), "warning": ("✗", "raised"), "advice": ("•", "dim")}


_MOST_LEFT = 8


class ShownWitness(NamedTuple):
    """A finding's witness worked through: as a trace, and what came of it as it is and mended."""

    trace: Document
    compared: Compared


def proof(checked: Checked, finding: Finding) -> ShownWitness | None:
    """The witness of a finding; None where the reasoning needs none."""
    if finding.as_is is None or finding.mended is None:
        return None
    name = finding.where.replace("@", "-")[:60]
    trace = caught(name, finding.as_is, finding.mended, finding.compiled, finding.cure, checked.base, checked.seed)
    ids = [request["id"] for request in trace["requests"] if "send" in request]
    before, after = (_named(run.records(), ids) for run in (finding.as_is, finding.mended))
    return ShownWitness(REDACTOR.redacted(trace), compared_of(("as it is", "mended"), before, after))


def _named(records: list[Record], ids: Sequence[str]) -> list[Record]:
    """The records with the ids that the witness has as a trace, as they may be shown."""
    own = list(dict.fromkeys(record.request_id for record in records))
    names = dict(zip(own, ids, strict=False))
    told = []
    for record in map(REDACTOR.record, records):
        name = names.get(record.request_id, record.request_id)
        told.append(structs.replace(record, id=name + record.id.removeprefix(record.request_id), request_id=name))
    return told


# For people.


def told(checked: Checked, *, command: str = "") -> Iterator[Line]:
    """Every finding with its proof; ``command`` is how to ask for a mend."""
    yield line((checked.compiled.name, "title"))
    for finding in checked.findings:
        if finding.known is None:
            yield []
            yield from _whole(checked, finding, command)
    known = [finding for finding in checked.findings if finding.known is not None]
    if known:
        yield []
        yield line(("accepted on purpose", "dim"))
        for finding in known:
            yield line("  ", (finding.where, "name"), (f"  {finding.known}", "dim"))
    if checked.unmet is not None:
        yield from explanation(checked.unmet, EXPECTED)
    if not checked.whole:
        yield []
        yield line(("the budget was used up: --budget N tries more; left out were", "raised"))
        for part in checked.left[:_MOST_LEFT]:
            yield line(f"  {part}")
        if len(checked.left) > _MOST_LEFT:
            yield line((f"  and {len(checked.left) - _MOST_LEFT} more; --format json has them all", "dim"))
    yield []
    gravest = next(
        (level for level in MARKS if any(f.rule.level == level and not f.known for f in checked.findings)), ""
    )
    mark, style = MARKS.get(gravest if checked.unmet is None else "error", ("✓", "good"))
    yield line((f"{mark} ", style), headline(checked))


def headline(checked: Checked) -> str:
    """How many findings there are, and how much was tried."""
    open_ = [finding for finding in checked.findings if finding.known is None]
    count = counted(len(open_), "finding") if open_ else "no findings"
    known = len(checked.findings) - len(open_)
    accepted = f", {known} accepted" if known else ""
    if checked.unmet is not None:
        sends = {id_ for one in checked.unmet.changes for id_ in one.explains} | set(checked.unmet.leaves)
        accepted += f"; {counted(len(sends), 'request')} not as expected"
    return f"{count}{accepted}; {checked.tried:,} requests tried, {checked.budget:,} at most"


def _notices(finding: Finding, found: ShownWitness | None) -> str:
    """What whoever calls notices, in one sentence."""
    if found is None:
        return finding.rule.notices
    groups = found.compared.comparison.groups
    for id_ in [groups[0].example] if groups else []:
        a, b = found.compared.pair(id_)
        if a is not None and b is not None:
            return noticed(a, b)
    return finding.rule.notices


def _whole(checked: Checked, finding: Finding, command: str) -> Iterator[Line]:
    mark, style = MARKS[finding.rule.level]
    spot = str(finding.spot)
    head = f"{mark} {finding.where}  {finding.rule.level}"
    if len(head) + len(spot) + 2 <= line_width():
        yield line(
            (f"{mark} {finding.where}", style),
            (f"  {finding.rule.level}", "dim"),
            (spot.rjust(line_width() - len(head)), "dim"),
        )
    else:
        yield line((f"{mark} {finding.where}", style), (f"  {finding.rule.level}", "dim"))
        yield line((f"  {spot}", "dim"))
    found = proof(checked, finding)
    yield from _wrapped(_notices(finding, found), "  ", "name")
    yield from _wrapped(_happens(finding), "  ", "")
    yield from _wrapped(finding.rule.matters, "  ", "dim")
    yield from _labelled("mend", _mends(finding), "raised" if finding.withheld is not None else "good")
    if command and finding.choices:
        which = "=1" if len(finding.choices) > 1 else ""
        yield line((f"         {command} --mend {finding.where}{which}", "dim"))
    if found is None:
        yield line(("  seen   ", "good"), ("in the file alone; no request was tried for it", "dim"))
        return
    there = f", with -e {finding.environment}" if finding.environment is not None else ""
    yield line(("  reproduce with", "good"), (f" these requests, which a trace may have{there}", "dim"))
    yield from _request_lines(found.trace)
    groups = found.compared.comparison.groups
    if groups:
        yield []
        for number, id_ in enumerate(_telling(found.compared, groups[0].example)):
            if number:
                yield []
            yield from worked(found.compared, id_)


def _telling(compared: Compared, worst: str) -> list[str]:
    """The exchanges that show it: the worst; of a call that never came, before it the preflight that kept it away."""
    ids = list(compared.by_id())
    a, b = compared.pair(worst)
    if a is None or b is None or (a.journey and b.journey):
        return [worst]
    pairs = {id_: compared.pair(id_) for id_ in ids if id_.startswith(f"{a.request_id}/")}
    came = [id_ for id_, pair in pairs.items() if all(one is not None and one.journey for one in pair)]
    return [*came[:1], worst]


def _request_lines(trace: JsonObject) -> Iterator[Line]:
    callers = {"callers": trace["callers"]} if "callers" in trace else {}
    for text in yaml_of({**callers, "requests": trace["requests"]}, deep=2).splitlines():
        inner = " " * (len(text) - len(text.lstrip()) + 4)
        for part in wrapped(text, 9, inner) or [""]:
            yield line((f"         {part}", "field"))


def _labelled(label: str, text: str, style: str) -> Iterator[Line]:
    for at, part in enumerate(wrapped(text, 9)):
        yield line((f"  {label:<7}" if at == 0 else " " * 9, style), part)


def _wrapped(text: str, indent: str, style: str) -> Iterator[Line]:
    for part in wrapped(text, len(indent)):
        yield line(indent, (part, style))


def listed(rules: Sequence[Rule]) -> Iterator[Line]:
    """Every sort of finding in a line, by level."""
    width = max(len(rule.code) for rule in rules) + 2
    for number, level in enumerate(MARKS):
        if number:
            yield []
        yield line((level, "title"))
        for rule in rules:
            parts = wrapped(rule.says, width + 2) if rule.level == level else []
            for at, part in enumerate(parts):
                yield line("  ", (f"{'' if at else rule.code:<{width}}", "name"), part)


def manual(rules: Sequence[Rule]) -> str:
    """All pages as one Markdown document."""
    pages = ["# Findings\n\nWhat `usher check` finds, each with a pipeline of which exactly that is found."]
    for rule in rules:
        says = f"{rule.says[0].upper()}{rule.says[1:]}."
        seen = f" {rule.notices}" if rule.notices else ""
        head = f"## {rule.code}\n\n*{rule.level}.* {says}{seen}\n\n{rule.matters} {rule.mend}"
        pages.append(f"{head}\n\n```yaml\n{rule.example.strip()}\n```")
    return "\n\n".join(pages) + "\n"


def explained(rule: Rule, checked: Checked) -> Iterator[Line]:
    """A page of the manual: what, why, the mend, and a tiny example with what a check finds there."""
    yield line((rule.code, "title"), (f"  {rule.level}", "dim"))
    yield from _wrapped(f"{rule.says[0].upper()}{rule.says[1:]}.", "", "name")
    yield []
    yield from _wrapped(rule.matters, "", "")
    yield from _wrapped(rule.mend, "", "good")
    yield []
    yield line(("For example:", "title"))
    for text in rule.example.strip().splitlines():
        yield line((f"  {text}", "field"))
    for finding in checked.findings:
        yield []
        yield from _whole(checked, finding, "")


# For programs.


def document(checked: Checked) -> Findings:
    """As JSON says it."""
    return Findings(
        pipeline=checked.compiled.name,
        tried=checked.tried,
        whole=checked.whole,
        left=list(checked.left),
        findings=[_entry(checked, finding) for finding in checked.findings],
        unmet=explanation_record(checked.unmet) if checked.unmet is not None else None,
    )


def _entry(checked: Checked, finding: Finding) -> FindingRecord:
    found = proof(checked, finding)
    spot = finding.spot
    differs = found.compared.comparison.differs if found is not None else ()
    return FindingRecord(
        code=finding.rule.code,
        level=finding.rule.level,
        environment=finding.environment,
        stage=finding.suspicion.stage,
        route=finding.suspicion.route,
        at=Place(spot.file, spot.line, spot.column),
        notices=_notices(finding, found),
        happens=_happens(finding),
        matters=finding.rule.matters,
        mend=finding.mend.words,
        change=finding.change(finding.cure) if finding.choices else None,
        choices=[Choice(mend.words, finding.change(cure)) for mend, cure in finding.choices],
        known=finding.known,
        withheld=finding.withheld,
        witness=found.trace if found is not None else None,
        differs=[Differs(one.id, one.what, one.a, one.b) for one in differs],
    )


def _seen(checked: Checked, finding: Finding) -> str:
    return _notices(finding, proof(checked, finding))


def _happens(finding: Finding) -> str:
    there = f"in the environment {finding.environment}, " if finding.environment is not None else ""
    return there + finding.suspicion.happens


def _mends(finding: Finding) -> str:
    if finding.withheld is not None:
        return finding.withheld
    words = [mend.words for mend, _ in finding.choices]
    if len(words) == 1:
        return words[0]
    return "; or ".join(f"({number}) {each}" for number, each in enumerate(words, 1))


def annotated(checked: Checked) -> Iterator[str]:
    """Findings as workflow commands of hosted CI: each stands beside its line in a review."""
    for finding in checked.findings:
        if finding.known is None:
            spot, level = finding.spot, _ANNOTATED[finding.rule.level]
            text = f"{_seen(checked, finding)} {_happens(finding)}. Mend: {_mends(finding)}"
            place = f"file={_property(spot.file)},line={spot.line},col={spot.column}"
            yield f"::{level} {place},title={_property(finding.where)}::{_escaped(REDACTOR.text(text))}"
    if checked.unmet is not None:
        result = _unmet(checked.unmet, checked.compiled.source.doc, 0)
        spot = locate(checked.compiled.source.doc, ())
        text = REDACTOR.text(result["message"]["text"])
        yield f"::error file={_property(spot.file)},line={spot.line},title=expectation-fails::{_escaped(text)}"


_ANNOTATED = {"error": "error", "warning": "warning", "advice": "notice"}


def _escaped(text: str) -> str:
    """Text in which nothing ends the command."""
    return text.replace("%", "%25").replace("\r", "%0D").replace("\n", "%0A")


def _property(text: str) -> str:
    return _escaped(text).replace(":", "%3A").replace(",", "%2C")


_SARIF_LEVELS = {"error": "error", "warning": "warning", "advice": "note"}


def sarif(checked: Checked, rules: Sequence[Rule], version: str) -> JsonObject:
    """As SARIF 2.1.0 has it: rules with their help, results with places, fixes and suppressions.

    ``version`` is the tool's own.
    """
    known = {rule.code: number for number, rule in enumerate(rules)}
    results = [_result(checked, finding, known[finding.rule.code]) for finding in checked.findings]
    if checked.unmet is not None:
        results.append(_unmet(checked.unmet, checked.compiled.source.doc, len(rules)))
    return {
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": {"name": "usher check", "version": version, "rules": [*map(_rule, rules), _UNMET]}},
                "columnKind": "unicodeCodePoints",
                "results": results,
            }
        ],
    }


def _rule(rule: Rule) -> JsonObject:
    page = f"{rule.matters} {rule.mend}"
    example = f"{page}\n\nFor example:\n\n```yaml{rule.example}```"
    return {
        "id": rule.code,
        "name": "".join(part.title() for part in rule.code.split("-")),
        "shortDescription": {"text": f"{rule.says[0].upper()}{rule.says[1:]}."},
        "fullDescription": {"text": rule.matters},
        "help": {"text": page, "markdown": example},
        "defaultConfiguration": {"level": _SARIF_LEVELS[rule.level]},
    }


_UNMET: JsonObject = {
    "id": "expectation-fails",
    "name": "ExpectationFails",
    "shortDescription": {"text": "What a trace expects doesn't come."},
    "fullDescription": {"text": "The pipeline, or the trace, isn't as it was meant."},
    "help": {"text": "The nearest changes are named with which everything comes that the trace expects."},
    "defaultConfiguration": {"level": "error"},
}


def _unmet(why: Explanation, doc: Json, number: int) -> JsonObject:
    """What a trace expects and doesn't get, as one result: with which changes it would come."""
    spot = locate(doc, ())
    text = " ".join("".join(part for part, _ in each).strip() for each in explanation(why, EXPECTED))
    region = {"startLine": spot.line, "startColumn": spot.column}
    place = {"physicalLocation": {"artifactLocation": {"uri": _uri(spot.file)}, "region": region}}
    return {
        "ruleId": "expectation-fails",
        "ruleIndex": number,
        "level": "error",
        "message": {"text": text.strip()},
        "locations": [place],
    }


def _result(checked: Checked, finding: Finding, number: int) -> JsonObject:
    spot = finding.spot
    result: JsonObject = {
        "ruleId": finding.rule.code,
        "ruleIndex": number,
        "level": _SARIF_LEVELS[finding.rule.level],
        "message": {"text": f"{_seen(checked, finding)} {_happens(finding)}; {_mends(finding)}"},
        "locations": [
            {
                "physicalLocation": {
                    "artifactLocation": {"uri": _uri(spot.file)},
                    "region": {"startLine": spot.line, "startColumn": spot.column},
                },
                **({"logicalLocations": [{"name": name}]} if (name := finding.where.partition("@")[2]) else {}),
            }
        ],
    }
    for mend, cure in finding.choices:
        change = {"patient-usher": "pipeline/1", "like": spot.file, **finding.change(cure)}
        region = {"startLine": 1, "startColumn": 1, "endLine": 1, "endColumn": 1}
        written = {"deletedRegion": region, "insertedContent": {"text": yaml_of(change)}}
        artifact = {"artifactLocation": {"uri": _uri(mended_name(spot.file))}, "replacements": [written]}
        fix = {"description": {"text": f"{mend.words}: a variant of the file"}, "artifactChanges": [artifact]}
        result.setdefault("fixes", []).append(fix)
    if finding.known is not None:
        result["suppressions"] = [{"kind": "inSource", "justification": finding.known}]
    return result


def mended_name(file: str) -> str:
    """What a mended variant of a file is called."""
    stem, dot, _ = file.rpartition(".")
    return f"{stem if dot else file}-mended.yaml"


def _uri(file: str) -> str:
    from urllib.parse import quote

    return quote(file.replace("\\", "/")) or "pipeline"
