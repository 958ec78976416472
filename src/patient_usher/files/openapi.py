"""An OpenAPI 3.0, 3.1 or 3.2 description as a pipeline: what it says, and with a comment what was guessed."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator
from itertools import chain, count
from pathlib import Path
from typing import NamedTuple

from patient_usher.core.engine.compile.compiler import compile_document
from patient_usher.core.http.fields import TOKEN
from patient_usher.core.model.document import Json, Map, Problem, Seq, Spot, Unusable, locate
from patient_usher.core.model.templates import parse_template
from patient_usher.core.model.text_types import show
from patient_usher.core.model.values import literal_tree
from patient_usher.core.model.words import counted
from patient_usher.files.openapi_description import Description, Document
from patient_usher.files.pipeline import SiblingFiles


class Described(NamedTuple):
    """A pipeline as a document, the comments above its members and above all of it, and what there is to say."""

    pipeline: Document
    comments: dict[str, str]
    heading: str
    notes: list[str]


def pipeline_of_openapi(doc: Json, name: str) -> Described:
    """What a description says, as a pipeline. Raises Unusable."""
    key = "swagger" if isinstance(doc, dict) and "openapi" not in doc and "swagger" in doc else "openapi"
    version = str(doc.get(key, "")) if isinstance(doc, dict) else ""
    if not version.startswith(("3.0", "3.1", "3.2")):
        what = f"OpenAPI {version or 'of no version'} can't be read"
        raise Unusable([Problem(locate(doc, [key]), what, "give a description of OpenAPI 3.0, 3.1 or 3.2")])
    return _Writer(doc).described(name)


class _Writer:
    """Makes the pipeline of one description."""

    def __init__(self, doc: Document) -> None:
        self.said = Description(doc)
        self.notes: list[str] = []
        self.ids: set[str] = set()
        self.guessed = 0

    # The pipeline.

    def described(self, name: str) -> Described:
        """The whole of it."""
        info = self.said.part(self.said.doc, "info")
        self.known = dict(self._authenticating())
        needs = {}
        made = []
        for operation in self.said.operations():
            made.append(self.route(*operation))
            needs[made[-1]["at"]] = self._needs(operation[2])
        routes = self._sound(made)
        prefix = self._prefix()
        stages: list[Json] = ["access-log", {"id": "safety-net", "kind": "error-handler"}, "read-body"]
        schemes = list(self.known.values())
        if any(scheme.get("in") == "cookie" for scheme in schemes):
            stages.append("read-cookies")
        stages += self._askers({route["at"]: needs[route["at"]] for route in routes}, prefix)
        inner = ([{"id": "may", "kind": "authorize"}] if schemes else []) + [{"id": "form", "kind": "validate"}]
        group = {"id": "api", **({"prefix": prefix} if prefix else {}), "stages": inner, "routes": routes}
        comments = {"stages": "guessed: a description says nothing of stages and their order"}
        pipeline: Document = {
            "patient-usher": "pipeline/1",
            "name": str(info.get("title") or name),
            "refuse": "raise",
            "stages": stages,
            "groups": [group],
        }
        if accounts := self._accounts(schemes, routes):
            pipeline["accounts"] = accounts
            comments["accounts"] = "guessed: the description names no callers"
        pipeline = _guarded(pipeline)
        if any(scheme["scheme"] == "bearer" for scheme in schemes):
            secret = "${env:SIGNING_SECRET|made-up-secret-until-there-is-one}"
            pipeline["signing-keys"] = {"main": {"algorithm": "HS256", "secret": secret}}
            comments["signing-keys"] = "guessed: how tokens are signed"
        heading = f"Made of {name}. Handlers answer its examples, or what fits its schemas."
        said = [f"{counted(len(routes), 'route')}, {counted(len(schemes), 'way')} to show who is calling"]
        opened = (
            [f"{self.said.open:,} schemas are larger than a pipeline holds: anything fits them"]
            if self.said.open
            else []
        )
        made_up = [f"{self.guessed:,} answers made up, where no example stands"] if self.guessed else []
        return Described(pipeline, comments, heading, [*said, *self.notes, *opened, *made_up])

    def _sound(self, routes: list[Document]) -> list[Document]:
        """The routes that a pipeline can have; of the others is told why each can't be."""
        while routes:
            places = Seq(Spot("route", 0, 1))
            for at, route in enumerate(routes, 1):
                place = Map(Spot("route", at, 1), route.items())
                place.spots = dict.fromkeys(route, (place.spot, place.spot))
                places.append(place)
                places.spots.append(place.spot)
            whole = Map(Spot("route", 0, 1), {"patient-usher": "pipeline/1", "routes": places}.items())
            whole.spots = dict.fromkeys(whole, (whole.spot, whole.spot))
            try:
                compile_document(whole, read_file=SiblingFiles(Path(os.devnull)))
            except Unusable as error:
                odd = {problem.spot.line: problem.what for problem in error.problems if problem.spot.line}
                if not odd:
                    raise
                self.notes += [f"{routes[at - 1]['at']} is left out: {what}" for at, what in odd.items()][:_SHOWN]
                if len(odd) > _SHOWN:
                    self.notes.append(f"{len(odd) - _SHOWN:,} more routes are left out")
                routes = [route for at, route in enumerate(routes, 1) if at not in odd]
                continue
            break
        return routes

    def _prefix(self) -> str:
        servers = self.said.parts(self.said.doc, "servers")
        url = str(servers[0].get("url", "")) if servers else ""
        path = re.sub(r"^[a-z]+://[^/]*", "", url).rstrip("/")
        if "{" in path:
            self.notes.append(f"the server's path {path} has variables; the routes stand at the root")
            return ""
        try:
            parse_template(path, prefix=True)
        except ValueError as error:
            self.notes.append(f"the server's path can't be a prefix: {error}; the routes stand at the root")
            return ""
        return path

    def _authenticating(self) -> Iterator[tuple[str, Document]]:
        """Every security scheme that a pipeline has, by name; what it hasn't, or takes for another, is told."""
        for name, scheme in self.said.schemes.items():
            kind, http = scheme.get("type"), str(scheme.get("scheme")).lower()
            if kind == "http" and http == "basic":
                yield name, {"scheme": "basic"}
            elif kind == "apiKey" and scheme.get("in") in ("header", "query", "cookie") and _is_name(scheme):
                yield name, {"scheme": "api-key", "in": scheme["in"], "name": scheme.get("name", "X-Api-Key")}
            elif (kind == "http" and http == "bearer") or kind in ("oauth2", "openIdConnect"):
                if kind != "http":
                    self.notes.append(f"the security scheme {name} ({kind}) is taken as signed tokens (signing-keys)")
                yield name, {"scheme": "bearer", "keys": "main"}
            elif kind == "mutualTLS":
                self.notes.append(f"the security scheme {name} (mutualTLS) is left out: no request shows it")
            else:
                told = f"http {http}" if kind == "http" else show(kind)
                self.notes.append(f"the security scheme {name} ({told}) is left out: a pipeline has no such one")

    def _needs(self, operation: Document) -> Need:
        """Which schemes an operation needs: all of any of the sets. Empty, where it needs none that a pipeline has."""
        wanted = self.said.parts(operation if "security" in operation else self.said.doc, "security")
        if not wanted or not all(wanted):
            return ()
        known = [tuple(name for name in one if name in self.known) for one in wanted]
        return tuple(dict.fromkeys(one for one in known if one))

    def _askers(self, needs: dict[str, Need], prefix: str) -> Iterator[Document]:
        """The stages that find out who calls: one, where all routes need the same; else one for each need and,
        where several schemes are needed at once, for each of these, on its own routes only.
        """
        every = list(dict.fromkeys(need for need in needs.values() if need))
        if len(every) <= 1 and all(len(one) == 1 for need in every for one in need):
            names = [name for need in every for (name,) in need] or list(self.known)
            if names:
                yield {"id": "who", "kind": "authenticate", "schemes": _each_once(self.known[name] for name in names)}
            return
        ids = (f"who-{number}" for number in count(1))
        for need in every:
            at = [place for place, own in needs.items() if own == need]
            others = [place for place, own in needs.items() if own != need and any(_covers(one, place) for one in at)]
            where: Document = {"only": [_pattern(place, prefix) for place in at]}
            if others:
                where["except"] = [_pattern(place, prefix) for place in others]
            if len(need) == 1:
                for name in need[0]:
                    more = {"without-credential": "refuse"} if len(need[0]) > 1 else {}
                    yield {"id": next(ids), "kind": "authenticate", "schemes": [self.known[name]], **more, **where}
                continue
            if any(len(one) > 1 for one in need):
                told = " or ".join(" and ".join(one) for one in need)
                self.notes.append(f"{at[0]} needs {told}: here any of them does")
            schemes = _each_once(self.known[name] for one in need for name in one)
            yield {"id": next(ids), "kind": "authenticate", "schemes": schemes, **where}

    def _accounts(self, schemes: list[Document], routes: list[Document]) -> Document:
        if not schemes:
            return {}
        account: Document = {"password": "not-a-real-password", "api-keys": ["a-made-up-key"]}
        scopes = sorted({name for route in routes for name in _scopes(route)})
        return {"somebody": {**account, **({"scopes": scopes} if scopes else {})}}

    def route(self, path: str, method: str, operation: Document, parameters: list[Json]) -> Document:
        """One operation as a route."""
        wanted = str(operation.get("operationId") or f"{method}{path}")
        id_ = re.sub(r"[^A-Za-z0-9_.-]+", "-", wanted).strip("-.") or method
        id_ = next(each for each in chain([id_], (f"{id_}-{n}" for n in count(2))) if each not in self.ids)
        self.ids.add(id_)
        template = re.sub(r"\{([^}]*)\}", lambda m: "{" + _variable(m[1]) + "}", path)
        at = f"{method.upper()} {template}"
        route: Document = {"id": id_, "at": at, "access": self._access(operation, at)}
        inputs = {**self._inputs(parameters), **self._body(operation)}
        if inputs:
            route["input"] = inputs
        return {**route, "handler": {"answer": self._answer(operation)}}

    def _access(self, operation: Document, at: str) -> Json:
        needs = self.said.parts(operation if "security" in operation else self.said.doc, "security")
        if not all(needs) or not needs:
            return "everyone"
        if not self._needs(operation):
            named = ", ".join(dict.fromkeys(str(name) for need in needs for name in need))
            self.notes.append(f"{at} needs {named}, which is left out: it is open here")
            return "everyone"
        scopes = [str(scope) for need in needs for names in need.values() if isinstance(names, list) for scope in names]
        if any(isinstance(names, list) and len(names) > 1 for need in needs for names in need.values()):
            self.notes.append(f"{at} needs several scopes at once: here any of them lets in")
        return {"scope": sorted(set(scopes))} if scopes else "signed-in"

    def _inputs(self, parameters: list[Json]) -> Document:
        found: Document = {}
        for place, key in (("path", "path"), ("query", "query"), ("header", "headers")):
            chosen = [one for one in parameters if one.get("in") == place and isinstance(one.get("name"), str)]
            chosen = [one for one in chosen if not self._is_spread(one)]
            if chosen:
                named = {_variable(one["name"]) if place == "path" else one["name"]: one for one in chosen}
                properties = {name: _as_text(self.said.schema(one), one) for name, one in named.items()}
                if place == "path" and not any(_narrows(schema) for schema in properties.values()):
                    continue  # any segment does
                required = [name for name, one in named.items() if one.get("required") and place != "path"]
                schema: Document = {"type": "object", "properties": properties}
                found[key] = {**schema, **({"required": required} if required else {})}
        return found

    def _is_spread(self, parameter: Document) -> bool:
        """Whether each member of an object is a query parameter of its own (Parameter Object, Style Values)."""
        schema = self.said.resolved(parameter.get("schema"))
        is_object = isinstance(schema, dict) and schema.get("type") == "object"
        return is_object and _style(parameter) in (("deepObject", False), ("deepObject", True), ("form", True))

    def _body(self, operation: Document) -> Document:
        asked = self.said.part(operation, "requestBody")
        content = self.said.part(asked, "content")
        for media in content:
            key = "json" if "json" in media else "form" if "form" in media else None
            part = self.said.part(content, media)
            if key is not None and part.get("schema") is not None:
                optional: Document = {} if asked.get("required") is True else {"body": "optional"}
                return {key: self.said.schema(part), **optional}
        return {}

    def _answer(self, operation: Document) -> Document:
        responses = self.said.part(operation, "responses")
        codes = {str(key): key for key in sorted(responses, key=str)}
        code = next((code for code in codes if code.startswith("2")), "default" if "default" in codes else None)
        answer: Document = {"status": int(code) if code and code.isdecimal() and len(code) == 3 else 200}
        content = self.said.part(self.said.part(responses, codes[code]), "content") if code is not None else {}
        for media in content:
            example = self._example(self.said.part(content, media))
            if "json" in media:
                return {**answer, "json": literal_tree(example)}
            return {**answer, "headers": {"Content-Type": media}, "text": str(literal_tree(example))}
        return answer

    def _example(self, part: Document) -> Json:
        if "example" in part:
            return part["example"]
        examples = self.said.part(part, "examples")
        for name in examples:
            one = self.said.part(examples, name)
            if "value" in one:
                return one["value"]
        schema = self.said.resolved(part.get("schema") or {})
        if isinstance(schema, dict) and "example" in schema:
            return schema["example"]
        self.guessed += 1
        from patient_usher.core.decisions.schema_samples import sample

        return sample(schema, self.said.doc)


