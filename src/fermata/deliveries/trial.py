"""What a delivery would send: made as it would be, kept nowhere, and shown, or sent to one address instead of all."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from email.message import EmailMessage
from pathlib import Path

from fermata.archive.shelf import Shelf
from fermata.deliveries import dispatch, smtp, timetable
from fermata.deliveries.dispatch import Parcel
from fermata.deliveries.mail import Letter
from fermata.deliveries.make import Maker
from fermata.deliveries.model import Delivery
from fermata.deliveries.outcome import Outcome, Sent
from fermata.deliveries.progress import History, Run
from fermata.errors import RequestError
from fermata.outputs.letter import picture
from fermata.workspace.base import Base

__all__ = ["Shown", "tried"]


@dataclass(frozen=True)
class Shown:
    """One thing that would go out: whose part, to whom and how (in words), subject and text of a mail, and the names of
    its files; `into` is the folder they were written to for looking at.
    """

    part: str
    to: str
    way: str
    subject: str = ""
    text: str = ""
    files: tuple[str, ...] = ()
    into: Path | None = None


def tried(base: Base, name: str, *, to: str = "", into: Path | None = None) -> tuple[list[Shown], list[Sent]]:
    """What the delivery `name` would send if it ran now, and what would not go out and why. Nothing is recorded. With
    `into`, files are written there, and mails as text, HTML, picture and message; with `to`, an address, each mail
    goes to it and to nobody else. Raises UnknownName, RequestError.
    """
    delivery = timetable.load(base, name)
    if wrong := timetable.problems(base, delivery):
        raise RequestError("\n".join(wrong))
    with tempfile.TemporaryDirectory() as aside:
        shelf = Shelf(Path(aside) / "shelf")
        shelf.root.mkdir()
        now = base.now()
        maker = Maker(base, shelf, History(), now, base.archive.snapshot().manifest.number, True, False)
        run = maker.begun(Run(name, now, now, by_hand=True))
        told = maker.make(replace_alert(delivery), run)
        shown = [
            _shown(base, shelf, parcel, now, to, into)
            for part, number in run.items.items()
            for parcel in _parcels(base, shelf, delivery, number, run.recipients.get(part, ()))
        ]
    return shown, told


def replace_alert(delivery: Delivery) -> Delivery:
    """The delivery without its condition: a trial shows what would go out if it held."""
    return delivery.model_copy(update={"only_if": None})


def _parcels(
    base: Base, shelf: Shelf, delivery: Delivery, number: int, recipients: tuple[str, ...]
) -> Iterator[Parcel]:
    item = shelf.item(number)
    for target in delivery.to:
        if target.mail != ("recipient",) or recipients:
            yield from dispatch.parcels(base, item, target, recipients, shelf=shelf)


def _shown(base: Base, shelf: Shelf, parcel: Parcel, now: datetime, to: str, into: Path | None) -> Shown:
    """One parcel in words, its files written and its mail sent to `to` where asked."""
    files = shelf.paths(parcel.item)
    folder = into / (parcel.item.part or "all").replace("/", "-") if into else None
    if folder:
        folder.mkdir(parents=True, exist_ok=True)
        for file in files:
            shutil.copy(file, folder / file.name)
    names = tuple(f.name for f in files)
    if not parcel.target.mail:
        way = "folder" if parcel.name else parcel.target.channel or "webhook"
        return Shown(parcel.item.part, parcel.target.words, way, "", "", names, folder)
    whom = replace(parcel, shown=(to,), copied=()) if to else parcel
    with dispatch.composed(base, shelf, whom, now, keeps=False) as (letter, message):
        if folder:
            _laid_out(folder, letter, message)
        if to:
            settings = base.config.mail
            assert settings
            _raised(smtp.send(settings, base.path, message, (to,)), to)
        way = f"mail, {parcel.how}" + (f", sent to {to} instead" if to else "")
        return Shown(parcel.item.part, ", ".join(parcel.to), way, letter.subject, letter.text, names, folder)


def _laid_out(folder: Path, letter: Letter, message: EmailMessage) -> None:
    """The mail to look at: as text, as HTML, as a picture, and whole as a mail program opens it."""
    heads = [(name, str(message[name] or "")) for name in ("Subject", "From", "To", "Cc")]
    heads.append(("Attached", ", ".join(f.name for f in letter.files)))
    above = "\n".join(f"{name}: {text}" for name, text in heads if text)
    (folder / "mail.txt").write_text(f"{above}\n\n{letter.text}", encoding="utf-8")
    (folder / "mail.html").write_text(letter.html, encoding="utf-8")
    (folder / "mail.eml").write_bytes(message.as_bytes())
    with (folder / "mail.png").open("wb") as out:
        picture(letter.html, heads, out)


def _raised(outcomes: list[Outcome], to: str) -> None:
    wrong = [o for o in outcomes if o.state != "sent"]
    if wrong:
        raise RequestError(f"the mail to {to} could not be sent: {wrong[0].why}")
