"""Web servers and a web proxy: what a client asked and was answered is what their logs must say."""

from __future__ import annotations

import base64
import http.client
import socket
from collections import Counter
from pathlib import Path

from tests.producers.daemons import Written, answers, daemon, free_port, hears, needs, reachable, run, says, setup, wait

REQUESTS = (
    *[("GET", "/a.html", ""), ("HEAD", "/a.html", ""), ("GET", "/missing.html", "")] * 3,
    ("GET", "/locked.html", "anna:right"),
    ("GET", "/locked.html", "bert:wrong"),
    ("GET", '/a.html?q="x y"&z=;', ""),
)
Asked = Counter[tuple[str, str, str]]


def use(port: int, requests: tuple[tuple[str, str, str], ...] = REQUESTS) -> Asked:
    """Asks a web server, and counts method, path and the status that came back."""
    got: Asked = Counter()
    for method, path, login in requests:
        client = http.client.HTTPConnection("127.0.0.1", port)
        headers = {"User-Agent": 'agent "quoted" \\ 1', "Connection": "close"}
        if login:
            headers["Authorization"] = f"Basic {base64.b64encode(login.encode()).decode()}"
        target = path.replace(" ", "%20").replace('"', "%22")
        client.request(method, target, headers=headers)
        answer = client.getresponse()
        answer.read()
        got[method, target, str(answer.status)] += 1
        client.close()
    return got


def spoil(port: int) -> None:
    """Requests that are none: text, and the beginning of an encrypted connection."""
    for text in (b"garbage\r\n\r\n", b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\r\n\r\n"):
        with socket.create_connection(("127.0.0.1", port)) as raw:
            raw.sendall(text)
            raw.settimeout(1)
            raw.recv(4096)


def documents(path: Path) -> Path:
    """What the server gives out, readable for its own user."""
    root = path / "www"
    root.mkdir()
    reachable(root)
    (root / "a.html").write_text("hello\n")
    (root / "locked.html").write_text("secret\n")
    (path / "passwords").write_text(f"anna:{run('openssl', 'passwd', '-apr1', 'right').strip()}\n")
    return root


NGINX = setup("nginx.conf")
ASKED = ("action", "other", "outcome")
GET = {"action": ("GET", "HEAD")}


def nginx(path: Path) -> list[Written]:
    """Combined lines, JSON and the error log of one server."""
    needs("nginx", "openssl")
    documents(path)
    port = free_port()
    (path / "nginx.conf").write_text(NGINX.format(place=path, port=port))
    with daemon("nginx", "-c", f"{path}/nginx.conf", "-e", f"{path}/error.log", ready=answers(port)):
        asked = use(port)
        spoil(port)
    refused = sum(n for (_, _, status), n in asked.items() if status in ("401", "404"))
    return [
        Written(path / "access.log", ASKED, asked, only=GET),
        Written(path / "access.json", ASKED, asked, only=GET),
        Written(path / "error.log", ("action",), Counter({("error",): refused}), only={"action": ("error",)}),
    ]


APACHE = setup("apache.conf")


def apache(path: Path) -> list[Written]:
    """Combined lines, the same with the name of the host before them, and the error log."""
    needs("apache2", "openssl", root=True)
    documents(path)
    port = free_port()
    (path / "apache.conf").write_text(APACHE.format(place=path, port=port, modules="/usr/lib/apache2/modules"))
    with daemon("apache2", "-X", "-f", f"{path}/apache.conf", ready=answers(port)):
        asked = use(port)
        spoil(port)
    missing = sum(n for (_, _, s), n in asked.items() if s == "404")
    wrong = sum(n for (_, _, s), n in asked.items() if s == "401")
    return [
        Written(path / "access.log", ASKED, asked, only=GET),
        Written(path / "hosts.log", ASKED, asked, only=GET),
        Written(
            path / "error.log",
            ("module", "device"),
            Counter({("core", "127.0.0.1"): missing, ("auth_basic", "127.0.0.1"): wrong}),
            only={"module": ("core", "auth_basic"), "device": ("127.0.0.1",)},
        ),
    ]


LIGHTTPD = setup("lighttpd.conf")


def lighttpd(path: Path) -> list[Written]:
    """Its access log names the host where others have a dash."""
    needs("lighttpd", "openssl")
    documents(path)
    port = free_port()
    (path / "lighttpd.conf").write_text(LIGHTTPD.format(place=path, port=port))
    with daemon("lighttpd", "-D", "-f", f"{path}/lighttpd.conf", ready=answers(port)):
        asked = use(port)
    return [Written(path / "access.log", ASKED, asked, only=GET)]


SQUID = setup("squid.conf")


def squid(path: Path) -> list[Written]:
    """A web proxy before a web server: pages fetched, found missing, forbidden by the proxy."""
    needs("squid", "nginx", "openssl", root=True)
    documents(path)
    behind, port = free_port(), free_port()
    (path / "nginx.conf").write_text(NGINX.format(place=path, port=behind))
    (path / "squid.conf").write_text(SQUID.format(place=path, port=port))
    path.chmod(0o777)  # the proxy works as a user of its own
    with (
        daemon("nginx", "-c", f"{path}/nginx.conf", "-e", f"{path}/error.log", ready=answers(behind)),
        daemon("squid", "-N", "-n", f"hall{port}", "-f", f"{path}/squid.conf", ready=answers(port)),
    ):
        home = f"http://127.0.0.1:{behind}"
        asked = use(port, tuple((method, home + target, "") for method, target, _ in REQUESTS))
        wait(says(path / "proxy.log", "HTTP_|TCP_", len(REQUESTS)))
    return [Written(path / "proxy.log", ASKED, asked, only=GET)]


HAPROXY = setup("haproxy.conf")
COLLECT = """module(load="imudp")
input(type="imudp" address="127.0.0.1" port="{collector}")
*.* action(type="omfile" file="{place}/balancer.log" template="RSYSLOG_TraditionalFileFormat")
"""


def haproxy(path: Path) -> list[Written]:
    """A load balancer that tells the system's log of each request."""
    needs("haproxy", "nginx", "rsyslogd", "openssl", root=True)
    documents(path)
    behind, port, collector = free_port(), free_port(), free_port()
    (path / "nginx.conf").write_text(NGINX.format(place=path, port=behind))
    (path / "balancer.conf").write_text(HAPROXY.format(port=port, behind=behind, collector=collector))
    (path / "collect.conf").write_text(COLLECT.format(place=path, collector=collector))
    with (
        daemon("nginx", "-c", f"{path}/nginx.conf", "-e", f"{path}/error.log", ready=answers(behind)),
        daemon("rsyslogd", "-n", "-f", f"{path}/collect.conf", "-i", f"{path}/rsyslog.pid", ready=hears(collector)),
        daemon("haproxy", "-f", f"{path}/balancer.conf", ready=answers(port)),
    ):
        asked = use(port)
        wait(says(path / "balancer.log", "/[a-z]+\\.html", len(REQUESTS)))
    return [Written(path / "balancer.log", ASKED, asked, only=GET)]
