"""The order from inside: named layers of an application say which of them a request came to."""

from __future__ import annotations

import ast
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import ROOT, described
from patient_usher import Trace, drift, inside
from patient_usher.inside import named, named_list
from patient_usher.use_cases.drift import Told

MODEL = """
patient-usher: pipeline/1
stages:
  - {id: marks, kind: header-fields, on-answer: {put: {X-Quay: "1"}}}
  - {id: who, kind: authenticate, schemes: [{scheme: api-key}]}
  - {id: may, kind: authorize}
routes: [{id: r, at: GET /r, access: signed-in, handler: {answer: {text: ok}}}]
accounts: {ada: {api-keys: [a-made-up-key]}}
"""
STORY: list[dict[str, Any]] = [
    {"id": "out", "send": "GET /r", "expect": {"ran": ["marks", "who"], "skipped": ["may"]}},
    {"id": "in", "send": "GET /r", "sign": {"api-key": "ada"}, "expect": {"order": ["marks", "who", "may"], "handler": "reached"}},
]  # fmt: skip
Application = Callable[..., Any]


def wsgi(refuses: bool = False, marks: bool = False) -> Callable[[Application], Application]:
    def wrap(app: Application) -> Application:
        def called(environ: dict[str, Any], start_response: Callable[..., Any]) -> Any:
            if refuses and environ.get("HTTP_X_API_KEY") != "a-made-up-key":
                start_response(
                    "401 Unauthorized",
                    [("Content-Type", "text/plain"), ("WWW-Authenticate", 'ApiKey in="header", name="X-Api-Key"')],
                )
                return [b"no"]

            def starting(status: str, headers: list[tuple[str, str]], *more: Any) -> Any:
                return start_response(status, [*headers, *([("X-Quay", "1")] if marks else [])], *more)

            return app(environ, starting)

        return called

    return wrap


def asgi(refuses: bool = False, marks: bool = False) -> Callable[[Application], Application]:
    def wrap(app: Application) -> Application:
        async def called(scope: Any, receive: Any, send: Any) -> None:
            if scope["type"] != "http":
                return
            if refuses and (b"x-api-key", b"a-made-up-key") not in scope["headers"]:
                headers = [
                    (b"content-type", b"text/plain"),
                    (b"www-authenticate", b'ApiKey in="header", name="X-Api-Key"'),
                ]
                await send({"type": "http.response.start", "status": 401, "headers": headers})
                await send({"type": "http.response.body", "body": b"no"})
                return

            async def sending(message: Any) -> None:
                if marks and message["type"] == "http.response.start":
                    message = {**message, "headers": [*message["headers"], (b"x-quay", b"1")]}
                await send(message)

            await app(scope, receive, sending)

        return called

    return wrap


def wsgi_handler(environ: dict[str, Any], start_response: Callable[..., Any]) -> list[bytes]:
    start_response("200 OK", [("Content-Type", "text/plain")])
    return [b"ok"]


async def asgi_handler(scope: Any, receive: Any, send: Any) -> None:
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", b"text/plain")]})
    await send({"type": "http.response.body", "body": b"ok"})


@pytest.mark.parametrize(("wrap", "handler"), [(wsgi, wsgi_handler), (asgi, asgi_handler)])
@pytest.mark.parametrize(("order", "same"), [
    (["marks", "who", "may"], [True, True]), (["marks", "may", "who"], [False, False]), (["who", "marks", "may"], [False, False]),
])  # fmt: skip
def test_drift_sees_the_order_of_named_layers(
    wrap: Any, handler: Application, order: list[str], same: list[bool]
) -> None:
    layers = {"marks": wrap(marks=True), "who": wrap(refuses=True), "may": wrap()}
    app = named_list([(name, layers[name]) for name in order], handler)
    pipeline = described(MODEL)
    held = list(drift(pipeline, Trace.of(*STORY, base="https://service.example"), app=app, told=Told()))
    assert [one.same for one in held] == same


def test_a_layer_by_itself_says_its_name() -> None:
    fields: list[Any] = []
    app = named("outer", wsgi()(named("handler", wsgi_handler)))
    app({}, lambda status, headers: fields.extend(headers))
    assert ("Server-Timing", "outer, handler") in fields


SERVICE = """
const layers = [
  named("marks", (request, response, next) => { response.setHeader("X-Quay", "1"); next(); }),
  named("who", (request, response, next) => {
    if (request.headers["x-api-key"] === "a-made-up-key") return next();
    response.writeHead(401, {"Content-Type": "text/plain", "WWW-Authenticate": 'ApiKey in="header", name="X-Api-Key"'});
    response.end("no");
  }),
  named("may", (request, response, next) => next()),
  named("handler", (request, response) => { response.writeHead(200, {"Content-Type": "text/plain"}); response.end("ok"); }),
];
const server = served(process.argv[2] === "swapped" ? [layers[1], layers[0], layers[2], layers[3]] : layers);
server.listen(0, "127.0.0.1", () => console.log(server.address().port));
"""


@pytest.mark.skipif(shutil.which("node") is None, reason="there is no Node")
@pytest.mark.parametrize(("order", "same"), [("as the model has it", [True, True]), ("swapped", [False, False])])
def test_the_lines_for_nodes_server_say_the_order(tmp_path: Path, order: str, same: list[bool]) -> None:
    """The block of the documentation, as it stands there."""
    block = re.search(r"```javascript\n(.*?)```", (ROOT / "docs" / "drift.md").read_text(), re.DOTALL)
    assert block is not None
    (tmp_path / "service.js").write_text(block[1] + SERVICE)
    with subprocess.Popen(["node", "service.js", order], cwd=tmp_path, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        at = f"http://127.0.0.1:{process.stdout.readline().strip()}"
        trace = Trace.of(*STORY, base="https://service.example")
        held = list(drift(described(MODEL), trace, at=at, told=Told()))
        process.kill()
    assert [one.same for one in held] == same


@pytest.mark.parametrize("name", ["", "two words", "a,b", 'a"b'])
def test_a_name_is_a_token(name: str) -> None:
    with pytest.raises(ValueError, match="no token"):
        named(name, wsgi_handler)


def test_it_imports_nothing_of_the_rest_and_reads_as_python_3_9() -> None:
    path = Path(inside.__file__)
    tree = ast.parse(path.read_text(), feature_version=(3, 9))
    modules = [node.module for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)]
    modules += [one.name for node in ast.walk(tree) if isinstance(node, ast.Import) for one in node.names]
    assert {*modules} <= {"__future__", "inspect", "re", "typing"}
    copied = "import importlib.util, sys; spec = importlib.util.spec_from_file_location('inside', sys.argv[1]); m = importlib.util.module_from_spec(spec); spec.loader.exec_module(m); print(m.named.__name__)"
    done = subprocess.run([sys.executable, "-S", "-c", copied, str(path)], capture_output=True, text=True, check=True)
    assert done.stdout == "named\n"
