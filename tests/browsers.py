"""Real browsers, where they are installed: one loads a page from a server here, and the server writes down what came."""

from __future__ import annotations

import json
import os
import shutil
import socket
import ssl
import subprocess
import sys
from base64 import b64encode
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Event, Thread
from typing import Any, NamedTuple

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from cryptography.x509.oid import NameOID

CHROMIUM = shutil.which("chromium")
FIREFOX = shutil.which("firefox-esr") or shutil.which("firefox")
needs_chromium = pytest.mark.skipif(CHROMIUM is None, reason="no chromium is installed here")
needs_firefox = pytest.mark.skipif(FIREFOX is None, reason="no firefox is installed here")
EACH = [pytest.param("chromium", marks=needs_chromium), pytest.param("firefox", marks=needs_firefox)]


@contextmanager
def answering(handler: type[BaseHTTPRequestHandler], port: int = 0) -> Iterator[int]:
    """A server of pages at this port, or at one of its own."""
    server = ThreadingHTTPServer(("127.0.0.1", port), handler)
    Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield server.server_port
    finally:
        server.shutdown()
        server.server_close()


def free_port() -> int:
    """A port at which nobody listens yet."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        port: int = found.getsockname()[1]
        return port


def seeds(count: int) -> range:
    """So many seeds of a law at random, or as many as the environment says."""
    return range(int(os.environ.get("USHER_BROWSER_LAWS", count)))


class Setting(NamedTuple):
    """What a browser is told before it loads a page: that these names lead here, with this certificate, and whether
    cookies of other sites are ``sent`` or ``blocked``.
    """

    names: Sequence[str] = ()
    certificate: x509.Certificate | None = None
    third_party: str = "sent"


PLAIN = Setting()


def _chromium(folder: Path, page: str, setting: Setting) -> list[str]:
    """The command that loads a page with a profile of its own."""
    blocks = setting.third_party == "blocked"
    profile = {"cookie_controls_mode": int(blocks), "block_third_party_cookies": blocks}
    (folder / "Default").mkdir()
    (folder / "Default" / "Preferences").write_text(json.dumps({"profile": profile}))
    off = "HttpsUpgrades,HttpsFirstBalancedMode,HttpsFirstBalancedModeAutoEnable,LocalNetworkAccessChecks"
    options = ["--headless", "--no-sandbox", "--disable-gpu", "--remote-debugging-port=0", f"--user-data-dir={folder}"]
    if setting.certificate is not None:
        public = setting.certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        options.append(f"--ignore-certificate-errors-spki-list={b64encode(sha256(public).digest()).decode()}")
    if setting.names:
        options += ["--host-resolver-rules=MAP * 127.0.0.1", "--disable-popup-blocking", f"--disable-features={off}"]
    return [str(CHROMIUM), *options, page]


_QUIET = {
    **dict.fromkeys(("app.update.enabled", "browser.aboutwelcome.enabled", "browser.shell.checkDefaultBrowser"), False),
    **dict.fromkeys(("network.captive-portal-service.enabled", "network.connectivity-service.enabled"), False),
    **dict.fromkeys(("dom.disable_open_during_load", "dom.security.https_first", "network.lna.enabled"), False),
    "browser.startup.homepage_override.mstone": "ignore",
    "network.cookie.sameSite.noneRequiresSecure": True,
    "network.cookie.sameSite.schemeful": True,  # as 6265bis 5.2 has it, which is off by default here
}


def _firefox(folder: Path, page: str, setting: Setting) -> list[str]:
    """The command that loads a page with a profile of its own."""
    told: dict[str, Any] = {**_QUIET, "network.cookie.cookieBehavior": int(setting.third_party == "blocked")}
    if setting.names:
        told["network.dns.forceResolve"] = "127.0.0.1"
    (folder / "user.js").write_text("".join(f"user_pref({json.dumps(k)}, {json.dumps(v)});\n" for k, v in told.items()))
    if setting.certificate is not None:
        mark, port = setting.certificate.fingerprint(hashes.SHA256()).hex(":").upper(), page.split(":")[2].split("/")[0]
        rows = [f"{name}:{port}:\tOID.2.16.840.1.101.3.4.2.1\t{mark}\t\n" for name in setting.names]
        (folder / "cert_override.txt").write_text("".join(rows))
    return [str(FIREFOX), "--headless", "--no-remote", "--profile", str(folder), page]


_COMMANDS: dict[str, Callable[[Path, str, Setting], list[str]]] = {"chromium": _chromium, "firefox": _firefox}


def visit(page: str, done: Event, browser: str = "chromium", setting: Setting = PLAIN) -> None:
    """Load a page in a browser that knows nothing yet, until it is done."""
    with TemporaryDirectory(ignore_cleanup_errors=True) as folder:
        command = _COMMANDS[browser](Path(folder), page, setting)
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        process = subprocess.Popen(command, **quiet, env={**os.environ, "HOME": folder})
        try:
            assert done.wait(60), f"{browser} didn't get through the page"
        finally:
            process.kill()
            process.wait()


def outcomes(
    calls: dict[str, list[dict[str, Any]]], port: int, first: str, browser: str = "chromium"
) -> dict[str, list[dict[str, Any]]]:
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

    with answering(Pages, port):
        visit(f"http://{first}:{port}/", done, browser)
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


def sent(records: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Of what a model replayed, the requests that went out over the wire."""
    return [one["request"] for one in records if one["outcome"] != "not-sent" and one["answered_by"] != "caller"]


