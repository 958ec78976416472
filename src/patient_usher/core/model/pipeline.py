"""The pipeline file as a whole, and what every stage's options have in common."""

from collections import deque
from collections.abc import Collection, Iterable, Sequence
from functools import cached_property
from ipaddress import ip_address, ip_network
from typing import Annotated, ClassVar, Literal, NamedTuple

from pydantic import AfterValidator, Discriminator, Field, Tag, model_validator

from patient_usher.core.model.accounts import AccountSpec, ErrorSpec, SigningKeySpec
from patient_usher.core.model.always import Always
from patient_usher.core.model.document import Json, JsonMapping, JsonObject, Map, Path, Seq
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.handler_specs import RecordsSpec
from patient_usher.core.model.patterns import RequestPattern
from patient_usher.core.model.reads import uses
from patient_usher.core.model.routes import GroupSpec, RouteSpec
from patient_usher.core.model.templates import Id
from patient_usher.core.model.text_types import Model, Names, no_items, show, wrong


def _check_address(value: str) -> str:
    try:
        return str(ip_address(value))
    except ValueError:
        raise wrong(f"{show(value)} is no IP address", "write one such as 192.0.2.10") from None


def _check_networks(values: list[str]) -> list[str]:
    for value in values:
        try:
            ip_network(value, strict=False)
        except ValueError:
            raise wrong(f"{show(value)} is no address or network", "write 192.0.2.10 or 192.0.2.0/24, say") from None
    return values


class Hops(Model):
    """How many fronts stand one behind the other, each of which adds to the forwarding fields."""

    sentences: ClassVar[dict[str, str]] = {"hops": "How many of the last entries of a forwarding field are believed."}

    hops: Annotated[int, Field(ge=1, le=100)]


Trusted = Annotated[
    Annotated[Hops, Tag("hops")] | Annotated[Annotated[Names, AfterValidator(_check_networks)], Tag("networks")],
    Discriminator(lambda value: "hops" if isinstance(value, dict | Hops) else "networks"),
]
"""Whose forwarding fields are believed: those of addresses and networks, or of a number of fronts."""


class FrontSpec(Model):
    """What stands in front of the service."""

    sentences: ClassVar[dict[str, str]] = {
        "ends-tls": "Whether the front ends TLS, and passes requests on in clear.",
        "sends": "Which forwarding fields the front adds.",
        "address": "The address from which its requests come.",
    }

    ends_tls: bool = False
    sends: Literal["nothing", "forwarded", "x-forwarded"] = "nothing"
    address: Annotated[str, AfterValidator(_check_address)] = "192.0.2.10"


class DeploymentSpec(Model):
    """How many instances run, and what they share."""

    sentences: ClassVar[dict[str, str]] = {
        "instances": "How many instances of the service run.",
        "spread": "Which instance a request comes to.",
        "shared-state": "Stages whose state all instances share; each has its own otherwise.",
        "own-state": "Desks and records whose state each instance has for itself; it is shared otherwise.",
        "in-front": "What stands in front of the service.",
        "trusts-forwarded": "Addresses and networks whose forwarding fields are believed; or {hops: N}, of N fronts.",
        "caller-leaves": "Whether work goes on, or is cancelled, when its caller has given up.",
    }

    instances: Annotated[int, Field(ge=1, le=1000)] = 1
    spread: Literal["round-robin", "by-address", "random"] = "round-robin"
    shared_state: list[str] = Field(default_factory=no_items)
    own_state: list[str] = Field(default_factory=no_items)
    in_front: FrontSpec = Field(default_factory=FrontSpec)
    trusts_forwarded: Trusted = Field(default_factory=no_items)
    caller_leaves: Literal["runs-on", "cancels"] = "runs-on"


