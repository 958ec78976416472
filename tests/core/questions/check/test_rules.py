"""Laws of findings, over pipelines put together at random: what is found is proved, mended, and found no more."""

from __future__ import annotations

import json

import pytest

from conftest import described
from patient_usher import Pipeline, Trace, check, replay
from patient_usher.output.findings import proof
from pipelines import MANY, put_together


@pytest.mark.parametrize("seed", range(30 if MANY else 14))
def test_what_is_found_is_proved_and_mended(seed: int) -> None:
    """Each witness fails in the pipeline as it is and holds in the mended one, where the finding is gone."""
    pipeline = described(json.dumps(put_together(seed)), "p.json")
    checked = check(pipeline)
    for finding in checked.findings:
        shown = proof(checked, finding)
        if shown is not None:
            parts = {key: value for key, value in shown.trace.items() if key in ("base", "callers")}
            trace = Trace.of(*shown.trace["requests"], **parts)
            assert [sent.id for sent in replay(pipeline, trace) if sent.failed], finding.where
            assert not [sent.id for sent in replay(Pipeline(finding.cure), trace) if sent.failed], finding.where
        if finding.withheld is not None:
            continue
        again = {(other.rule.code, other.suspicion.key) for other in check(Pipeline(finding.cure)).findings}
        assert (finding.rule.code, finding.suspicion.key) not in again, finding.where


@pytest.mark.parametrize("seed", range(105, 110 if MANY else 107))
def test_checking_again_says_the_same(seed: int) -> None:
    text = json.dumps(put_together(seed))
    first, second = (check(described(text, "p.json")) for _ in range(2))
    told = [
        [(one.where, one.mend.words, (proof(checked, one) or ((),))[0]) for one in checked.findings]
        for checked in (first, second)
    ]
    assert told[0] == told[1]
    assert first.tried == second.tried
