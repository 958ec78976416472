"""Checking a pipeline: what rules suspect, proved by requests, each cause once, with a mend that cures it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from patient_usher.core.decisions.runner import BUDGET, Runner, ScenarioRun
from patient_usher.core.decisions.scenario import Scenario
from patient_usher.core.engine.bind.trace import BoundTrace
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.compile.compiler import compile_source, in_other_environments
from patient_usher.core.engine.run.run_state import RunState
from patient_usher.core.model.document import JsonObject, Spot, Unusable, copy_tree, locate, merge
from patient_usher.core.model.overlays import CHANGEABLE
from patient_usher.core.questions.check.mends import PASS_ON, Mend, variant_between
from patient_usher.core.questions.check.rule import LEVELS, Context, Rule, Suspicion
from patient_usher.core.questions.check.rules import rules
from patient_usher.core.questions.check.rules.known_stale import RULE as STALE_RULE
from patient_usher.core.questions.check.rules.known_stale import stale
from patient_usher.core.questions.check.safety import harm, newly_fails
from patient_usher.core.variants.search import Explanation
from patient_usher.core.verify.always import Statements
from patient_usher.core.verify.run import run

DEEPEST = 40
"""How many findings are mended one after the other, at most."""


class Finding(NamedTuple):
    """Something that is wrong, with the request that proves it.

    ``as_is`` and ``mended`` are what came of the witness in the pipeline as it is and as mended, None where the
    reasoning needs none. ``cure`` is the mended pipeline; ``withheld`` why it isn't offered, though it proves it.
    ``others``: mends, each with its pipeline, that cure it too and suit another intent of the developer.
    ``compiled`` is the pipeline in which it is found: that of ``environment``, where it is found there only.
    """

    rule: Rule
    suspicion: Suspicion
    mend: Mend
    cure: CompiledPipeline
    compiled: CompiledPipeline
    as_is: ScenarioRun | None = None
    mended: ScenarioRun | None = None
    known: str | None = None
    withheld: str | None = None
    apart: str = ""
    others: tuple[tuple[Mend, CompiledPipeline], ...] = ()
    environment: str | None = None

    @property
    def key(self) -> tuple[str, object]:
        """What makes it the same finding in a mended pipeline, or in another environment."""
        return self.rule.code, self.suspicion.key

    @property
    def choices(self) -> tuple[tuple[Mend, CompiledPipeline], ...]:
        """The mends that are offered, the one that is likeliest meant first; none where it is withheld."""
        return ((self.mend, self.cure), *self.others) if self.withheld is None else ()

    @property
    def where(self) -> str:
        """The code, and the stage or route that it is about; what tells it apart, where there are several."""
        place = self.suspicion.stage or self.suspicion.route
        return f"{self.rule.code}@{place}{self.apart}" if place else self.rule.code + self.apart

    @property
    def scenario(self) -> Scenario | None:
        """The witness."""
        return self.as_is.scenario if self.as_is is not None else None

    @property
    def spot(self) -> Spot:
        """The place in the file."""
        return locate(self.compiled.source.doc, self.suspicion.at)

    def change(self, cure: CompiledPipeline) -> JsonObject:
        """What a variant file must say to have one of the mends, in the environment that needs it."""
        if self.environment is None:
            return variant_of(self.compiled, cure)
        return {"environments": {self.environment: variant_between(self.compiled.source.doc, cure.source.doc)}}


class Checked(NamedTuple):
    """What a check came to. ``tried`` counts the requests that were run; ``whole``: whether none was left out.

    ``left``: what was left out for want of budget, in words.
    """

    compiled: CompiledPipeline
    findings: tuple[Finding, ...]
    tried: int
    whole: bool
    base: str
    budget: int
    seed: int
    left: tuple[str, ...] = ()
    unmet: Explanation | None = None
    """What would make come what traces expect, where it doesn't; None where it does."""

    def at_least(self, level: str) -> list[Finding]:
        """Those that nobody has accepted, of this level and graver."""
        wanted = LEVELS[: LEVELS.index(level) + 1]
        return [found for found in self.findings if found.known is None and found.rule.level in wanted]


