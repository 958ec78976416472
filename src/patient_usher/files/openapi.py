"""An OpenAPI 3.0, 3.1 or 3.2 description as a pipeline: what it says, and with a comment what was guessed."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator
from itertools import chain, count
from pathlib import Path
from typing import NamedTuple

from patient_usher.core.engine.compile.compiler import compile_document
from patient_usher.core.model.document import Json, JsonObject, Map, Problem, Seq, Spot, Unusable, locate
from patient_usher.core.model.header_rules import TOKEN
from patient_usher.core.model.schemas import schema_problems
from patient_usher.core.model.text_types import show
from patient_usher.core.model.values import pointer
from patient_usher.core.model.words import counted
from patient_usher.files.pipeline import Beside

Document = JsonObject

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace", "query")
_DEEPEST = 40


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
    return _Reader(doc).described(name)


class _Reader:
    """Reads one description."""

    def __init__(self, doc: Document) -> None:
        self.doc = doc
        self.notes: list[str] = []
        self.ids: set[str] = set()
        self.sound: set[str] = set()
        self.guessed = self.open = 0
        self.left = _LARGEST_OF_ALL

    # What the description says.

    def resolved(self, node: Json) -> Json:
        """A part with its ``$ref`` within the file resolved. Raises Unusable for any other."""
        seen = 0
        while isinstance(node, dict) and isinstance(node.get("$ref"), str):
            ref = node["$ref"]
            seen += 1
            try:
                if not ref.startswith("#") or seen > _DEEPEST:
                    raise LookupError(ref)
                node = pointer(self.doc, ref[1:])
            except LookupError:
                what = f"{ref} names nothing in this file" if seen <= _DEEPEST else f"{ref} leads round in a circle"
                mend = "put what it names into the file"
                raise Unusable([Problem(locate(node, ["$ref"]), what, mend)]) from None
        return node

    def part(self, node: Document, key: str) -> Document:
        """A mapping below a part, resolved; an empty one where there is none. Raises Unusable."""
        found = self.resolved(node.get(key))
        if not isinstance(found, dict | None):
            what = f"'{key}' must be a mapping, not {show(found)}"
            raise Unusable([Problem(locate(node, [key]), what, _MEND)])
        return found or {}

    def parts(self, node: Document, key: str) -> list[Document]:
        """A list of mappings below a part, each resolved. Raises Unusable."""
        found = node.get(key)
        each = [self.resolved(one) for one in found] if isinstance(found, list) else []
        if (found is not None and not isinstance(found, list)) or not all(isinstance(one, dict) for one in each):
            raise Unusable([Problem(locate(node, [key]), f"'{key}' must be a list of mappings", _MEND)])
        return each

    def schema(self, part: Document) -> Json:
        """The ``schema`` of a part, as one that stands by itself. Raises Unusable where it is no JSON Schema."""
        made = self._standing(part.get("schema", {}))
        if (key := repr(made)) not in self.sound:
            for _, what, mend in schema_problems(made):
                raise Unusable([Problem(locate(part, ["schema"]), what, mend)])
            self.sound.add(key)
        return made

    def _standing(self, node: Json) -> Json:
        """A schema with what it refers to written in its place, or below ``$defs``.

        What is small and doesn't lead back into itself stands in place. What is larger than a pipeline can hold
        becomes a schema that anything fits, and is counted.
        """
        room = _Room(_IN_PLACE)
        try:
            return self._plain(node, room, frozenset())
        except _Full:
            pass
        names: dict[str, str] = {}
        defs: Document = {}
        room = _Room(before := min(_LARGEST, self.left))
        try:
            made = self._plain(node, room, names)
            while len(defs) < len(names):
                ref = list(names)[len(defs)]
                defs[names[ref]] = self._plain(self.resolved({"$ref": ref}), room, names)
        except _Full:
            self.open += 1
            return {}
        self.left -= before - room.left
        return {**made, "$defs": defs} if isinstance(made, dict) else made

    def _plain(self, node: Json, room: _Room, refs: frozenset[str] | dict[str, str]) -> Json:
        """A schema in the words of JSON Schema 2020-12. Raises _Full.

        ``refs`` are those within which it stands, which are written in place; or their names below ``$defs``.
        """
        room.take()
        if not isinstance(node, dict):
            return node
        if isinstance(ref := node.get("$ref"), str):
            if isinstance(refs, dict):
                if ref not in refs:
                    refs[ref] = _named(ref, refs)
                return {"$ref": f"#/$defs/{refs[ref]}"}
            if ref in refs:
                raise _Full
            return self._plain(self.resolved(node), room, refs | {ref})
        found: Document = {}
        for key, value in node.items():
            if key in _NO_SCHEMA:
                continue
            if key in _VALUES:
                found[key] = value
            elif key in _BY_NAME and isinstance(value, dict):
                found[key] = {str(name): self._plain(below, room, refs) for name, below in value.items()}
            elif isinstance(value, list):
                found[key] = [self._plain(below, room, refs) for below in value]
            else:
                found[key] = self._plain(value, room, refs)
        if node.get("nullable") is True and isinstance(found.get("type"), str):  # OpenAPI 3.0
            found["type"] = [found["type"], "null"]
            if isinstance(found.get("enum"), list) and None not in found["enum"]:
                found["enum"] = [*found["enum"], None]
        for key, bound in (("exclusiveMinimum", "minimum"), ("exclusiveMaximum", "maximum")):
            if found.get(key) is True and bound in found:
                found[key] = found.pop(bound)
            elif isinstance(found.get(key), bool):
                del found[key]
        return found

    @property
    def schemes(self) -> Document:
        """The security schemes by name."""
        named = self.part(self.part(self.doc, "components"), "securitySchemes")
        return {name: self.part(named, name) for name in named}

    def operations(self) -> Iterator[tuple[str, str, Document, list[Json]]]:
        """Every path, method and operation, with its parameters."""
        paths = self.part(self.doc, "paths")
        for path in paths:
            if not path.startswith("/"):  # an extension
                continue
            item = self.part(paths, path)
            further = self.part(item, "additionalOperations")  # OpenAPI 3.2
            for method in (*_METHODS, *further):
                if method in item or method in further:
                    operation = self.part(further if method in further else item, method)
                    both = (*self.parts(item, "parameters"), *self.parts(operation, "parameters"))
                    named = {(one.get("name"), one.get("in")): one for one in both}
                    yield path, method, operation, list(named.values())

    # The pipeline.

    def described(self, name: str) -> Described:
        """The whole of it."""
        info = self.part(self.doc, "info")
        self.known = dict(self._authenticating())
        needs = {}
        made = []
        for operation in self.operations():
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
        opened = [f"{self.open:,} schemas are larger than a pipeline holds: anything fits them"] if self.open else []
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
                compile_document(whole, read_file=Beside(Path(os.devnull)))
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
        servers = self.parts(self.doc, "servers")
        url = str(servers[0].get("url", "")) if servers else ""
        path = re.sub(r"^[a-z]+://[^/]*", "", url).rstrip("/")
        if "{" in path:
            self.notes.append(f"the server's path {path} has variables; the routes stand at the root")
            return ""
        return path if path.startswith("/") else ""

    def _authenticating(self) -> Iterator[tuple[str, Document]]:
        """Every security scheme that a pipeline has, by name; what it hasn't, or takes for another, is told."""
        for name, scheme in self.schemes.items():
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
        wanted = self.parts(operation if "security" in operation else self.doc, "security")
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
        needs = self.parts(operation if "security" in operation else self.doc, "security")
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
            if chosen:
                named = {_variable(one["name"]) if place == "path" else one["name"]: one for one in chosen}
                properties = {name: self.schema(one) for name, one in named.items()}
                if place == "path" and not any(_narrows(schema) for schema in properties.values()):
                    continue  # any segment does
                required = [name for name, one in named.items() if one.get("required") and place != "path"]
                schema: Document = {"type": "object", "properties": properties}
                found[key] = {**schema, **({"required": required} if required else {})}
        return found

    def _body(self, operation: Document) -> Document:
        content = self.part(self.part(operation, "requestBody"), "content")
        for media in content:
            key = "json" if "json" in media else "form" if "form" in media else None
            part = self.part(content, media)
            if key is not None and part.get("schema") is not None:
                return {key: self.schema(part)}
        return {}

    def _answer(self, operation: Document) -> Document:
        responses = self.part(operation, "responses")
        codes = {str(key): key for key in sorted(responses, key=str)}
        code = next((code for code in codes if code.startswith("2")), "default" if "default" in codes else None)
        answer: Document = {"status": int(code) if code and code.isdecimal() and len(code) == 3 else 200}
        content = self.part(self.part(responses, codes[code]), "content") if code is not None else {}
        for media in content:
            example = self._example(self.part(content, media))
            if "json" in media:
                return {**answer, "json": _literal(example)}
            return {**answer, "headers": {"Content-Type": media}, "text": str(_literal(example))}
        return answer

    def _example(self, part: Document) -> Json:
        if "example" in part:
            return part["example"]
        examples = self.part(part, "examples")
        for name in examples:
            one = self.part(examples, name)
            if "value" in one:
                return one["value"]
        schema = self.resolved(part.get("schema") or {})
        if isinstance(schema, dict) and "example" in schema:
            return schema["example"]
        self.guessed += 1
        from patient_usher.core.analysis.requests.schema_samples import sample

        return sample(schema, self.doc)