class UncaughtSpec(Model):
    """The server itself, where no error handler catches: what it tells, and what it logs."""

    sentences: ClassVar[dict[str, str]] = {
        "answer": "Whether the server answers with its own 500, or closes the connection without a word.",
        "write-as": "The form of what that 500 reveals.",
        "reveal": "What the server's own 500 tells of the error.",
        "log": "What the server's log says of it.",
    }

    answer: Literal["status", "nothing"] = "status"
    write_as: Literal["text", "html"] = "text"
    reveal: Literal["nothing", "message", "everything"] = "nothing"
    log: Literal["full", "message", "nothing"] = "full"

    @model_validator(mode="after")
    def _tells(self) -> "UncaughtSpec":
        if self.answer == "nothing" and {"reveal", "write_as"} & self.model_fields_set:
            raise wrong("a connection that closes without an answer reveals nothing", "leave out reveal and write-as")
        return self


class KnownSpec(Model):
    """A finding accepted on purpose: at one stage or route, or wherever it is found; and why."""

    sentences: ClassVar[dict[str, str]] = {
        "finding": "The finding's code, as usher check gives it.",
        "stage": "At which stage it is accepted; at any, if left out.",
        "route": "On which route it is accepted; on any, if left out.",
        "why": "Why it is accepted, for whoever reads this next.",
    }

    finding: str
    stage: str | None = None
    route: str | None = None
    why: Annotated[str, Field(min_length=1)]


class PipelineSpec(Model):
    """A whole pipeline file, overlays applied. Stage entries are read by their kinds."""

    sentences: ClassVar[dict[str, str]] = {
        "patient-usher": "What the file is: pipeline/1.",
        "name": "What reports call the pipeline.",
        "flow": "nested: a stage wraps what is behind it. sequential: one after the other, errors skip forward.",
        "listed": "In which order the list of stages is written; innermost-first for wrappers that run in reverse.",
        "environment": "The environments laid on where the command line names none.",
        "refuse": "Whether stages and the router answer their refusals at once, or raise them for an error handler.",
        "stages": "What every request meets, in order: kinds, or mappings with id, kind and options.",
        "groups": "Routes that share a prefix, access and stages.",
        "routes": "Routes outside of any group.",
        "errors": "Error types of your own.",
        "records": "Stand-in data stores for handlers.",
        "accounts": "Who may call, by name.",
        "signing-keys": "Keys that sign tokens and cookies, by name.",
        "environments": "Overlays by name: stages, groups and routes by id, and what changes in them.",
        "deployment": "How many instances run, what they share, and what stands in front of them.",
        "uncaught": "What the server itself does where no error handler catches an error.",
        "known": "Findings of usher check that are accepted on purpose, each with a reason.",
        "always": "What must hold for every exchange: everyday, names of ready-made invariants, or your own.",
        "options": "What OPTIONS gets on a path that has routes but none for it: 405, or 204 with Allow.",
        "order": "The server-wide stages of a variant, each id once, outermost first.",
        "add": "Stages that a variant adds, each before or after one that stands there.",
        "same-as": "The stage whose kind and options this one has; its state is its own.",
    }

    version: Literal["pipeline/1"] = Field(alias="patient-usher")
    name: str = "pipeline"
    flow: Literal["nested", "sequential"] = "nested"
    listed: Literal["outermost-first", "innermost-first"] = "outermost-first"
    environment: Names = Field(default_factory=no_items)
    refuse: Literal["answer", "raise"] = "answer"
    stages: list[Json] = Field(default_factory=no_items)
    groups: list[GroupSpec] = Field(default_factory=no_items)
    routes: list[RouteSpec] = Field(default_factory=no_items)
    errors: dict[Annotated[str, AfterValidator(lambda v: v)], ErrorSpec] = Field(default_factory=dict)
    records: dict[str, RecordsSpec] = Field(default_factory=dict)
    accounts: dict[str, AccountSpec] = Field(default_factory=dict)
    signing_keys: dict[str, SigningKeySpec] = Field(default_factory=dict)
    environments: dict[str, JsonObject] = Field(default_factory=dict)
    deployment: DeploymentSpec = Field(default_factory=DeploymentSpec)
    uncaught: UncaughtSpec = Field(default_factory=UncaughtSpec)
    options: Literal["refused", "answered"] = "refused"
    always: Always = Field(default_factory=no_items)
    known: list[KnownSpec] = Field(default_factory=no_items)


