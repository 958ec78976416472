"""Write what happens now into a trace, as what is expected."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection
from pathlib import Path
from typing import NamedTuple

from patient_usher.core.engine.replay import Send
from patient_usher.core.model.document import JsonObject, Problem, Spot, Unusable, did_you_mean
from patient_usher.core.model.enumerations import SLIPS
from patient_usher.core.questions.unnoticed import merge_expectations, unnoticed
from patient_usher.core.verify.observed_expectations import observed
from patient_usher.core.verify.run import run
from patient_usher.files.atomic_write import write_whole
from patient_usher.files.expectation_writer import accepted
from patient_usher.files.trace import Trace
from patient_usher.files.trust import trust_of
from patient_usher.use_cases.session import Pipeline, RunState


class Accepted(NamedTuple):
    """What became of it: the file before and after, the requests of which something was written, and those left alone.

    ``broken`` expect something that doesn't hold; ``slipped`` hung, crashed or were answered twice.
    """

    before: str
    after: str
    written: list[str]
    broken: list[str]
    slipped: list[str]


def accept(
    pipeline: Pipeline,
    path: str | Path,
    *,
    only: Collection[str] = (),
    replace: bool = False,
    with_slips: bool = False,
    dry_run: bool = False,
    seed: int = 0,
    trust: Collection[str] = (),
    watch: Callable[[int], None] = lambda tried: None,
) -> Accepted:
    """Write into the trace at ``path`` what its requests come to now; comments, order and style stay as they are.

    Beside status, who answered and why, it writes the cheapest expectations that notice when one option of the pipeline
    is changed and the answer with it. ``watch`` is called with the number of changes that have been tried.

    A request that expects something already is left alone, unless ``replace``; so is one that hangs, crashes or is
    answered twice, unless ``with_slips``. ``only`` names requests. Raises Unusable.
    """
    path = Path(path)
    trace = Trace.read(path, trust=trust_of(trust))
    if trace.recorded:
        what, mend = "a recording is no trace to write into", "replay it with --expect-recorded, or write a trace"
        raise Unusable([Problem(Spot(str(path), 1, 1), what, mend)])
    bound = trace.bound(pipeline.compiled)
    for id_ in only:
        if bound.ids and id_ not in bound.ids:
            raise Unusable(
                [Problem(Spot("--only", 1, 1), f"there is no request '{id_}'", did_you_mean(id_, bound.ids))]
            )
    expects: dict[str, JsonObject] = {}
    broken: dict[str, None] = {}
    slipped: dict[str, None] = {}
    tallies: dict[str, Counter[int]] = {}
    for judged in run(RunState(pipeline, seed), bound):
        send = judged.send
        id_ = send.entry.id
        if only and id_ not in only:
            continue
        if send.failures:
            broken[id_] = None
        elif not send.request_template.expects or replace:
            if any(x.outcome in SLIPS for x in send.exchanges) and not with_slips:
                slipped[id_] = None
            else:
                expects[id_] = _seen(send, tallies.setdefault(id_, Counter()))
        elif any(not check.ok for check in judged.checks):
            broken[id_] = None
    for id_ in slipped:
        expects.pop(id_, None)
    if expects and not bound.streams:
        pinned = {id_: _pins(expect) for id_, expect in expects.items()}
        more = unnoticed(pipeline.compiled, [bound], seed=seed, pinned=pinned, watch=watch).expects
        for id_, expect in expects.items():
            merge_expectations(expect, more.get(id_, {}))
    before, after, written = accepted(path, expects, replace=replace)
    if after != before and not dry_run:
        write_whole(path, after)
    return Accepted(before, after, list(written), list(broken), list(slipped))


def _pins(expect: JsonObject) -> list[str]:
    """What callers see that is expected already."""
    return [name for name in ("status", "outcome", "browser", "tally") if name in expect]


def _seen(send: Send, tally: Counter[int]) -> JsonObject:
    """What came of a request; of repetitions, how many ended with which status."""
    assert send.final is not None
    if send.request_template.spec.times == 1:
        return observed(send.final)
    tally[send.final.answer.status if send.final.answer is not None else 0] += 1
    return {"tally": {status: count for status, count in sorted(tally.items()) if status}}