_SHOWN = 5
"""Of how many routes that are left out is told why."""


Need = tuple[tuple[str, ...], ...]
"""Names of security schemes: all of any of these."""


def _variable(name: str) -> str:
    """A path parameter's name as a route's template may have it."""
    return re.sub(r"[^A-Za-z0-9_-]", "_", name)


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


class _Full(Exception):
    """A schema is larger than there is room for, or leads back into itself."""


class _Room:
    """How many values a schema may still have."""

    def __init__(self, left: int) -> None:
        self.left = left

    def take(self) -> None:
        self.left -= 1
        if self.left < 0:
            raise _Full


def _named(ref: str, taken: dict[str, str]) -> str:
    """A name of its own below ``$defs`` for what a reference leads to."""
    stem = re.sub(r"[^A-Za-z0-9_.-]+", "-", ref.rpartition("/")[2]).strip("-") or "part"
    return next(name for name in chain([stem], (f"{stem}-{n}" for n in count(2))) if name not in taken.values())


_IN_PLACE = 200
_LARGEST = 5_000
_LARGEST_OF_ALL = 500_000
"""How many values a schema may have in place, by itself, and all schemas of a description together."""
_MEND = "write it as the OpenAPI Specification says"
_BY_NAME = {"properties", "patternProperties", "$defs", "definitions", "dependentSchemas"}
_VALUES = {"enum", "const", "default", "example", "examples", "required", "pattern", "type"}
_SAYS = {"type", "description", "title", "example", "examples", "default"}
_NO_SCHEMA = {"nullable", "discriminator", "xml", "externalDocs", "deprecated", "readOnly", "writeOnly"}


_ASKS = re.compile(r"(?<!\$)\$\{env:")


def _guarded(value: Json) -> Json:
    """A value with which nothing comes in from the environment, wherever in the description it stood."""
    if isinstance(value, str):
        return _ASKS.sub("$${env:", value)
    if isinstance(value, dict):
        return {_guarded(str(key)): _guarded(part) for key, part in value.items()}
    return [_guarded(part) for part in value] if isinstance(value, list) else value


def _literal(value: Json) -> Json:
    """A value in whose texts nothing is filled in."""
    if isinstance(value, str):
        return value.replace("${", "$${")
    if isinstance(value, dict):
        return {str(key).replace("${", "$${"): _literal(part) for key, part in value.items()}
    return [_literal(part) for part in value] if isinstance(value, list) else value


def _scopes(route: Document) -> list[str]:
    access = route.get("access")
    return access["scope"] if isinstance(access, dict) else []
