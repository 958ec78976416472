"""How well drift names what is wrong with a service: mistakes planted in services that were written by hand.

A mistake that a pipeline can say is named right where the model with the change that is named first agrees with the
service on a trace that the search never saw. One that it can't is named right where the words say it.
"""

from __future__ import annotations

import importlib
import sys
import time
from pathlib import Path
from typing import Any

from patient_usher import Trace, drift, load
from patient_usher.core.variants.change import document_of
from patient_usher.core.verify.outside import DriftResult
from patient_usher.files.yaml_reader import parse
from patient_usher.use_cases.drift import explain

HERE = Path(__file__).parent


class Turned:
    """A clock that drift turns."""

    now = 0.0

    def turn(self, at: int) -> None:
        """To this many microseconds."""
        self.now = at / 1_000_000


def held(name: str, model: Any, trace: str, mistake: str) -> list[DriftResult]:
    """The service with this mistake, held against a model."""
    service = importlib.import_module(name).service
    clock = Turned()
    app = service(mistake, lambda: clock.now)
    return list(drift(model, Trace.read(HERE / f"{name}-{trace}.yaml"), app=app, wait=clock.turn, writes=True))


def planted_in(name: str) -> dict[str, Any]:
    """Every mistake, with the change of the model that says the same, or the words by which it is to be named."""
    found: dict[str, Any] = parse((HERE / f"{name}-mistakes.yaml").read_text(), name)
    orders = importlib.import_module(name).ORDERS
    return {**found, **{mistake: {"order": order} for mistake, order in orders.items()}}


def outcome(name: str, mistake: str, planted: Any) -> tuple[str, str, float]:
    """Whether it was seen, and named right, wrong or not at all; the words; the seconds of the search."""
    model = load(HERE / f"{name}.yaml")
    found = held(name, model, "story", mistake)
    if not any(one.differs for one in found):
        return "unseen", "", 0.0
    begun = time.process_time()
    why = explain(model, [Trace.read(HERE / f"{name}-story.yaml")], found, writes=True)
    took = time.process_time() - begun
    return (*judged(name, mistake, planted, model, why), took)


def judged(name: str, mistake: str, planted: Any, model: Any, why: Any) -> tuple[str, str]:
    """Right, wrong or silent, with what was said."""
    said = "; ".join(one.change.words for one in why.changes)
    if isinstance(planted, str):
        if not why.changes:
            return "silent", ""
        return ("right" if planted.lower() in said.lower() else "wrong"), said
    if not why.changes:
        return "silent", ""
    fit = changed(model, document_of(model.compiled, why.all_changes, "m"))
    rest = [one for one in held(name, fit, "fresh", mistake) if one.differs]
    own = [one for one in held(name, changed(model, planted), "fresh", mistake) if one.differs]
    return ("right" if len(rest) <= len(own) else "wrong"), said


def changed(model: Any, document: dict[str, Any]) -> Any:
    """The model with the changes of a variant's document."""
    overlay = {key: value for key, value in document.items() if key not in ("patient-usher", "like", "order")}
    found = model.changed(overlay) if overlay else model
    return found.variant(order=document["order"]) if "order" in document else found


def main() -> None:
    """Every mistake of the services, or those that are named. Exit status 1 where too few are named right."""
    sys.path.insert(0, str(HERE))
    for name in ("buoys",):
        model = load(HERE / f"{name}.yaml")
        right = [*held(name, model, "story", ""), *held(name, model, "fresh", "")]
        noise = [(one.id, found.what) for one in right for _, found in one.differs]
        print(f"{name}: the right service differs in {noise or 'nothing'}")
        sums: dict[str, int] = {}
        for mistake, planted in planted_in(name).items():
            if sys.argv[1:] and mistake not in sys.argv[1:]:
                continue
            verdict, said, took = outcome(name, mistake, planted)
            sums[verdict] = sums.get(verdict, 0) + 1
            print(f"  {mistake:20} {verdict:7} {took:6.1f} s  {said}", flush=True)
        print(f"{name}: {sums}")
        seen = sum(sums.values()) - sums.get("unseen", 0)
        if noise or sums.get("right", 0) * 10 < seen * 9:
            sys.exit(f"{name}: the right service differs, or fewer than nine in ten are named right")


if __name__ == "__main__":
    main()