_SHOWN = 5
"""Of how many routes that are left out is told why."""


Need = tuple[tuple[str, ...], ...]
"""Names of security schemes: all of any of these."""


def _variable(name: str) -> str:
    """A path parameter's name as a route's template may have it."""
    return re.sub(r"[^A-Za-z0-9_-]", "_", name)


_BETWEEN = {"form": ",", "simple": ",", "spaceDelimited": " ", "pipeDelimited": "|"}
_ITEMS = {"integer": "-?[0-9]+", "number": "-?[0-9]+(?:[.][0-9]+)?(?:[eE][+-]?[0-9]+)?", "boolean": "(?:true|false)"}


def _style(parameter: Document) -> tuple[str, bool]:
    """How a parameter is written, and whether each item of it by itself; with the defaults (Parameter Object)."""
    style = str(parameter.get("style", "form" if parameter.get("in") == "query" else "simple"))
    return style, bool(parameter.get("explode", style == "form"))


def _as_text(schema: Json, parameter: Document) -> Json:
    """A parameter's schema, as one for the text that comes: a list in one text is held by a pattern (Style Values)."""
    kind = schema.get("type") if isinstance(schema, dict) else None
    style, exploded = _style(parameter)
    if kind not in ("array", "object") or (style, exploded) == ("form", True):
        return schema
    if kind == "object" or style not in _BETWEEN or (exploded and style != "simple"):
        return {}
    between = re.escape(_BETWEEN[style]) + (" *" if parameter.get("in") == "header" else "")
    items = schema.get("items")
    items = items if isinstance(items, dict) else {}
    words = items.get("enum")
    if isinstance(words, list) and words and all(isinstance(one, str | int) for one in words):
        item = f"(?:{'|'.join(re.escape(str(one)) for one in words)})"
    else:
        item = _ITEMS.get(str(items.get("type")), f"[^{re.escape(_BETWEEN[style])}]*")
    least, most = schema.get("minItems"), schema.get("maxItems")
    least = least if isinstance(least, int) and 0 < least < _MOST_ITEMS else 0
    upper = most - 1 if isinstance(most, int) and 0 < most < _MOST_ITEMS else ""
    count = f"{{{max(least - 1, 0)},{upper}}}" if least > 1 or upper != "" else "*"
    whole = f"{item}(?:{between}{item}){count}"
    pattern = f"^{whole}$" if least else f"^(?:{whole})?$"
    return {"type": "string", "pattern": pattern} if len(pattern) < _LONGEST_PATTERN else {"type": "string"}


