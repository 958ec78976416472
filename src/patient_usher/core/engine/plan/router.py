"""Which route answers a method and path (RFC 9110 section 9, path templates of OpenAPI 3.1).

A literal segment goes before a parameter, a parameter before a tail, from the left. Paths are
compared segment by segment after percent-decoding; a trailing slash makes another path.
"""

from __future__ import annotations

from collections.abc import Iterable

from patient_usher.core.http.fields import Fields
from patient_usher.core.http.messages import Answer
from patient_usher.core.http.urls import Url
from patient_usher.core.model.effects import Effect
from patient_usher.core.model.errors import refusal
from patient_usher.core.model.exchange import Exchange
from patient_usher.core.model.stage import Stage
from patient_usher.core.model.templates import Access, Template


class Route:
    """A route ready to run."""

    __slots__ = ("access", "groups", "id", "method", "names", "settings", "template")

    def __init__(
        self,
        id_: str,
        method: str,
        template: Template,
        access: Access | None,
        settings: object,
        groups: tuple[str, ...],
    ) -> None:
        self.id = id_
        self.method = method
        self.template = template
        self.names = tuple(template.names)
        self.access = access
        self.settings = settings
        self.groups = groups


class _Node:
    __slots__ = ("literals", "parameter", "routes", "tails")

    def __init__(self) -> None:
        self.literals: dict[str, _Node] = {}
        self.parameter: _Node | None = None
        self.tails: dict[str, Route] = {}
        self.routes: dict[str, Route] = {}


Match = tuple[Route | None, dict[str, str], tuple[str, ...]]
"""The route and its path values; or no route, and the methods that the path does have."""


class Router:
    """All routes, by path and method."""

    def __init__(self, routes: Iterable[Route]) -> None:
        self._root = _Node()
        self._exact: dict[tuple[str, str], Match] = {}
        self._last: dict[tuple[str, str], Route] = {}  # by what stands in front of a parameter at the end
        routes = [*routes]
        methods = [name for route in routes for name in _also(route.method)]
        self._methods = tuple(dict.fromkeys(methods))
        for route in routes:
            node = self._root
            for what, text in route.template.segments:
                if what == "literal":
                    node = node.literals.setdefault(text, _Node())
                elif what == "parameter":
                    node.parameter = node.parameter or _Node()
                    node = node.parameter
                else:
                    node.tails.setdefault(route.method, route)
                    break
            else:
                node.routes.setdefault(route.method, route)
                plain = "%" not in route.template.text
                if not route.names and plain:
                    self._exact.setdefault((route.method, route.template.text), (route, {}, ()))
                elif len(route.names) == 1 and what == "parameter" and plain and route.method != "HEAD":
                    self._last.setdefault((route.method, route.template.text.rpartition("/")[0]), route)

    def find(self, method: str, url: Url) -> Match:
        """The route for a method and URL."""
        exact = self._exact.get((method, url.path))
        if exact is not None:
            return exact
        if url.path == "*":  # RFC 9112 3.2.4: OPTIONS of the service as a whole
            return None, {}, self._methods
        before, _, last = url.path.rpartition("/")
        if last and "%" not in last and (route := self._last.get((method, before))) is not None:
            return route, {route.names[0]: last}, ()  # what is spelt out wins over parameters further up
        segments = url.segments
        # Straight down, where there is no choice to be made on the way; else with all care.
        node, values = self._root, []
        for segment in segments:
            below, parameter = node.literals.get(segment), node.parameter
            if node.tails or (below is not None and parameter is not None):
                return self._search(method, segments)
            if below is not None:
                node = below
            elif parameter is not None and segment:
                node = parameter
                values.append(segment)
            else:
                return None, {}, ()
        if node.tails:
            return self._search(method, segments)
        allowed: dict[str, None] = {}
        found = _pick(node.routes, method, allowed)
        if found is None:
            return None, {}, tuple(allowed)
        return found, dict(zip(found.names, values, strict=True)), ()

    def _search(self, method: str, segments: tuple[str, ...]) -> Match:
        allowed: dict[str, None] = {}
        # Depth first, best kind of segment last on the stack, so that it is tried first.
        stack: list[tuple[_Node, int, tuple[str, ...]]] = [(self._root, 0, ())]
        while stack:
            node, at, values = stack.pop()
            if at == len(segments):
                found = _pick(node.routes, method, allowed)
                if found is not None:
                    return found, dict(zip(found.names, values, strict=True)), ()
                continue
            segment = segments[at]
            if node.tails and any(segments[at:]):
                # A tail is the last resort of this node: try it after everything below.
                stack.append((_leaf(node.tails), len(segments), (*values, "/".join(segments[at:]))))
            if node.parameter is not None and segment:
                stack.append((node.parameter, at + 1, (*values, segment)))
            below = node.literals.get(segment)
            if below is not None:
                stack.append((below, at + 1, values))
        return None, {}, tuple(allowed)


def _also(method: str) -> tuple[str, ...]:
    """A route's method, and what is answered by its side (RFC 9110 9.3.2)."""
    return ("GET", "HEAD") if method == "GET" else (method,)


def _leaf(routes: dict[str, Route]) -> _Node:
    node = _Node()
    node.routes = routes
    return node


def _pick(routes: dict[str, Route], method: str, allowed: dict[str, None]) -> Route | None:
    found = routes.get(method)
    if found is None and method == "HEAD":  # RFC 9110 9.3.2: HEAD is GET without the content
        found = routes.get("GET")
    if found is None:
        for name in routes:
            allowed[name] = None
            if name == "GET":
                allowed["HEAD"] = None
    return found


class RouterStage(Stage):
    """The routing position. The route was looked up on arrival; here it is acted on.

    ``paths`` are the routes' templates; ``answers_options``: whether OPTIONS on a path that has routes is
    answered where no route is made for it.
    """

    def __init__(self, paths: Iterable[str], *, answers_options: bool) -> None:
        self.paths = frozenset(paths)
        self.answers_options = answers_options

    def way_in(self, x: Exchange) -> Effect:
        """Pass on, or refuse with 404 or 405."""
        if x.route is not None:
            if x.journey is not None:
                x.note = {"route": x.route.id}
            return None
        path = x.request.url.path
        if not x.allowed:
            other = path[:-1] if path.endswith("/") else f"{path}/"
            if other in self.paths:
                x.note = {"near": f"{other} has a route; a slash at the end makes another path"}
            return refusal("NotFound", "no-route", f"no route has the path {path}")
        # RFC 9110 15.5.6: 405 says what is allowed.
        names = ", ".join(dict.fromkeys([*x.allowed, *["OPTIONS"] * self.answers_options]))
        if self.answers_options and x.request.method == "OPTIONS":  # 9.3.7
            return Answer(204, Fields([("Allow", names)]))
        message = f"{path} has no route for {x.request.method}, only for {names}"
        return refusal("MethodNotAllowed", "method-not-allowed", message, fields=Fields([("Allow", names)]))
