"""A laboratory for HTTP middleware: model a pipeline, replay requests through it on a virtual clock.

from patient_usher import Trace, load, replay

harbour = load("harbour.yaml", environments=["development"])
for sent in replay(harbour, Trace.read("story.yaml")):
    print(sent.id, sent.status, sent.mark, sent.failed)
"""

TYPE_CHECKING = False  # as in typing, which takes long to import

__version__ = "0.3.0"
_WHERE = {
    "Finding": "core.questions.check.search",
    "NotParted": "use_cases.parts",
    "Pipeline": "use_cases.session",
    "Sent": "use_cases.session",
    "Trace": "files.trace",
    "Unusable": "core.model.document",
    "RunState": "use_cases.session",
    "accept": "use_cases.accept",
    "check": "use_cases.check",
    "compare": "use_cases.compare",
    "coverage": "use_cases.coverage",
    "drift": "use_cases.drift",
    "explore": "use_cases.explore",
    "learn": "use_cases.learn",
    "load": "use_cases.session",
    "reorder": "use_cases.reorder",
    "replay": "use_cases.session",
    "replay_in_parts": "use_cases.parted",
    "served": "use_cases.serve",
    "sweep": "use_cases.sweep",
}
__all__ = [*_WHERE]

if TYPE_CHECKING:
    from patient_usher.core.model.document import Unusable as Unusable
    from patient_usher.core.questions.check.search import Finding as Finding
    from patient_usher.files.trace import Trace as Trace
    from patient_usher.use_cases.accept import accept as accept
    from patient_usher.use_cases.check import check as check
    from patient_usher.use_cases.compare import compare as compare
    from patient_usher.use_cases.coverage import coverage as coverage
    from patient_usher.use_cases.drift import drift as drift
    from patient_usher.use_cases.explore import explore as explore
    from patient_usher.use_cases.learn import learn as learn
    from patient_usher.use_cases.parted import replay_in_parts as replay_in_parts
    from patient_usher.use_cases.parts import NotParted as NotParted
    from patient_usher.use_cases.reorder import reorder as reorder
    from patient_usher.use_cases.serve import served as served
    from patient_usher.use_cases.session import Pipeline as Pipeline
    from patient_usher.use_cases.session import RunState as RunState
    from patient_usher.use_cases.session import Sent as Sent
    from patient_usher.use_cases.session import load as load
    from patient_usher.use_cases.session import replay as replay
    from patient_usher.use_cases.sweep import sweep as sweep


def __getattr__(name: str) -> object:
    """The names above, each imported when it is first used: loading a pipeline needs no searches."""
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    found: object = getattr(import_module(f"{__name__}.{_WHERE[name]}"), name)
    globals()[name] = found  # a module of the same name may be imported later, and would take its place
    return found
