"""A print spooler: its page log in the form it has by itself, in one of one's own, and its log of requests."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from tests.producers.daemons import Written, daemon, needs, run, says, setup, wait

SPOOLER = setup("spooler.conf")
FILES = setup("printing-files.conf")
USUAL = "%p %u %j %T %P %C %{job-billing} %{job-originating-host-name} %{job-name} %{media} %{sides}"
OWN = "%u\t%p\t%j\t%T\t%P\t%C\t%{job-name}"
TITLES = ('Programme [draft] "x"; total 99 - localhost x', "two words", "plain", "é, Réglage")


def spooled(path: Path, layout: str) -> Counter[tuple[str, str, str]]:
    """Twelve jobs of three people on two printers, as the spooler lists them."""
    needs("cupsd", "lp", "lpadmin", "lpstat", root=True)
    for name in ("spool", "cache", "state", "tmp", "ppd", "ssl"):
        (path / name).mkdir()
    path.chmod(0o755)
    (path / "tmp").chmod(0o1777)
    (path / "cupsd.conf").write_text(SPOOLER.format(place=path, layout=layout))
    (path / "files.conf").write_text(FILES.format(place=path))
    (path / "job.txt").write_text("some text\n")
    server = {"CUPS_SERVER": str(path / "sock")}
    truth = Counter[tuple[str, str, str]]()
    with daemon("cupsd", "-f", "-c", f"{path}/cupsd.conf", "-s", f"{path}/files.conf", ready=(path / "sock").exists):
        for printer in ("office-1", "office-2"):
            run("lpadmin", "-p", printer, "-E", "-v", "file:/dev/null", "-m", "raw", **server)
        for i in range(12):
            user, printer = ("anna b", "jon", "ann's")[i % 3], f"office-{1 + i % 2}"
            run("lp", "-d", printer, "-U", user, "-t", TITLES[i % 4], str(path / "job.txt"), **server)
            truth[printer, user, TITLES[i % 4]] += 1
        wait(says(path / "page_log", "office", 12))
    return truth


def spooler(path: Path) -> list[Written]:
    """The page log as a spooler writes it by itself, and what it was asked."""
    truth = spooled(path, USUAL)
    asked = Counter({("POST", "200"): (path / "requests.log").read_text().count('"POST ')})
    return [
        Written(path / "page_log", ("device", "user", "title"), truth),
        Written(path / "requests.log", ("action", "outcome"), asked, only={"outcome": ("200",), "action": ("POST",)}),
    ]


def own_layout(path: Path) -> list[Written]:
    """A layout of one's own, apart by tabulators."""
    truth = spooled(path, OWN)
    return [Written(path / "page_log", ("device", "user", "title"), truth)]
