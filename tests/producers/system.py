"""What the system itself writes: logins by a login daemon, other users' rights, packages; in a mount namespace."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from tests.producers.daemons import Written, needs, run, setup

LOGINS = setup("logins.sh")


def logins(path: Path) -> list[Written]:
    """A login daemon used by three people: the system's log in three forms, login records and their lists."""
    needs("sshd", "ssh", "rsyslogd", "last", "lastb", "utmpdump", "unshare", "sudo", root=True)
    (path / "logins.sh").write_text(LOGINS)
    run("unshare", "-mn", "bash", str(path / "logins.sh"), str(path))
    opened = {("login", "anna"): 2, ("login", "bert"): 1}
    failed = {("failed", "bert"): 1, ("failed", "nobody-here"): 1}
    told = Counter({**opened, **failed, ("logout", "anna"): 2, ("logout", "bert"): 1})
    # a name that nobody has stands in these records twice: when it is given, and when its password fails
    refused = Counter({("failed", "bert"): 1, ("failed", "nobody-here"): 2})
    listed = Counter({("anna", "127.0.0.1"): 2, ("bert", "127.0.0.1"): 1})
    return [
        *(Written(path / f"{n}.log", ("action", "user"), told) for n in ("old", "new", "full")),
        Written(path / "wtmp", ("action", "user"), Counter(opened), only={"action": ("login",)}),
        Written(path / "btmp", ("action", "user"), refused),
        Written(path / "last.txt", ("user", "other"), listed),
        Written(path / "last-iso.txt", ("user", "other"), listed),
        Written(
            path / "lastb.txt", ("user", "other"), Counter({("bert", "127.0.0.1"): 1, ("nobody-here", "127.0.0.1"): 2})
        ),
        Written(path / "dump.txt", ("action", "user"), Counter(opened), only={"action": ("login",)}),
        Written(path / "latest.txt", ("user", "other"), Counter({("anna", "127.0.0.1"): 1, ("bert", "127.0.0.1"): 1})),
    ]


CONTROL = """Package: {name}
Version: {version}
Architecture: all
Maintainer: Nobody <nobody@hall.example>
Description: nothing
"""


def packages(path: Path) -> list[Written]:
    """A package manager's log: installed, renewed, removed, into a folder of its own."""
    needs("dpkg", "dpkg-deb", root=True)
    for folder in ("root/var/lib/dpkg/info", "root/var/lib/dpkg/updates", "root/var/lib/dpkg/triggers"):
        (path / folder).mkdir(parents=True)
    (path / "root/var/lib/dpkg/status").touch()
    tool = ("dpkg", "--root", str(path / "root"), "--log", str(path / "packages.log"), "--force-all")
    for name, version in (("hall-one", "1.0"), ("hall-two", "2.1"), ("hall-one", "1.1")):
        made = path / name / version
        (made / "DEBIAN").mkdir(parents=True)
        (made / "DEBIAN" / "control").write_text(CONTROL.format(name=name, version=version))
        run("dpkg-deb", "--build", str(made), str(path / "made.deb"))
        run(*tool, "--install", str(path / "made.deb"))
    run(*tool, "--remove", "hall-two")
    truth = {("install", "hall-one:all"): 1, ("install", "hall-two:all"): 1,
             ("upgrade", "hall-one:all"): 1, ("remove", "hall-two:all"): 1}  # fmt: skip
    return [Written(path / "packages.log", ("action", "other"), Counter(truth),
                    only={"action": ("install", "upgrade", "remove")})]  # fmt: skip


JOURNAL = setup("journal.sh")


def journal(path: Path) -> list[Written]:
    """The journal of the system as JSON, told the messages of a login daemon."""
    import sys

    needs("unshare", "journalctl", root=True)
    (path / "journal.sh").write_text(JOURNAL)
    run("unshare", "-m", "bash", str(path / "journal.sh"), str(path), sys.executable)
    told = {
        ("login", "anna"): 2,
        ("login", "bert"): 1,
        ("logout", "anna"): 2,
        ("logout", "bert"): 1,
        ("failed", "bert"): 1,
    }
    return [Written(path / "journal.json", ("action", "user"), Counter(told))]
