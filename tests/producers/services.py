"""Calls through a proxy, letters through a mail server, files fetched and put."""

from __future__ import annotations

import ftplib
import io
import smtplib
import socket
import threading
import time
from collections import Counter
from pathlib import Path

from tests.producers.daemons import Written, answers, daemon, free_port, needs, reachable, run, says, setup, wait

PROXY = setup("proxy.conf")
CALLS = (("101", "201", "200"), ("101", "202", "200"), ("102", "203", "486"), ("103", "204", "200"))


def proxy(path: Path) -> list[Written]:
    """A proxy for calls between phones that are made of a few lines: its lines in the system's log, and its table."""
    needs("kamailio", "rsyslogd", "unshare", "sqlite3", root=True)
    import sys

    from tests.conftest import ROOT

    (path / "calls.sh").write_text(CALLING)
    (path / "proxy.cfg").write_text(PROXY.format(place=path, port=15060, phones=15070))
    run("unshare", "-mn", "bash", str(path / "calls.sh"), str(path), sys.executable, PYTHONPATH=str(ROOT))
    told = Counter(("INVITE", a, b, code) for a, b, code in CALLS)
    told += Counter(("BYE", a, b, "200") for a, b, code in CALLS if code == "200")
    return [
        Written(path / "proxy.log", ("action", "user", "other", "outcome"), told),
        Written(path / "calls.db", ("action", "user", "other", "outcome"), told),
        Written(path / "finished.log", ("user", "other"), Counter((a, b) for a, b, _ in CALLS)),
    ]


CALLING = setup("calling.sh")


def phones(port: int, theirs: int) -> None:
    """Makes the calls: one side asks, the other answers with the code that the call is to have, and the first hangs up."""
    callee = threading.Thread(target=_callee, args=(theirs,), daemon=True)
    callee.start()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as caller:
        caller.bind(("127.0.0.1", 0))
        caller.settimeout(5)
        for number, (source, target, code) in enumerate(CALLS):
            _call(caller, port, number, source, target, code)


def _call(caller: socket.socket, port: int, number: int, source: str, target: str, code: str) -> None:
    here = caller.getsockname()[1]
    to, route = f"<sip:{target}@127.0.0.1>", ""
    for step, method in enumerate(("INVITE", "ACK", "BYE")):
        if method == "BYE" and code != "200":
            return
        text = (
            f"{method} sip:{target}@127.0.0.1:15070 SIP/2.0\r\n"
            f"Via: SIP/2.0/UDP 127.0.0.1:{here};branch=z9hG4bK{number}{'' if method == 'ACK' and code != '200' else step}\r\n"
            f"Max-Forwards: 70\r\nFrom: <sip:{source}@127.0.0.1>;tag=f{number}\r\nTo: {to}\r\n"
            f"Call-ID: call{number}@127.0.0.1\r\nCSeq: {1 + (method == 'BYE')} {method}\r\n"
            f"{route if step else ''}"
            f"Contact: <sip:{source}@127.0.0.1:{here}>\r\nContent-Length: 0\r\n\r\n"
        )
        caller.sendto(text.encode(), ("127.0.0.1", port))
        if method == "ACK":
            time.sleep(1.1)
            continue
        answer = ""
        while not answer.startswith(f"SIP/2.0 {code if method == 'INVITE' else '200'}"):
            answer = caller.recv(8192).decode()
        to = next(line[4:] for line in answer.split("\r\n") if line.startswith("To: "))
        if method == "INVITE":
            route = "".join(
                f"Route: {line.partition(': ')[2]}\r\n"
                for line in answer.split("\r\n")
                if line.startswith("Record-Route")
            )