def check(
    compiled: CompiledPipeline,
    *,
    budget: int = BUDGET,
    base: str = "https://service.example",
    seed: int = 0,
    traces: Sequence[BoundTrace] = (),
    more: Iterable[Scenario] = (),
    codes: Sequence[str] = (),
    mends: bool = True,
) -> Checked:
    """Everything that is wrong with a pipeline, the gravest first.

    Without ``mends`` nobody asks whether these do harm: for whoever only counts. ``traces``: no mend may make any of
    their requests worse. ``more``: further probes. ``codes``: look for these only.
    """
    found = _check_one(compiled, Runner(budget, base, seed), traces, more, codes, mends=mends)
    if compiled.environment == (tuple(compiled.spec.environment) or ("production",)):
        for name, other in in_other_environments(compiled):
            left = Runner(max(0, budget - found.tried), base, seed)
            found = _with_environment(found, name, _check_one(other, left, traces, more, codes, mends=mends))
    return found


def _with_environment(found: Checked, name: str, other: Checked) -> Checked:
    """The findings with those that only another environment has; an entry of ``known`` may be for any of them."""
    known = {one.key for one in found.findings}
    own = [
        one._replace(environment=name, apart=f"{one.apart}/{name}")
        for one in other.findings
        if one.key not in known and one.rule.code != STALE_RULE.code
    ]
    stale_there = {one.key for one in other.findings}
    kept = [one for one in found.findings if one.rule.code != STALE_RULE.code or one.key in stale_there]
    every = sorted([*kept, *map(_within_overlay, own)], key=_place)
    return found._replace(
        findings=tuple(every),
        tried=found.tried + other.tried,
        whole=found.whole and other.whole,
        left=(*found.left, *(f"{part}, in the environment {name}" for part in other.left)),
    )


def _within_overlay(one: Finding) -> Finding:
    """A finding of one environment: a mend that an overlay can't say would change the others, too."""
    fits = [
        (mend, cure)
        for mend, cure in one.choices
        if one.change(cure)["environments"][one.environment].keys() <= CHANGEABLE
    ]
    if fits or one.withheld is not None:
        return one._replace(mend=fits[0][0], cure=fits[0][1], others=tuple(fits[1:])) if fits else one
    why = f"yours to say: to {one.mend.words} can't be said for one environment alone"
    return one._replace(withheld=why, others=())


def _place(one: Finding) -> tuple[int, Spot]:
    return LEVELS.index(one.rule.level), one.spot


def _check_one(
    compiled: CompiledPipeline,
    trials: Runner,
    traces: Sequence[BoundTrace],
    more: Iterable[Scenario],
    codes: Sequence[str],
    *,
    mends: bool,
) -> Checked:
    """What is wrong with a pipeline in one environment."""
    context = Context(compiled, trials, more, mends=mends)
    wanted = [rule for rule in rules() if not codes or rule.code in codes]
    found: list[Finding] = []
    if not codes:
        for _ in context.runs():  # all that rules look at, once, before any of them spends on its own
            pass
    short = wanted
    for _ in range(2):  # what some rules leave of their shares, those that need more have in a second turn
        found, short = _turn(context, short, traces, found)
    trials.ceiling = trials.budget
    found.sort(key=_place)
    found = _told_apart(found)
    found, idle = _accepted(compiled, found, looked={rule.code for rule in wanted} if codes else None)
    whole = not short and not context.left_out
    left = [f"{count:,} of {all_:,} probes of sort {sort}" for sort, (count, all_) in context.left_out.items()]
    left += [f"some of what {rule.code} looks at" for rule in short]
    return Checked(
        compiled,
        (*found, *(idle if whole else ())),
        trials.tried,
        whole,
        trials.base,
        trials.budget,
        trials.seed,
        tuple(left),
    )