MARKER = "routes"
"""In a sequential pipeline: where group stages, route stages and the handler stand."""


class Reference(NamedTuple):
    """A name that must exist: what sort of thing, which, and where in the stage it stands."""

    sort: str
    name: str
    path: Path


class AskedCredential(NamedTuple):
    """A way to show who is calling: what a token must say, or where a key goes (header, query, cookie; name)."""

    scheme: str
    keys: tuple[str, ...] = ()
    issuer: str | None = None
    audience: str | None = None
    typ: str | None = None
    place: tuple[str, str] | None = None


class Limit(NamedTuple):
    """What a stage lets through on each instance, and for whom it counts apart.

    ``window``: within how many microseconds; None for what is under way at once. ``counts``: everything, or failures.
    """

    quota: int
    per: tuple[str, ...]
    window: int | None = None
    counts: str = "everything"


class StageOptions(Model):
    """What every stage has; each kind adds its own options."""

    trade_names: ClassVar[tuple[str, ...]] = ()
    """What else people call the kind: whoever writes one of these is told its name."""
    written: ClassVar[Collection[str]] = ()
    """Lower-case names of header fields that the kind writes on answers."""
    sentences: ClassVar[dict[str, str]] = {
        "id": "What results, expectations and overlays call the stage; its kind, where left out.",
        "kind": "What the stage does.",
        "enabled": "Whether the stage runs at all.",
        "refuse": "Whether its refusals are answered at once or raised; as the pipeline says, if left out.",
        "only": "The stage meets these requests only: METHODS /path, * for one segment, ** for any number.",
        "except": "The stage passes these requests over: METHODS /path, * for one segment, ** for any number.",
    }

    id: Id
    kind: str
    enabled: bool = True
    refuse: Literal["answer", "raise"] | None = None
    only: list[RequestPattern] | None = None
    except_: list[RequestPattern] | None = None

    def references(self) -> Iterable[Reference]:
        """Names in the options that must exist elsewhere in the pipeline."""
        return ()

    def sets(self) -> Iterable[str]:
        """Context values that the stage may leave for those behind it."""
        return ()

    def needs(self, route: RouteSpec | None = None) -> Collection[str]:
        """What the stage reads, on this route, that another must have left there (the words of ``uses``)."""
        return self.uses

    @cached_property
    def uses(self) -> Collection[str]:
        """What its matchers and placeholders read, whatever the route."""
        return uses(self)

    def leaves(self) -> Collection[str]:
        """What the stage leaves there for those behind it."""
        return [f"context.{name}" for name in self.sets()]

    def credentials(self) -> Iterable[AskedCredential]:
        """How callers show to this stage who they are."""
        return ()

    def limit(self) -> Limit | None:
        """What the stage lets through, if it counts."""
        return None

    def pages_from(self) -> Collection[str]:
        """Origins whose pages it lets read answers, as the file lists them."""
        return ()

    def pages_send(self) -> tuple[list[str], list[str]]:
        """Methods and header fields with which it lets pages call."""
        return [], []

    def largest_body(self) -> int | None:
        """The most octets of a body that it takes; None for no limit of its own."""
        return None

    def gives_up_after(self) -> int | None:
        """How many microseconds what is behind may take; None for as long as it likes."""
        return None

    def answers_errors(self) -> Collection[str]:
        """Types of errors that it has an answer of its own for."""
        return ()

    def starts_errors_anew(self) -> bool:
        """Whether its answer to an error drops the header fields that stages have put."""
        return False

    def guards(self) -> Collection[str]:
        """To which sorts of access (signed-in, role, scope, nobody) the stage holds callers."""
        return ()

    def answers_all(self) -> bool:
        """Whether the stage answers every request that it meets, so that nothing behind it runs."""
        return False

    def tells(self) -> Collection[str]:
        """What its answers to errors say in words of the author's."""
        return ()

    def error_media(self) -> Collection[str]:
        """Media types of the error answers that the stage writes."""
        return ()

    def branches(self, routes: Sequence[RouteSpec] = ()) -> Iterable[str]:
        """The ways that an exchange can take in the stage, where these routes are behind it."""
        return ("ran",)

    def taken(self, x: Exchange, way: str, did: str, note: JsonMapping) -> Iterable[str]:
        """Which of these a step of a journey took; those of matchers are recorded as they are taken."""
        return ("ran",) if way == "in" else ()

    def samples(self, route: RouteSpec) -> Iterable[JsonObject]:
        """What requests to a route must say to take the stage's branches, as keys of a trace's request."""
        return ()

    def classes(self, fact: str) -> Sequence[str | None] | None:
        """Values of a fact of the request (``header.x``, ``host``) that its own logic tells apart, absent as None.

        Whatever any other value does, one of these does. Empty: any value will do, since it is passed on alone. None:
        the stage looks at the fact through matchers and placeholders only, or says nothing of it.
        """
        return None

    def bodies(self, route: RouteSpec | None) -> Sequence[JsonObject] | None:
        """What requests must say for a body of each sort that its own logic tells apart; None where nobody can say."""
        return None

    def copies(self) -> Iterable[tuple[str, str, str]]:
        """Facts that it writes on the way in, as matchers name them: the text, and the case that writes it."""
        return ()

    def writes(self) -> Collection[str]:
        """Lower-case names of header fields that the stage writes on answers."""
        return self.written

    def makes_up(self) -> Collection[str]:
        """Which of those have values of nobody's knowing: made up anew each time."""
        return ()

    def drops_on_answer(self) -> Iterable[str]:
        """Lower-case names of header fields that the stage takes off answers."""
        return ()

    def changes_on_request(self) -> Collection[str]:
        """Lower-case names of header fields that those behind may see otherwise than they came."""
        return ()

    def doubtful(self) -> Iterable[tuple[Path, str, str]]:
        """What of the options will hardly be meant: where in them, what, and the mend."""
        return ()

    def route_warnings(self, route: RouteSpec) -> Iterable[tuple[Path, str, str]]:
        """What of a route on its way will hardly be meant: where in the route, what, and the mend."""
        return ()