def _callee(port: int) -> None:
    """Answers each request; an INVITE with the code that stands in the list of calls."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as phone:
        phone.bind(("127.0.0.1", port))
        while True:
            text, where = phone.recvfrom(8192)
            lines = text.decode().split("\r\n")
            method, target = lines[0].split()[0], lines[0].split(":")[1].partition("@")[0]
            if method == "ACK":
                continue
            code = next((c for _, b, c in CALLS if b == target), "200") if method == "INVITE" else "200"
            kept = [h for h in lines[1:] if h.split(":")[0] in ("Via", "From", "Call-ID", "CSeq", "Record-Route")]
            to = next(h for h in lines if h.startswith("To: "))
            to += "" if "tag=" in to else f";tag=t{target}"
            reason = {"200": "OK", "486": "Busy Here"}[code]
            made = [
                f"SIP/2.0 {code} {reason}",
                *kept,
                to,
                f"Contact: <sip:{target}@127.0.0.1:{port}>",
                "Content-Length: 0",
            ]
            phone.sendto(("\r\n".join(made) + "\r\n\r\n").encode(), where)


MAIL = setup("mail.conf")
MASTER = setup("master.conf")


def mail(path: Path) -> list[Written]:
    """A mail server that hands letters on to another one, which takes some and refuses some."""
    needs("postfix", root=True)
    from aiosmtpd.controller import Controller

    class Next:
        async def handle_RCPT(
            self, server: object, session: object, envelope: object, address: str, options: object
        ) -> str:
            if address.startswith("gone"):
                return "550 no such desk"
            envelope.rcpt_tos.append(address)  # type: ignore[attr-defined]
            return "250 OK"

        async def handle_DATA(self, server: object, session: object, envelope: object) -> str:
            return "250 taken"

    behind, port = free_port(), free_port()
    for name in ("queue", "data"):
        (path / name).mkdir()
    reachable(path)
    run("chown", "-R", "postfix", str(path / "queue"), str(path / "data"))
    run("chown", "root", str(path / "queue"))
    (path / "main.cf").write_text(MAIL.format(place=path, behind=behind))
    (path / "master.cf").write_text(MASTER.format(port=port))
    (path / "dynamicmaps.cf").touch()
    there = Controller(Next(), hostname="127.0.0.1", port=behind)
    there.start()
    sent = Counter[tuple[str, str]]()
    run("postfix", "-c", str(path), "start")
    try:
        wait(answers(port))
        with smtplib.SMTP("127.0.0.1", port) as client:
            for to in ("anna@post.example", "bert@post.example", "anna@post.example", "gone@post.example"):
                client.sendmail("", to, "Subject: hello\r\n\r\ntext\r\n")
                sent["bounced" if to.startswith("gone") else "sent", to] += 1
        wait(says(path / "mail.log", "status=(sent|bounced)", 4))
    finally:
        run("postfix", "-c", str(path), "stop")
        there.stop()
    return [Written(path / "mail.log", ("action", "user"), sent)]


FILES = setup("files.conf")


def files(path: Path) -> list[Written]:
    """A server for files: what was fetched, put and taken away."""
    needs("proftpd", "openssl", root=True)
    port, home = free_port(), path / "home"
    home.mkdir()
    (home / "plan.txt").write_text("the plan\n")
    word = run("openssl", "passwd", "-1", "right").strip()
    (path / "people").write_text(f"anna:{word}:0:0:anna:{home}:/bin/sh\n")
    (path / "people").chmod(0o600)
    (path / "files.conf").write_text(FILES.format(place=path, port=port))
    with daemon("proftpd", "-n", "-c", str(path / "files.conf"), ready=answers(port)):
        client = ftplib.FTP()
        client.connect("127.0.0.1", port)
        client.login("anna", "right")
        for _ in range(3):
            client.retrbinary("RETR plan.txt", lambda data: None)
        client.storbinary("STOR a list.txt", io.BytesIO(b"x" * 5000))
        client.delete("a list.txt")
        client.quit()
    fetched = Counter({("fetched", "anna", 9): 3, ("put", "anna", 5000): 1, ("deleted", "anna", 5000): 1})
    return [Written(path / "transfers.log", ("action", "user", "size"), fetched)]
