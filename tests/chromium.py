"""A real browser, where one is installed: it loads a page from a server here, and the server writes down what came."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Event, Thread
from typing import Any

BROWSER = shutil.which("chromium")


@contextmanager
def answering(handler: type[BaseHTTPRequestHandler]) -> Iterator[int]:
    """A server of pages at a port of its own."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield server.server_port
    finally:
        server.shutdown()


def visit(page: str, done: Event) -> None:
    """Load a page in a browser that knows nothing yet, until it is done."""
    with TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        options = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            f"--user-data-dir={folder}",
            "--remote-debugging-port=0",
        ]
        browser = subprocess.Popen([str(BROWSER), *options, page], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            assert done.wait(60), "the browser didn't get through the page"
        finally:
            browser.kill()
            browser.wait()


def outcomes(calls: dict[str, list[dict[str, Any]]], port: int, first: str) -> dict[str, list[dict[str, Any]]]:
    """What pages get of their calls, by the host from which a page comes (all at ``port``, ``first`` the first).

    Each call is ``{"url", "init"}`` of ``fetch``; of each the type, status, names of fields and content that the page
    reads, or ``{"error": true}``.
    """
    found: dict[str, list[dict[str, Any]]] = {}
    done, hosts = Event(), [first, *(host for host in calls if host != first)]

    class Pages(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            host = str(self.headers["Host"]).partition(":")[0]
            after = hosts[hosts.index(host) + 1 :]
            page = f"http://{after[0]}:{port}/" if after else ""
            self.give(_asking(calls[host], page).encode())

        def do_POST(self) -> None:
            host = str(self.headers["Host"]).partition(":")[0]
            found[host] = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
            self.give(b"")
            if host == hosts[-1]:
                done.set()

        def give(self, body: bytes) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: Any) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", port), Pages)
    Thread(target=server.serve_forever, daemon=True).start()
    try:
        visit(f"http://{first}:{port}/", done)
    finally:
        server.shutdown()
    return found


def _asking(calls: list[dict[str, Any]], after: str) -> str:
    return f"""<!doctype html><link rel=icon href=data:,><script>
(async () => {{
  const got = [];
  for (const call of {json.dumps(calls)}) {{
    try {{
      const r = await fetch(call.url, call.init);
      got.push({{type: r.type, status: r.status, fields: [...r.headers.keys()].sort(), body: await r.text()}});
    }} catch (e) {{ got.push({{error: true}}); }}
  }}
  await fetch("/", {{method: "POST", body: JSON.stringify(got)}});
  if ("{after}") location = "{after}";
}})();
</script>"""


def fields_by_call(calls: list[dict[str, Any]], names: list[str]) -> list[dict[str, str]]:
    """What the browser sends of these fields for each call: ``{"url", "init"}`` of ``fetch``, one after the other.

    Every URL gets a cacheable answer that is stale at once and has a tag; ``/fresh/...`` one that is good for an hour.
    """
    seen: dict[str, list[dict[str, str]]] = {}
    done = Event()

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            self.rfile.read(int(self.headers["Content-Length"] or 0))
            if self.path == "/page":
                return self.give(_page(calls), {"Content-Type": "text/html"})
            if self.path == "/done":
                done.set()
                return self.give("")
            seen.setdefault(self.headers["X-Call"] or "", []).append(
                {n: self.headers[n] for n in names if self.headers[n] is not None}
            )
            age = "3600" if "/fresh/" in self.path else "0"
            self.give("content", {"Cache-Control": f"max-age={age}", "ETag": '"t"', "Vary": "X-None"})
            return None

        do_POST = do_GET

        def give(self, body: str, fields: dict[str, str] | None = None) -> None:
            unchanged = self.headers["If-None-Match"] == '"t"'
            self.send_response(304 if unchanged else 200)
            for name, value in (fields or {}).items():
                self.send_header(name, value)
            if not unchanged:
                self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(b"" if unchanged else body.encode())

        def log_message(self, *_: Any) -> None:
            pass

    with answering(Handler) as port:
        visit(f"http://localhost:{port}/page", done)
    return [seen.get(str(at), [{}])[-1] for at in range(len(calls))]


def _page(calls: list[dict[str, Any]]) -> str:
    return f"""<!doctype html><script>
(async () => {{
  const calls = {json.dumps(calls)};
  for (const [at, call] of calls.entries()) {{
    const init = call.init || {{}};
    init.headers = {{...init.headers, "X-Call": String(at)}};
    try {{ await (await fetch(call.url, init)).text(); }} catch (e) {{}}
  }}
  await fetch("/done", {{cache: "no-store"}});
}})();
</script>"""


if __name__ == "__main__":  # writes a vector anew, from what its calls get from the browser now
    vector = Path(sys.argv[1])
    asked = json.loads(vector.read_text())
    asked["sent"] = fields_by_call(asked["calls"], asked["fields"])
    vector.write_text(json.dumps(asked, indent=1) + "\n")