def _turn(
    context: Context, wanted: Sequence[Rule], traces: Sequence[BoundTrace], found: list[Finding]
) -> tuple[list[Finding], list[Rule]]:
    """Each rule looks, with a fair share of what is left of the budget. Returns those too that would need more."""
    trials, short = context.trials, list[Rule]()
    for number, rule in enumerate(wanted):
        trials.ceiling = trials.tried + (trials.budget - trials.tried) // (len(wanted) - number)
        trials.spent = False
        known = {one.suspicion.key for one in found if one.rule is rule}
        for one in _found(context, rule, traces, found):
            found = _joined(found, one, trials) if one.suspicion.key not in known else found
        short += [rule] if trials.spent else []
    return found, short


def _found(context: Context, rule: Rule, traces: Sequence[BoundTrace], before: Sequence[Finding]) -> Iterator[Finding]:
    """What a rule finds, each with a mend after which it finds that no more; not what is found already."""
    seen: set[object] = set()
    mine: list[Finding] = []
    worse: dict[object, str | None] = {}  # why each mend isn't offered
    for suspicion in rule.look(context):
        causes = mine if rule.own_cause else (*before, *mine)
        if suspicion.key in seen or any(_is_symptom(context, suspicion, one) for one in causes):
            continue
        kept: Finding | None = None
        for mend in suspicion.mends:
            if kept is not None and kept.withheld is None and mend.intent in ("", kept.mend.intent):
                continue
            cure = mended(context.compiled, mend)
            if cure is None:
                continue
            runs = _witness(context, suspicion, cure)
            if runs is None:
                continue
            found = Finding(rule, suspicion, mend, cure, context.compiled, *runs)
            if context.mends and _accepting(context.compiled, rule, suspicion) is None:
                if (key := (mend.words, suspicion.key)) not in worse:
                    worse[key] = _withheld(context, suspicion, mend, cure, traces)
                if worse[key] is None and not _cured(context, rule, suspicion, cure):
                    worse[key] = f"none is whole: to {mend.words} leaves some of it"
                if (why := worse[key]) is not None:
                    kept = kept or found._replace(withheld=why)
                    continue
            if kept is None or kept.withheld is not None:
                kept = found
            else:
                kept = kept._replace(others=(*kept.others, (mend, cure)))
            if not mend.intent:
                break
        if kept is not None:
            seen.add(suspicion.key)
            mine.append(kept)
            yield kept


def _is_symptom(context: Context, suspicion: Suspicion, one: Finding) -> bool:
    """Whether a mend that is found already takes this away: all that the first probe of it shows."""
    if suspicion.proof is None or not suspicion.scenarios or one.as_is is None:
        return False
    as_is = context.run(suspicion.scenarios[0])
    after = context.trials.run(suspicion.scenarios[0], one.cure) if as_is is not None else None
    return as_is is not None and after is not None and suspicion.proof(as_is, after)


def mended(compiled: CompiledPipeline, mend: Mend) -> CompiledPipeline | None:
    """The pipeline after a mend; None where that can't be done, or gives no pipeline."""
    doc = copy_tree(compiled.source.doc)
    try:
        mend.edit(doc)
        return compile_source(compiled.source._replace(doc=doc, plain=None))
    except (LookupError, TypeError, AttributeError, Unusable):
        return None


def _witness(
    context: Context, suspicion: Suspicion, cure: CompiledPipeline
) -> tuple[ScenarioRun | None, ScenarioRun | None] | None:
    """The first probe that shows it, as it is and mended; None where none does."""
    if suspicion.proof is None:
        return None, None
    tried: Iterable[ScenarioRun] = (
        context.runs()
        if suspicion.scenarios is None
        else (run for scenario in suspicion.scenarios if (run := context.run(scenario)) is not None)
    )
    for as_is in tried:
        after = context.trials.run(as_is.scenario, cure)
        if after is not None and suspicion.proof(as_is, after) and not newly_fails(as_is, after):
            return as_is, after
    return None


