"""Warnings: what of a pipeline can be used, but will hardly be meant."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from patient_usher.core.engine.compile.checks import Problems
from patient_usher.core.engine.compile.compiled_pipeline import CompiledPipeline
from patient_usher.core.engine.plan.route_table import all_groups, running_order
from patient_usher.core.model.document import Path, Problem, did_you_mean
from patient_usher.core.model.errors import ANY, BY_THE_ENGINE, ErrorTypes, type_hint
from patient_usher.core.model.handler_specs import RaiseSpec
from patient_usher.core.model.matcher import When
from patient_usher.core.model.patterns import fits_template, split_request
from patient_usher.core.model.reads import T
from patient_usher.core.model.templates import Access
from patient_usher.core.model.text_types import Model

METHODS = (
    "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT", "QUERY", "COPY", "LOCK", "MOVE",
    "MKCOL", "PROPFIND", "PROPPATCH", "REPORT", "SEARCH", "UNLOCK",
)  # fmt: skip
"""Registered methods (RFC 9110 9.3, and the registry of 16.1.1): those that are in use."""


def warnings_of(pipe: CompiledPipeline) -> list[Problem]:
    """What of a pipeline can be used, but will hardly be meant; each says so at its place."""
    found = Problems(pipe.source.doc)
    for look in (_of_the_stages, _of_keys, of_routes, _of_methods, of_patterns, of_matchers, of_errors):
        for path, what, mend in look(pipe):
            found.add(path, f"warning: {what}", mend)
    return sorted(found.problems, key=lambda problem: problem.spot)


Doubts = Iterator[tuple[Path, str, str]]
"""Where, what, and the mend."""


def _of_the_stages(pipe: CompiledPipeline) -> Doubts:
    for id_, option in pipe.options.items():
        for path, what, mend in option.doubtful():
            yield (*pipe.stages_at[id_], *path), what, mend


def _of_keys(pipe: CompiledPipeline) -> Doubts:
    for name, key in pipe.spec.signing_keys.items():
        octets = len((key.secret or "").encode())
        if key.algorithm == "HS256" and octets < 32:
            what = f"the secret of '{name}' has {octets} octets; HS256 asks for 32 (RFC 7518 3.2)"
            yield ("signing-keys", name, "secret"), what, "write a longer one"


def of_routes(pipe: CompiledPipeline) -> Doubts:
    held = {"role": set[str](), "scope": set[str]()}
    for account in pipe.spec.accounts.values():
        held["role"].update(account.roles)
        held["scope"].update(account.scopes)
    for group in all_groups(pipe.spec.groups):
        if group.desk is not None:
            held["role"].update(group.desk.signed_up_as)
    for item in pipe.placed:
        if item.desk is not None:
            continue
        where = pipe.routes_at[item.route.id]
        access: Access | None = item.spec.access
        for name in access.names if access is not None and pipe.spec.accounts else ():
            if access is not None and name not in held[access.who]:
                mend = did_you_mean(name, sorted(held[access.who]))
                yield (*where, "access", access.who), f"no account has the {access.who} '{name}'", mend
        for id_ in running_order(pipe.spec, item):
            for path, what, mend in pipe.options[id_].route_warnings(item.spec) if id_ in pipe.options else ():
                yield (*where, *path), what, mend


def _of_methods(pipe: CompiledPipeline) -> Doubts:
    """Methods that no registry has: a slip, unless the service has methods of its own."""

    def unknown(path: Path, methods: Iterable[str]) -> Doubts:
        for method in methods:
            if method not in METHODS:
                hint = did_you_mean(method, METHODS)
                mend = hint if hint.startswith("did") else "keep it if callers do send it"
                yield path, f"no standard has the method '{method}'", mend

    for item in pipe.placed:
        if item.desk is None:
            yield from unknown((*pipe.routes_at[item.route.id], "at"), [item.route.method])
    for path, pattern in _request_patterns(pipe):
        yield from unknown(path, split_request(pattern)[0])
    for path, when in _every(pipe, When):
        yield from unknown((*path, "method"), when.method or ())


def of_patterns(pipe: CompiledPipeline) -> Doubts:
    """``only`` and ``except`` that no route of the pipeline can ever fit."""
    places = [(item.route.method, item.route.template) for item in pipe.placed]
    for path, pattern in _request_patterns(pipe):
        methods, text = split_request(pattern)
        fitting = {method for method, template in places if fits_template(text, template.segments)}
        if not fitting:
            yield path, f"no route fits {pattern}", did_you_mean(text, [template.text for _, template in places])
        elif methods and not {*methods} & (fitting | {"OPTIONS"} | ({"HEAD"} if "GET" in fitting else set())):
            yield path, f"no route of {text} takes {' or '.join(methods)}", f"write {','.join(sorted(fitting))} {text}"


def of_matchers(pipe: CompiledPipeline) -> Doubts:
    """Routes that ``when`` names and the pipeline doesn't have."""
    known = [item.route.id for item in pipe.placed]
    templates = [item.route.template for item in pipe.placed]
    for path, when in _every(pipe, When):
        for name in when.route if isinstance(when.route, list) else [when.route]:
            if isinstance(name, str) and name not in (*known, "missing", "present"):
                yield (*path, "route"), f"there is no route '{name}'", did_you_mean(name, known)
        for pattern in when.path or ():
            if not any(fits_template(pattern, template.segments) for template in templates):
                yield (
                    (*path, "path"),
                    f"no route fits {pattern}",
                    did_you_mean(pattern, [one.text for one in templates]),
                )


def of_errors(pipe: CompiledPipeline) -> Doubts:
    """Types that an error handler answers and nothing raises; types raised that look misspelt."""
    known = ErrorTypes(pipe.spec.errors)
    raises = list(_every(pipe, RaiseSpec))
    answered = {name for _, entry in _every(pipe, Model) for name in getattr(entry, "raised", None) or ()}
    for path, spec in raises:
        if spec.type not in known and spec.type not in answered:
            hint = type_hint(spec.type, [*pipe.spec.errors, *answered])
            if hint.startswith("did"):
                yield (*path, "type"), f"nothing knows the error type '{spec.type}'", hint
    raised = types_raised(pipe)
    if raised is None:
        return
    for path, entry in _every(pipe, Model):
        for name in getattr(entry, "raised", None) or ():
            if name not in raised and name != ANY:
                what = f"nothing declares or raises the error type '{name}'"
                yield (*path, "raised"), what, type_hint(name, raised)


def types_raised(pipe: CompiledPipeline) -> list[str] | None:
    """Every error type that there can be in this pipeline; None where its own code may raise what it likes."""
    if any(option.kind == "python" for option in pipe.options.values()) or any(
        item.spec.handler.python for item in pipe.placed if item.desk is None
    ):
        return None
    raised = {spec.type for _, spec in _every(pipe, RaiseSpec)}
    return [*ErrorTypes(pipe.spec.errors).names(), *sorted(raised), *BY_THE_ENGINE]


# Where things are said.


def _request_patterns(pipe: CompiledPipeline) -> Iterator[tuple[Path, str]]:
    """Every pattern of ``only`` and ``except``, with its place."""
    for id_, option in pipe.options.items():
        for key, patterns in (("only", option.only), ("except", option.except_)):
            for at, pattern in enumerate(patterns or ()):
                yield (*pipe.stages_at[id_], key, at), pattern


def _every(pipe: CompiledPipeline, sort: type[T]) -> Iterator[tuple[Path, T]]:
    return ((path, node) for path, node in pipe.said if isinstance(node, sort))
