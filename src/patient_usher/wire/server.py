"""Sockets for a served model: HTTP/1.1 and TLS by uvicorn, on one thread, and what makes it end at once."""

from __future__ import annotations

import asyncio
import contextlib
import datetime
import gc
import hashlib
import ipaddress
import socket
import ssl
import sys
from collections.abc import Awaitable, Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

import h11
import uvicorn
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from uvicorn.protocols.http.h11_impl import H11Protocol

from patient_usher.wire.serving import CLOSES, HEAD_OCTETS

BACKLOG = 2048


class Certificate(NamedTuple):
    """A certificate made for this run: in PEM, its key in PEM, and its SHA-256 fingerprint."""

    pem: bytes
    key: bytes
    fingerprint: str


def made_certificate(*hosts: str) -> Certificate:
    """A certificate for these hosts and this machine, of its own signing (RFC 5280), for a month."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "usher serve")])
    now = datetime.datetime.now(datetime.UTC)
    names: list[x509.GeneralName] = [x509.DNSName("localhost")]
    for host in dict.fromkeys(("127.0.0.1", "::1", *hosts)):
        try:
            names.append(x509.IPAddress(ipaddress.ip_address(host)))
        except ValueError:
            names.append(x509.DNSName(host))
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(hours=1))
        .not_valid_after(now + datetime.timedelta(days=30))
        .add_extension(x509.SubjectAlternativeName(list(dict.fromkeys(names))), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    digest = hashlib.sha256(made.public_bytes(serialization.Encoding.DER)).hexdigest().upper()
    fingerprint = ":".join(digest[at : at + 2] for at in range(0, len(digest), 2))
    return Certificate(made.public_bytes(serialization.Encoding.PEM), secret, fingerprint)


def context_of(certificate: Certificate) -> ssl.SSLContext:
    """What ends TLS with a certificate. Its key is on the disk only while it is read, for nobody else to see."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with TemporaryDirectory() as folder:
        path = Path(folder) / "served.pem"
        path.touch(0o600)
        path.write_bytes(certificate.key + certificate.pem)
        context.load_cert_chain(path)
    return context


def listening(host: str, port: int) -> socket.socket:
    """A socket that listens. Raises OSError where the place is taken, or isn't this machine's."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    # The protocol is named, since only then event loops set TCP_NODELAY on what is accepted: head and content leave
    # apart, and without it the second waits for the client's delayed acknowledgement, some 40 ms.
    listener = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    try:
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        listener.bind((host, port))
        listener.listen(BACKLOG)
    except BaseException:
        listener.close()
        raise
    return listener


class Connection(H11Protocol):
    """One connection; closed where a request's head doesn't come in whole in time."""

    within = 30.0
    ending = False  # whether the server is
    _late: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Let the application close it, and wait for the first head."""
        super().connection_made(transport)
        answers: Callable[..., Awaitable[None]] = self.app

        async def application(scope: dict[str, object], receive: object, send: object) -> None:
            scope["extensions"] = {CLOSES: transport}
            await answers(scope, receive, send)

        self.app = application
        self._late = self.loop.call_later(self.within, transport.close)

    def data_received(self, data: bytes) -> None:
        """Something has come: a head, a part of one, or of a body."""
        before = self.cycle
        super().data_received(data)
        if self.cycle is not before:
            self._in_time()
        elif self._late is None and (self.cycle is None or self.cycle.response_complete):
            self._late = self.loop.call_later(self.within, self.transport.close)

    def send_400_response(self, msg: str) -> None:
        """Refuse what can't be read as a request, with the status that says why: 431 for a head that is too long."""
        status = getattr(sys.exc_info()[1], "error_status_hint", 400)
        if status != 431:
            super().send_400_response(msg)
            return
        fields = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
        response = h11.Response(status_code=431, headers=fields, reason=b"Request Header Fields Too Large")
        for event in (response, h11.Data(data=f"a head over {HEAD_OCTETS:,} octets\n".encode()), h11.EndOfMessage()):
            self.transport.write(self.conn.send(event) or b"")
        self.transport.close()

    def connection_lost(self, exc: Exception | None) -> None:
        """It is gone."""
        self._in_time()
        if self.ending and self.cycle is not None and not self.cycle.response_complete:
            self.connections.discard(self)  # whose answer is given up needs no end by the protocol, thousands least
            self.cycle.disconnected = True
            self.cycle.message_event.set()
        else:
            super().connection_lost(exc)

    def _in_time(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None


class Server(uvicorn.Server):
    """Serves an application on a socket until it is told to stop; what is under way then is given up.

    ``on_ready`` is called once it listens, ``on_end`` when it is told to stop, ``look`` every quarter of a second.
    """

    def __init__(
        self,
        application: Callable[..., Awaitable[None]],
        listener: socket.socket,
        *,
        tls: ssl.SSLContext | None = None,
        within: float = 30.0,
        on_ready: Callable[[], None] = lambda: None,
        on_end: Callable[[], None] = lambda: None,
        look: Callable[[], None] | None = None,
    ) -> None:
        config = uvicorn.Config(
            application,
            http=type("Connection", (Connection,), {"within": within}),
            ws="none",
            lifespan="off",
            log_config=None,
            log_level="critical",
            access_log=False,
            server_header=False,
            date_header=False,
            proxy_headers=False,
            backlog=BACKLOG,
            h11_max_incomplete_event_size=HEAD_OCTETS,
            timeout_graceful_shutdown=0,
        )
        config.load()
        config.ssl = tls
        super().__init__(config)
        self._listener, self._on_ready, self._on_end, self._look = listener, on_ready, on_end, look

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        """End: connections of what is under way are closed without an answer."""
        self.config.http_protocol_class.ending = True  # type: ignore[attr-defined]
        collects = gc.isenabled()
        gc.disable()  # of ten thousand that end at once, what is garbage is known when all is over
        try:
            for connection in self.server_state.connections:
                if connection.cycle is not None and not connection.cycle.response_started:  # type: ignore[union-attr]
                    connection.transport.abort()
            self._on_end()
            await super().shutdown(sockets)
        finally:
            if collects:
                gc.enable()

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Listen, and say so."""
        await super().startup(sockets)
        self._on_ready()

    def work(self) -> None:
        """Serve. Where a signal ends it, the signal is raised again when all is closed."""
        asyncio.run(self._work())

    def stop(self) -> None:
        """Serve no longer; from any thread."""
        self.should_exit = True

    async def _work(self) -> None:
        looking = asyncio.create_task(self._looking()) if self._look is not None else None
        try:
            await self.serve(sockets=[self._listener])
        finally:
            if looking is not None:
                looking.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await looking

    async def _looking(self) -> None:
        assert self._look is not None
        while True:
            await asyncio.sleep(0.25)
            self._look()