class PageRequest(NamedTuple):
    """A request as it came over the wire, and of its fields Cookie, Origin, Sec-Fetch-Site and Referer."""

    method: str
    url: str
    cookie: str | None
    origin: str | None
    site: str | None
    referrer: str | None


def _certificate(folder: Path) -> x509.Certificate:
    """A key and a certificate of its own in ``both.pem``. Returns the certificate."""
    key = ec.generate_private_key(ec.SECP256R1())
    name, now = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "made up")]), datetime.now(UTC)
    made = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    made = made.serial_number(1).not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=9))
    signed = made.sign(key, hashes.SHA256())
    secret = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    (folder / "both.pem").write_bytes(secret + signed.public_bytes(Encoding.PEM))
    return signed


def wander(
    port: int,
    page: str,
    steps: list[dict[str, Any]],
    answers: dict[str, tuple[int, list[tuple[str, str]]]],
    names: Sequence[str],
    *,
    browser: str,
    third_party: str,
) -> list[PageRequest]:
    """What comes to a server of every host while a page makes its steps: calls, and links and forms in another window.

    The server speaks plain and by TLS at the one port, so that a plain URL can become a secure one, as HSTS asks.
    ``steps`` are ``{"kind": "fetch|link|form", "method", "url", "mode", "credentials"}``; ``answers`` are status and
    fields by path; ``names`` are all hosts; ``third_party`` says whether cookies of other sites are ``sent`` or ``blocked``.
    """
    came: list[PageRequest] = []
    done = Event()

    class Both(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def setup(self) -> None:
            self.scheme = "https" if self.request.recv(1, socket.MSG_PEEK) == b"\x16" else "http"
            if self.scheme == "https":
                self.request = context.wrap_socket(self.request, server_side=True)
            super().setup()

        def do_GET(self) -> None:
            self.rfile.read(int(self.headers["Content-Length"] or 0))
            self.close_connection = True
            if self.path == "/page":
                return self.give(200, [], _wandering(steps))
            if self.path == "/done":
                done.set()
            if self.path not in answers:
                return self.give(404, [], "")
            fields = self.headers
            cookie = fields["Cookie"] and fields["Cookie"].encode("latin-1").decode()
            url = f"{self.scheme}://{fields['Host']}{self.path}"
            came.append(
                PageRequest(self.command, url, cookie, fields["Origin"], fields["Sec-Fetch-Site"], fields["Referer"])
            )
            return self.give(*answers[self.path], "<script>opener?.postMessage('there', '*')</script>")

        do_POST = do_GET

        def give(self, status: int, fields: list[tuple[str, str]], body: str) -> None:
            own = [("Cache-Control", "no-store"), ("Content-Type", "text/html"), ("Connection", "close")]
            lines = [f"{name}: {value}" for name, value in [*fields, *own, ("Content-Length", str(len(body.encode())))]]
            self.wfile.write("\r\n".join([f"HTTP/1.1 {status} X", *lines, "", body]).encode())

        def log_message(self, *_: Any) -> None:
            pass

    with TemporaryDirectory() as folder:
        setting = Setting(names, _certificate(Path(folder)), third_party)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(Path(folder) / "both.pem")
        with answering(Both, port):
            visit(page + "/page", done, browser, setting)
    return came


def _wandering(steps: list[dict[str, Any]]) -> str:
    return f"""<!doctype html><link rel=icon href=data:,><body><script>
const there = () => new Promise(on => {{
  const late = setTimeout(on, 8000);
  addEventListener("message", () => {{ clearTimeout(late); on(); }}, {{once: true}});
}});
(async () => {{
  open("about:blank", "other");
  for (const step of {json.dumps(steps)}) {{
    if (step.kind == "fetch") {{
      const body = step.method == "POST" ? {{body: "x"}} : {{}};
      await fetch(step.url, {{method: step.method, mode: step.mode, credentials: step.credentials, ...body}}).catch(() => 0);
    }} else {{
      const arrived = there();
      if (step.kind == "link") open(step.url, "other");
      else {{
        const form = Object.assign(document.createElement("form"), {{method: "post", action: step.url, target: "other"}});
        form.append(Object.assign(document.createElement("input"), {{name: "made", value: "up"}}));
        document.body.append(form);
        form.submit();
      }}
      await arrived;
    }}
  }}
  await fetch("/done", {{method: "POST", body: "x"}});
}})();
</script>"""


if __name__ == "__main__":  # writes a vector anew, from what its calls get from the browser now
    vector = Path(sys.argv[1])
    asked = json.loads(vector.read_text())
    asked["sent"] = fields_by_call(asked["calls"], asked["fields"])
    vector.write_text(json.dumps(asked, indent=1) + "\n")
