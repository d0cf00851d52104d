"""Two months of a timetable on a simulated clock, against a mail server and a ticket system on this machine: what went
out, to whom, why.
"""

from __future__ import annotations

import sys
import threading
from collections import Counter
from datetime import UTC, datetime, timedelta
from email import message_from_bytes, policy
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller

import fermata

FIRST, LAST = datetime(2026, 2, 1, 6, 0, tzinfo=UTC), datetime(2026, 4, 1, 9, 0, tzinfo=UTC)
STEP = timedelta(hours=1)


class Inbox:
    """A mail server that takes everything and keeps it."""

    def __init__(self) -> None:
        self.letters: list[tuple[list[str], Any]] = []

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        """Keeps a message with those it was for."""
        self.letters.append((envelope.rcpt_tos, message_from_bytes(envelope.content, policy=policy.default)))
        return "250 taken"


class Tickets(BaseHTTPRequestHandler):
    """A ticket system that takes what is posted."""

    def do_POST(self) -> None:
        """Takes it."""
        self.rfile.read(int(self.headers["Content-Length"]))
        self.send_response(204)
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        """Says nothing."""


def main(path: Path, first: datetime = FIRST, last: datetime = LAST, step: timedelta = STEP) -> Inbox:
    """Runs the timetable of the workspace at `path` from `first` to `last` and tells what went out."""
    inbox = Inbox()
    mail = Controller(inbox, hostname="127.0.0.1", port=2525)
    tickets = HTTPServer(("127.0.0.1", 8099), Tickets)
    mail.start()
    threading.Thread(target=tickets.serve_forever, daemon=True).start()
    hall = fermata.open(path)
    counts: Counter[tuple[str, str]] = Counter()
    said: set[tuple[str, ...]] = set()
    try:
        moment = first
        while moment <= last:
            for one in hall.at(moment).deliveries.send():
                counts[one.delivery, one.what] += 1
                told = (one.delivery, one.part, one.what, one.to, one.why, str(one.planned))
                if one.what != "not needed" and not (one.part and one.what in ("sent", "empty")) and told not in said:
                    to = f" to {one.to}" if one.to else ""
                    print(
                        f"{moment:%Y-%m-%d %H:%M}  {one.what:<12}{one.delivery}{one.part and ', '}{one.part}{to}  "
                        f"{one.why}"[:150]
                    )
                said.add(told)
            moment += step
    finally:
        mail.stop()
        tickets.shutdown()
        tickets.server_close()
    print()
    for (name, what), n in sorted(counts.items()):
        print(f"{name:<22}{what:<12}{n:>5}")
    print(f"{len(inbox.letters)} messages arrived")
    return inbox


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "quillmere"))
