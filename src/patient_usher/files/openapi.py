"""An OpenAPI 3.0 or 3.1 description as a pipeline: what it says, and with a comment what was guessed."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from patient_usher.core.model.document import Problem, Unusable, locate
from patient_usher.core.model.values import pointer

Document = dict[str, Any]

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
_DEEPEST = 40


def pipeline_of_openapi(doc: Any, name: str) -> tuple[str, list[str]]:
    """The text of a pipeline file, and what there is to say of it. Raises Unusable."""
    version = str(doc.get("openapi", "")) if isinstance(doc, dict) else ""
    if not version.startswith(("3.0", "3.1")):
        what = f"OpenAPI {version or 'of no version'} can't be read"
        raise Unusable([Problem(locate(doc, ["openapi"]), what, "give a description of OpenAPI 3.0 or 3.1")])
    reader = _Reader(doc)
    return reader.text(name), reader.notes


class _Reader:
    """Reads one description."""

    def __init__(self, doc: Document) -> None:
        self.doc = doc
        self.notes: list[str] = []
        self.ids: set[str] = set()
        self.guessed = 0

    # What the description says.

    def resolved(self, node: Any) -> Any:
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
                raise Unusable([Problem(locate(self.doc, ()), what, mend)]) from None
        return node

    def whole(self, schema: Any, within: frozenset[str] = frozenset()) -> Any:
        """A schema with every reference resolved; what leads back into itself ends as anything."""
        if isinstance(schema, dict) and isinstance(schema.get("$ref"), str):
            ref = schema["$ref"]
            return {} if ref in within else self.whole(self.resolved(schema), within | {ref})
        if isinstance(schema, dict):
            found = {key: self.whole(value, within) for key, value in schema.items() if key not in _NO_SCHEMA}
            if schema.get("nullable") is True and isinstance(found.get("type"), str):  # OpenAPI 3.0
                found["type"] = [found["type"], "null"]
            for key, bound in (("exclusiveMinimum", "minimum"), ("exclusiveMaximum", "maximum")):
                if found.get(key) is True:
                    found[key] = found.pop(bound)
                elif found.get(key) is False:
                    del found[key]
            return found
        return [self.whole(item, within) for item in schema] if isinstance(schema, list) else schema

    @property
    def schemes(self) -> Document:
        """The security schemes by name."""
        parts = self.resolved((self.doc.get("components") or {}).get("securitySchemes") or {})
        return {name: self.resolved(scheme) for name, scheme in parts.items()} if isinstance(parts, dict) else {}

    def operations(self) -> Iterator[tuple[str, str, Document, list[Any]]]:
        """Every path, method and operation, with its parameters."""
        for path, item in (self.doc.get("paths") or {}).items():
            item = self.resolved(item)
            for method in _METHODS:
                if isinstance(item, dict) and isinstance(item.get(method), dict):
                    operation = item[method]
                    shared = [self.resolved(one) for one in item.get("parameters") or ()]
                    own = [self.resolved(one) for one in operation.get("parameters") or ()]
                    named = {(one.get("name"), one.get("in")): one for one in (*shared, *own)}
                    yield path, method, operation, list(named.values())

    # The pipeline.

    def text(self, name: str) -> str:
        """The file."""
        from ruamel.yaml import YAML
        from ruamel.yaml.comments import CommentedMap

        info = self.doc.get("info") or {}
        routes = [self.route(*operation) for operation in self.operations()]
        prefix = self._prefix()
        stages: list[Any] = ["access-log", {"id": "safety-net", "kind": "error-handler"}, "read-body"]
        schemes = list(self._authenticating())
        if any(scheme.get("in") == "cookie" for scheme in schemes):
            stages.append("read-cookies")
        if schemes:
            stages.append({"id": "who", "kind": "authenticate", "schemes": schemes})
        inner = ([{"id": "may", "kind": "authorize"}] if schemes else []) + [{"id": "form", "kind": "validate"}]
        root = CommentedMap()
        root["patient-usher"] = "pipeline/1"
        root["name"] = str(info.get("title") or name)
        root["refuse"] = "raise"
        root["stages"] = _flowing(stages)
        group = CommentedMap({"id": "api"})
        if prefix:
            group["prefix"] = prefix
        group["stages"] = _flowing(inner)
        group["routes"] = [_flowing(route) for route in routes]
        root["groups"] = [group]
        accounts = self._accounts(schemes, routes)
        if accounts:
            root["accounts"] = _flowing(accounts)
            root.yaml_set_comment_before_after_key("accounts", before="guessed: the description names no callers")
        if any(scheme["scheme"] == "bearer" for scheme in schemes):
            secret = "${env:SIGNING_SECRET|made-up-secret-until-there-is-one}"
            root["signing-keys"] = _flowing({"main": {"algorithm": "HS256", "secret": secret}})
            root.yaml_set_comment_before_after_key("signing-keys", before="guessed: how tokens are signed")
        guessed = "guessed: a description says nothing of stages and their order"
        root.yaml_set_comment_before_after_key("stages", before=guessed)
        root.yaml_set_start_comment(f"Made of {name}. Handlers answer its examples, or what fits its schemas.")
        from io import StringIO

        yaml = YAML()
        yaml.width = 4096
        yaml.indent(mapping=2, sequence=4, offset=2)
        out = StringIO()
        yaml.dump(root, out)
        self.notes.insert(0, f"{len(routes)} routes, {len(schemes)} ways to show who is calling")
        if self.guessed:
            self.notes.append(f"{self.guessed} answers made up, where no example stands")
        return out.getvalue()

    def _prefix(self) -> str:
        servers = self.doc.get("servers") or ()
        url = str(servers[0].get("url", "")) if servers and isinstance(servers[0], dict) else ""
        path = re.sub(r"^[a-z]+://[^/]*", "", url).rstrip("/")
        if "{" in path:
            self.notes.append(f"the server's path {path} has variables; the routes stand at the root")
            return ""
        return path if path.startswith("/") else ""

    def _authenticating(self) -> Iterator[Document]:
        for name, scheme in self.schemes.items():
            kind = scheme.get("type")
            if kind == "http" and str(scheme.get("scheme")).lower() == "basic":
                yield {"scheme": "basic"}
            elif kind == "apiKey":
                yield {"scheme": "api-key", "in": scheme.get("in", "header"), "name": scheme.get("name", "X-Api-Key")}
            elif kind in ("http", "oauth2", "openIdConnect"):
                yield {"scheme": "bearer", "keys": "main"}
            else:
                self.notes.append(f"the security scheme {name} ({kind}) is left out")

    def _accounts(self, schemes: list[Document], routes: list[Document]) -> Document:
        if not schemes:
            return {}
        account: Document = {"password": "not-a-real-password", "api-keys": ["a-made-up-key"]}
        scopes = sorted({name for route in routes for name in _scopes(route)})
        return {"somebody": {**account, **({"scopes": scopes} if scopes else {})}}

    def route(self, path: str, method: str, operation: Document, parameters: list[Any]) -> Document:
        """One operation as a route."""
        wanted = str(operation.get("operationId") or f"{method}{path}")
        id_ = re.sub(r"[^A-Za-z0-9_.-]+", "-", wanted).strip("-.") or method
        id_ = next(each for each in (id_, *(f"{id_}-{n}" for n in range(2, 9999))) if each not in self.ids)
        self.ids.add(id_)
        template = re.sub(r"\{([^}]*)\}", lambda m: "{" + re.sub(r"[^A-Za-z0-9_-]", "_", m[1]) + "}", path)
        route: Document = {"id": id_, "at": f"{method.upper()} {template}", "access": self._access(operation)}
        inputs = {**self._inputs(parameters), **self._body(operation)}
        if inputs:
            route["input"] = inputs
        return {**route, "handler": {"answer": self._answer(operation)}}

    def _access(self, operation: Document) -> Any:
        needs = operation.get("security", self.doc.get("security"))
        if not needs or any(not need for need in needs):
            return "everyone"
        scopes = [scope for need in needs for names in need.values() for scope in names or ()]
        return {"scope": sorted(set(scopes))} if scopes else "signed-in"

    def _inputs(self, parameters: list[Any]) -> Document:
        found: Document = {}
        for place, key in (("query", "query"), ("header", "headers")):
            chosen = [one for one in parameters if one.get("in") == place and isinstance(one.get("name"), str)]
            if chosen:
                properties = {one["name"]: self.whole(one.get("schema") or {}) for one in chosen}
                required = [one["name"] for one in chosen if one.get("required")]
                schema: Document = {"type": "object", "properties": properties}
                found[key] = {**schema, **({"required": required} if required else {})}
        return found

    def _body(self, operation: Document) -> Document:
        body = self.resolved(operation.get("requestBody") or {})
        for media, part in (body.get("content") or {}).items() if isinstance(body, dict) else ():
            key = "json" if "json" in media else "form" if "form" in media else None
            if key is not None and isinstance(part, dict) and part.get("schema") is not None:
                return {key: self.whole(part["schema"])}
        return {}

    def _answer(self, operation: Document) -> Document:
        responses = operation.get("responses") or {}
        codes = sorted(str(code) for code in responses)
        code = next((code for code in codes if code.startswith("2")), "default" if "default" in codes else None)
        answer: Document = {"status": int(code) if code and code.isdecimal() else 200}
        response = self.resolved(next((part for key, part in responses.items() if str(key) == code), {}))
        for media, part in (response.get("content") or {}).items() if isinstance(response, dict) else ():
            example = self._example(part if isinstance(part, dict) else {})
            if "json" in media:
                return {**answer, "json": _literal(example)}
            return {**answer, "headers": {"Content-Type": media}, "text": str(_literal(example))}
        return answer

    def _example(self, part: Document) -> Any:
        if "example" in part:
            return part["example"]
        examples = self.resolved(part.get("examples") or {})
        for one in examples.values() if isinstance(examples, dict) else ():
            one = self.resolved(one)
            if isinstance(one, dict) and "value" in one:
                return one["value"]
        schema = self.whole(part.get("schema") or {})
        if isinstance(schema, dict) and "example" in schema:
            return schema["example"]
        self.guessed += 1
        from patient_usher.core.analysis.samples import sample

        return sample(schema)


_NO_SCHEMA = {"nullable", "discriminator", "xml", "externalDocs", "deprecated", "readOnly", "writeOnly"}


def _literal(value: Any) -> Any:
    """A value in whose texts nothing is filled in."""
    if isinstance(value, str):
        return value.replace("${", "$${")
    if isinstance(value, dict):
        return {str(key).replace("${", "$${"): _literal(part) for key, part in value.items()}
    return [_literal(part) for part in value] if isinstance(value, list) else value


def _scopes(route: Document) -> list[str]:
    access = route.get("access")
    return access["scope"] if isinstance(access, dict) else []


def _flowing(value: Any) -> Any:
    """Lists a line an entry, what is inside them in one line."""
    from ruamel.yaml.comments import CommentedMap, CommentedSeq

    def flow(part: Any) -> Any:
        if isinstance(part, dict):
            made: Any = CommentedMap((str(key), flow(inner)) for key, inner in part.items())
        elif isinstance(part, list):
            made = CommentedSeq(flow(inner) for inner in part)
        else:
            return part
        made.fa.set_flow_style()
        return made

    if isinstance(value, dict):
        return CommentedMap((str(key), flow(part)) for key, part in value.items())
    return CommentedSeq(flow(part) for part in value)


def _laid(route: Document) -> Any:
    return _flowing(route)