def stage_lists(doc: Json) -> Iterable[tuple[list[Json], Path]]:
    """Every list of stages in a pipeline document, with its path."""
    if not isinstance(doc, dict):
        return
    pending: deque[tuple[JsonObject, Path]] = deque([(doc, ())])
    while pending:
        node, path = pending.popleft()
        if isinstance(node.get("stages"), list):
            yield node["stages"], (*path, "stages")
        for part in ("groups", "routes"):
            items = node.get(part)
            if isinstance(items, list):
                pending += [(item, (*path, part, at)) for at, item in enumerate(items) if isinstance(item, dict)]


def spell_out(doc: Json) -> None:
    """Write bare kinds as mappings and fill in ids left out, in place."""
    for stages, _ in stage_lists(doc):
        for at, entry in enumerate(stages):
            if isinstance(entry, str) and entry != "routes":
                if isinstance(stages, Seq) and at < len(stages.spots):
                    full: JsonObject = Map(stages.spots[at])
                    full.spots = {"kind": (stages.spots[at],) * 2, "id": (stages.spots[at],) * 2}  # type: ignore[attr-defined]
                else:
                    full = {}
                full.update(id=entry, kind=entry)
                stages[at] = full
            elif isinstance(entry, dict) and "id" not in entry and isinstance(entry.get("kind"), str):
                entry["id"] = entry["kind"]
                if isinstance(entry, Map):
                    entry.spots["id"] = entry.spots["kind"]
