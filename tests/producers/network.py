"""Accounting of network sessions, addresses that are lent, packets at a firewall."""

from __future__ import annotations

import socket
import struct
import sys
from collections import Counter
from datetime import timedelta
from pathlib import Path

from tests.conftest import ROOT
from tests.producers.daemons import Written, daemon, free_port, hears, needs, run, setup

RADIUSD = setup("radiusd.conf")


def radius(path: Path) -> list[Written]:
    """An accounting server told of sessions: its detail file, its table, and its own log of who was let in."""
    needs("freeradius", "radclient", root=True)
    port, asking = free_port(), free_port()
    (path / "radiusd.conf").write_text(RADIUSD.format(place=path, port=port, asking=asking))
    (path / "users").write_text('anna Cleartext-Password := "right"\nbert Cleartext-Password := "right"\n')
    packets, sent = [], Counter[tuple[str, int, int]]()
    for i in range(12):
        user, seconds, octets = ('ida "m" vale', "Anna", "anna")[i % 3], 60 * i, i * 2**30 + i
        quoted = user.replace('"', '\\"')
        about = f'User-Name = "{quoted}"\nAcct-Session-Id = "S{i}"\nNAS-IP-Address = 127.0.0.1\nNAS-Port = {i}\n'
        packets.append(f"{about}Acct-Status-Type = Start\n")
        stop = (
            f"{about}Acct-Status-Type = Stop\nAcct-Session-Time = {seconds}\nAcct-Terminate-Cause = User-Request\n"
            f"Acct-Output-Octets = {octets % 2**32}\nAcct-Output-Gigawords = {octets >> 32}\n"
        )
        packets += [stop, stop + "Acct-Delay-Time = 5\n"] if i % 4 == 0 else [stop]
        sent[user, seconds * 1_000_000, octets] += 1
    packets.append("Acct-Status-Type = Accounting-On\nNAS-IP-Address = 127.0.0.1\n")
    with daemon("freeradius", "-f", "-d", str(path), ready=lambda: hears(port)() and hears(asking)()):
        run("radclient", "-q", "-p", "1", f"127.0.0.1:{port}", "acct", "testing", stdin="\n".join(packets))
        for user, word in (("anna", "right"), ("anna", "right"), ("bert", "wrong")):
            asked = f'User-Name = "{user}"\nUser-Password = "{word}"\nNAS-IP-Address = 127.0.0.1\n'
            run("sh", "-c", f"radclient -q 127.0.0.1:{asking} auth testing || true", stdin=asked)
    # the server itself writes signs that a query could stumble over by their numbers
    table = Counter({(user.replace('"', "=5C=22"), *rest): n for (user, *rest), n in sent.items()})
    told = Counter({("login", "anna"): 2, ("failed", "bert"): 1})
    return [
        Written(path / "detail", ("user", "duration", "received"), sent, only={"action": ("stop",)}),
        Written(path / "accounting.db", ("user", "duration", "received"), table, ahead=timedelta(hours=1)),
        Written(path / "radius.log", ("action", "user"), told, only={"action": ("login", "failed")}),
    ]


LENT = setup("lent.sh")
CLIENTS = {"desk-one": "02:00:00:00:00:01", "desk-two": "02:00:00:00:00:02", "desk-three": "02:00:00:00:00:03"}


def clients(interface: str) -> None:
    """Asks for an address as each of the clients: discover, request."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        line.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, interface.encode())
        line.bind(("0.0.0.0", 68))
        line.settimeout(5)
        for number, (name, mac) in enumerate(CLIENTS.items()):
            offer = _ask(line, number, name, mac, 1, b"")
            address, server = offer[16:20], _option(offer, 54)
            _ask(line, number, name, mac, 3, b"\x32\x04" + address + b"\x36\x04" + server)


def _ask(line: socket.socket, number: int, name: str, mac: str, kind: int, more: bytes) -> bytes:
    """Sends a message of the protocol (RFC 2131) and waits for its answer."""
    head = struct.pack("!BBBBIHH", 1, 1, 6, 0, 77 + number, 0, 0x8000) + bytes(16)
    hardware = bytes.fromhex(mac.replace(":", "")).ljust(16, b"\0")
    called = b"\x0c" + bytes([len(name)]) + name.encode()
    options = b"\x63\x82\x53\x63\x35\x01" + bytes([kind]) + more + called + b"\xff"
    line.sendto(head + hardware + bytes(192) + options, ("255.255.255.255", 67))
    return line.recv(2048)


def _option(message: bytes, wanted: int) -> bytes:
    at = 240
    while message[at] != 255:
        if message[at] == wanted:
            return message[at + 2 : at + 2 + message[at + 1]]
        at += 2 + message[at + 1] if message[at] else 1
    raise AssertionError(f"no option {wanted}")


def addresses(path: Path) -> list[Written]:
    """Two programs that lend addresses, on a line of their own: the files in which they remember to whom."""
    needs("dnsmasq", "dhcpd", "ip", "unshare", root=True)
    (path / "lent.sh").write_text(LENT)
    run("unshare", "-mn", "bash", str(path / "lent.sh"), str(path), sys.executable, PYTHONPATH=str(ROOT))
    lent = Counter(dict.fromkeys(CLIENTS.items(), 1))
    return [
        Written(path / n, ("user", "device"), lent, ahead=timedelta(hours=1, minutes=1))
        for n in ("dhcpd.leases", "dnsmasq.leases")
    ]


PACKETS = setup("packets.sh")


def packets(path: Path) -> list[Written]:
    """Packets a firewall refused, written as the kernel writes them."""
    needs("ulogd", "iptables", "unshare", root=True)
    (path / "packets.sh").write_text(PACKETS)
    run("unshare", "-mn", "bash", str(path / "packets.sh"), str(path))
    return [Written(path / "packets.log", ("action", "user", "other", "port"),
                    Counter({("refused", "127.0.0.1", "127.0.0.1", 4242): 4}))]  # fmt: skip