_MOST_ITEMS, _LONGEST_PATTERN = 500, 2_000
"""RE2 counts no further than a thousand; and how long a pattern of a pipeline may be."""


def _narrows(schema: Json) -> bool:
    """Whether not every segment of a path fits a schema."""
    return isinstance(schema, dict) and (schema.get("type") not in (None, "string") or bool(schema.keys() - _SAYS))


def _each_once(schemes: Iterable[Document]) -> list[Document]:
    found: list[Document] = []
    for scheme in schemes:
        if scheme not in found:
            found.append(scheme)
    return found


def _pattern(place: str, prefix: str) -> str:
    """Where a route is, as ``only`` says it."""
    method, _, path = place.partition(" ")
    return f"{method} {prefix}" + re.sub(r"\{[^}]*\}", "*", path)


def _covers(place: str, other: str) -> bool:
    """Whether the pattern of a route fits another's place too."""
    (method, _, path), (its, _, narrower) = place.partition(" "), other.partition(" ")
    ours, theirs = path.split("/"), narrower.split("/")
    return (
        method == its
        and len(ours) == len(theirs)
        and all(a == b or "{" in a for a, b in zip(ours, theirs, strict=True))
    )


def _is_name(scheme: Document) -> bool:
    name = scheme.get("name", "X-Api-Key")
    return isinstance(name, str) and TOKEN.fullmatch(name) is not None


_SAYS = {"type", "description", "title", "example", "examples", "default"}
_ASKS = re.compile(r"(?<!\$)\$\{env:")


def _guarded(value: Json) -> Json:
    """A value with which nothing comes in from the environment, wherever in the description it stood."""
    if isinstance(value, str):
        return _ASKS.sub("$${env:", value) if "${env:" in value else value
    if isinstance(value, dict):
        return {_guarded(str(key)): _guarded(part) for key, part in value.items()}
    return [_guarded(part) for part in value] if isinstance(value, list) else value


def _scopes(route: Document) -> list[str]:
    access = route.get("access")
    return access["scope"] if isinstance(access, dict) else []
