"""A mail server on loopback whose answers a test decides, and a small workspace with a timetable."""

from __future__ import annotations

import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from email import message_from_bytes, policy
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword

from tests.conftest import sample

TLS = Path(__file__).parent / "tls"
DOORS = sample("houses/post-doors.toml")
PEOPLE = """No,Name,Badge,Mail,Team
1,Ada Umberlin,Q7001,ada@house.example,red
2,Bea Norfield,Q7002,bea@house.example,red
3,Cy Oakes,Q7003,,blue
4,Di Perrin,Q7004,not an address,blue
"""
TEAMS = "Team,Lead\nred,red-lead@house.example\nblue,blue-lead@elsewhere.example\n"


def doors(month: int = 3, days: int = 31, badges: int = 4) -> str:
    """Records of a month: every badge at one of two doors each day, some refused."""
    rows = [
        f"2026-{month:02d}-{day:02d}T{8 + b:02d}:{day:02d}:00,Q700{b + 1},{'Vault' if (day + b) % 3 == 0 else 'Gate'},"
        f"{'no' if (day + b) % 4 == 0 else 'in'}"
        for day in range(1, days + 1)
        for b in range(badges)
    ]
    return "When,Badge,Door,Event\n" + "\n".join(rows) + "\n"


class Inbox:
    """Keeps what arrives. `refuse` are answers to recipients, `answers` those to whole messages, in turn; `hang_up`
    breaks the connection "before" or "after" the next message was taken.
    """

    def __init__(self) -> None:
        self.letters: list[tuple[list[str], Any]] = []
        self.refuse: dict[str, str] = {}
        self.answers: list[str] = []
        self.hang_up = ""

    async def handle_RCPT(self, server: Any, session: Any, envelope: Any, address: str, options: Any) -> str:
        """The answer to a recipient."""
        if address in self.refuse:
            return self.refuse[address]
        envelope.rcpt_tos.append(address)
        return "250 fine"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """Keeps a message, unless the test wants another answer."""
        if self.hang_up == "before":
            self.hang_up = ""
            server.transport.abort()
            return "250 never heard"
        answer = self.answers.pop(0) if self.answers else "250 taken"
        if answer.startswith("250"):
            self.letters.append((list(envelope.rcpt_tos), message_from_bytes(envelope.content, policy=policy.default)))
        if self.hang_up == "after":
            self.hang_up = ""
            server.transport.abort()
        return answer

    @property
    def got(self) -> list[str]:
        """All who got something, once for each message."""
        return sorted(a for to, _ in self.letters for a in to)

    @property
    def identities(self) -> set[str]:
        """The identities of the messages that arrived."""
        return {m["Message-ID"] for _, m in self.letters}


class Taker:
    """A server on loopback that keeps what is posted to it, and answers with the next of `answers`, then with 201; it
    asks to go elsewhere, too.
    """

    def __init__(self) -> None:
        self.got: list[tuple[dict[str, str], bytes]] = []
        self.answers: list[int] = []
        taker = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                taker.got.append((dict(self.headers), self.rfile.read(int(self.headers["Content-Length"]))))
                self.send_response(taker.answers.pop(0) if taker.answers else 201)
                self.send_header("Location", "http://127.0.0.1:1/elsewhere")
                self.end_headers()

            def log_message(self, *_: Any) -> None:
                pass

        self.server = HTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_port}/in"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self) -> None:
        """Takes nothing any more."""
        self.server.shutdown()
        self.server.server_close()


def free_port() -> int:
    """A port nobody listens at."""
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


@contextmanager
def server(port: int, *, tls: bool = False, password: str = "") -> Iterator[Inbox]:
    """A mail server at the port; with `tls`, STARTTLS as localhost; with a `password`, only for who knows it."""
    inbox = Inbox()
    more: dict[str, Any] = {}
    if tls:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(TLS / "localhost.pem", TLS / "key.pem")
        more = {"tls_context": context, "require_starttls": True}
    if password:

        def check(server: Any, session: Any, envelope: Any, mechanism: str, data: Any) -> AuthResult:
            good = isinstance(data, LoginPassword) and data.password == password.encode()
            return AuthResult(success=good, handled=good)

        more |= {"authenticator": check, "auth_required": True}
    controller = Controller(inbox, hostname="localhost", port=port, **more)
    controller.start()
    try:
        yield inbox
    finally:
        controller.stop()