def _withheld(
    context: Context, suspicion: Suspicion, mend: Mend, cure: CompiledPipeline, traces: Sequence[BoundTrace]
) -> str | None:
    """Why a mend isn't offered, in words: what it leaves open, or the harm that it does."""
    if mend.left is not None:
        return f"yours to say: {mend.left}"
    if what := _worsens(context.compiled, cure, traces, context.trials.seed):
        return f"none is safe: to {mend.words} would change {what}, which the trace holds"
    what = harm(context, suspicion, cure, lets_through=mend.intent == PASS_ON)
    return f"none is safe: to {mend.words} would {what}" if what is not None else None


def _cured(context: Context, rule: Rule, suspicion: Suspicion, cure: CompiledPipeline) -> bool:
    """Whether the mended pipeline is suspected of it no more, or wrongly."""
    again = Context(cure, context.trials)
    for other in rule.look(again):
        if other.key != suspicion.key:
            continue
        if other.proof is None:
            return False
        if any(
            (better := mended(cure, mend)) is not None and _witness(again, other, better) is not None
            for mend in other.mends
        ):
            return False
    return True


def _worsens(compiled: CompiledPipeline, cure: CompiledPipeline, traces: Sequence[BoundTrace], seed: int) -> str | None:
    """What a mend would make worse, in words: a request of a trace, or a statement that held over one."""
    for prepared in traces:
        before, after = (_met(one, prepared, seed) for one in (compiled, cure))
        for key, was in before.items():
            if was and not after.get(key, False):
                return key
    return None


def _met(compiled: CompiledPipeline, prepared: BoundTrace, seed: int) -> dict[str, bool]:
    """What is expected of a trace's requests, and the pipeline's own statements: whether each was so."""
    met: dict[str, bool] = {}
    statements = Statements(compiled)
    try:
        for judged in run(
            RunState(compiled, seed), prepared, statements=statements, journeys=False, release_sends=True
        ):
            for check in judged.checks:
                key = f"the {check.what} of {judged.send.id}"
                met[key] = met.get(key, True) and check.ok
    except Unusable:
        return {}
    return {**met, **{f"the invariant {one.id}": not one.failed for one in statements.all}}


# One cause, one finding.


def _cures(one: Finding, other: Finding, trials: Runner) -> bool:
    """Whether the mend of the one takes the other away too."""
    if other.as_is is None or other.suspicion.proof is None:
        context = Context(one.cure, trials)
        return not any(again.key == other.suspicion.key for again in other.rule.look(context))
    after = trials.run(other.as_is.scenario, one.cure)
    return after is not None and other.suspicion.proof(other.as_is, after)


def _joined(found: list[Finding], one: Finding, trials: Runner) -> list[Finding]:
    """The findings with a further one: those that a mend of another cures are symptoms, if that is no less grave."""
    for other in found if not one.rule.own_cause else ():
        told = _as_grave(other, one) and _cures(other, one, trials)
        if told and (_weight(other) <= _weight(one) or not _cures(one, other, trials)):
            return found
    kept = [
        other for other in found if other.rule.own_cause or not _as_grave(one, other) or not _cures(one, other, trials)
    ]
    return [*kept, one]


def _as_grave(one: Finding, other: Finding) -> bool:
    return LEVELS.index(one.rule.level) <= LEVELS.index(other.rule.level)


def _weight(one: Finding) -> int:
    return rules().index(one.rule)


def _told_apart(found: list[Finding]) -> list[Finding]:
    """The findings, each with a name of its own: by the route, or else by a number."""
    counts = Counter(one.where for one in found)
    seen: Counter[str] = Counter()
    told = []
    for one in found:
        if counts[one.where] > 1:
            seen[one.where] += 1
            route = one.suspicion.route if one.suspicion.stage is not None else None
            same = [other for other in found if other.where == one.where and other.suspicion.route == route]
            told.append(one._replace(apart=f"/{route}" if route and len(same) == 1 else f"/{seen[one.where]}"))
        else:
            told.append(one)
    return told


# Findings that somebody has accepted.


