"""A laboratory for HTTP middleware: model a pipeline, replay requests through it on a virtual clock.

from patient_usher import Trace, load, replay

harbour = load("harbour.yaml", environments=["development"])
for sent in replay(harbour, Trace.read("story.yaml")):
    print(sent.id, sent.status, sent.failed)
"""

TYPE_CHECKING = False  # as in typing, which takes long to import

__version__ = "0.2.0"
__all__ = ["Pipeline", "Trace", "Unusable", "compare", "load", "replay"]

if TYPE_CHECKING:
    from patient_usher.use_cases.session import Pipeline, Trace, Unusable, compare, load, replay


def __getattr__(name: str) -> object:
    """The names above, imported when they are first used."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from patient_usher.use_cases import session

    found: object = getattr(session, name)
    return found