def _accepting(compiled: CompiledPipeline, rule: Rule, suspicion: Suspicion) -> int | None:
    """The number of the entry of ``known`` that accepts it."""
    for at, entry in enumerate(compiled.spec.known):
        places = ((entry.stage, suspicion.stage), (entry.route, suspicion.route))
        if entry.finding == rule.code and all(wanted is None or wanted == held for wanted, held in places):
            return at
    return None


def _accepted(
    compiled: CompiledPipeline, found: list[Finding], looked: set[str] | None
) -> tuple[list[Finding], list[Finding]]:
    """The findings with the reasons why some are accepted; and entries of ``known`` that accept nothing."""
    marked, used = [], set[int]()
    for one in found:
        at = _accepting(compiled, one.rule, one.suspicion)
        if at is not None:
            used.add(at)
            one = one._replace(known=compiled.spec.known[at].why)
        marked.append(one)
    idle = [
        at
        for at, entry in enumerate(compiled.spec.known)
        if at not in used and (looked is None or entry.finding in looked)
    ]
    rule, suspicions = stale(compiled, idle)
    more = []
    for suspicion in suspicions:
        cure = mended(compiled, suspicion.mends[0])
        if cure is not None and (looked is None or rule.code in looked):
            more.append(Finding(rule, suspicion, suspicion.mends[0], cure, compiled))
    return marked, more


# Mending.


def mend_all(
    checked: Checked, wanted: Sequence[str] = (), traces: Sequence[BoundTrace] = ()
) -> tuple[CompiledPipeline, list[Finding], list[Finding]]:
    """The pipeline with findings mended one after the other, which were, and what is found then that wasn't before.

    ``wanted``: codes, or ``CODE@STAGE``, with ``=N`` for the Nth of several mends; all, where there is none. What
    somebody has accepted stays, and so does what can't be mended without making something of the ``traces`` worse.
    """
    compiled, done = checked.compiled, list[Finding]()
    findings = checked.findings
    been = [compiled.source.doc]
    for _ in range(DEEPEST):
        one = next(
            (
                chosen
                for found in findings
                if (chosen := _chosen(found, wanted)) is not None
                and chosen.environment is None
                and chosen.cure.source.doc not in been  # no mend undoes another
            ),
            None,
        )
        if one is None:
            break
        done.append(one)
        compiled = one.cure
        been.append(compiled.source.doc)
        findings = check(compiled, seed=checked.seed, traces=traces).findings
    for found in checked.findings:  # those of other environments, which a variant doesn't look at
        one = _chosen(found, wanted)
        if one is not None and one.environment is not None:
            done.append(one)
            compiled = _overlaid_there(compiled, one)
    before = {found.key for found in checked.findings}
    return compiled, done, [found for found in findings if found.key not in before]


def _overlaid_there(compiled: CompiledPipeline, one: Finding) -> CompiledPipeline:
    """The pipeline with a mend in the overlay of the environment that needs it."""
    doc = copy_tree(compiled.source.doc)
    merge(doc, one.change(one.cure))
    return compile_source(compiled.source._replace(doc=doc, plain=None))


def _chosen(found: Finding, wanted: Sequence[str]) -> Finding | None:
    """The finding with the mend that is asked for; None where it isn't to be mended, or can't be."""
    if found.known is not None or not found.choices:
        return None
    if not wanted:
        return found
    for name, _, number in (one.partition("=") for one in wanted):
        if name in (found.rule.code, found.where) and 0 < int(number or 1) <= len(found.choices):
            mend, cure = found.choices[int(number or 1) - 1]
            return found._replace(mend=mend, cure=cure, others=())
    return None


def variant_of(before: CompiledPipeline, after: CompiledPipeline) -> JsonObject:
    """What a variant file must say to make the one pipeline of the other, in the environment that both are in.

    Overlays of that environment are laid on behind it: what it says is said to them, too.
    """
    found = variant_between(before.source.doc, after.source.doc)
    overlays = [name for name in before.source.environment if name in before.source.doc.get("environments", {})]
    if not overlays or not found or not found.keys() <= CHANGEABLE:
        return found
    return {**found, "environments": {overlays[-1]: found}}
