"""One item of the shelf to one target: messages, files in a folder, or a request; what can be said in them."""

from __future__ import annotations

import contextlib
import urllib.parse
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from fermata.archive.folder import put
from fermata.archive.shelf import BODY, FRAGMENT, Item, Shelf
from fermata.config.mail import How, MailMap, bytes_of
from fermata.deliveries import channel, folder, mail, smtp, templates, webhook
from fermata.deliveries.model import NO_SERVER, Target
from fermata.deliveries.outcome import Outcome
from fermata.errors import FermataError, RequestError
from fermata.secret import secret
from fermata.workspace.base import Base

__all__ = ["Parcel", "composed", "hand_over", "parcels", "values"]


@dataclass(frozen=True)
class Parcel:
    """What goes to a target in one go: `to` all it is for. For mail: `shown` and `copied` stand in the headers, `how`
    is the way the result goes. `name` is what files in a folder are called.
    """

    item: Item
    target: Target
    identity: str
    to: tuple[str, ...]
    shown: tuple[str, ...] = ()
    copied: tuple[str, ...] = ()
    how: How = "attached"
    name: str = ""


def values(facts: Mapping[str, Any], item: Item, recipient: str = "", links: Sequence[str] = ()) -> dict[str, Any]:
    """What templates can say."""
    return {
        **facts["said"], "delivery": item.delivery, "part": item.part, "recipient": recipient, "links": list(links),
        "planned": item.planned,
        "number": item.number,
    }  # fmt: skip


def parcels(
    base: Base,
    item: Item,
    target: Target,
    recipients: Sequence[str],
    again: str = "",
    *,
    shelf: Shelf | None = None,
) -> list[Parcel]:
    """The parcels of an item for a target; for mail one for each way results go to addresses inside and outside.

    `again` tells a repetition people asked for from the first time; `shelf` is where the item is, the workspace's by
    default. Raises RequestError.
    """
    shelf = shelf or base.shelf
    key = (item.delivery or "shelf", item.planned or item.made.isoformat(), item.part, target.words, again)
    settings = base.config.mail
    if not target.mail:
        identity = mail.mark(*key)
        name = (
            templates.file_name(templates.filled(target.name, values(shelf.facts(item), item))) if target.folder else ""
        )
        return [Parcel(item, target, identity, (target.words,), name=name)]
    if settings is None:
        raise RequestError(NO_SERVER)
    shown = tuple(recipients) if target.mail == ("recipient",) else target.mail
    ways: dict[How, tuple[list[str], list[str], list[str]]] = {}
    for number, addresses in enumerate((shown, target.cc, target.bcc)):
        for address in addresses:
            ways.setdefault(_way(settings, target, address), ([], [], []))[number].append(address)
    found = []
    for how, (to, cc, bcc) in ways.items():
        everybody = tuple(dict.fromkeys((*to, *cc, *bcc)))
        identity = mail.message_id(settings, *key, how)
        found.append(Parcel(item, target, identity, everybody, tuple(to), tuple(cc), how))
    return found


def _way(settings: MailMap, target: Target, address: str) -> How:
    return target.how or (settings.how_inside if settings.is_inside(address) else settings.how_outside)


def hand_over(base: Base, parcel: Parcel, to: Sequence[str], at: datetime, former: Sequence[str] = ()) -> list[Outcome]:
    """Hands a parcel over to those in `to`; what became of it. `former` are the names files
    in its folder had before.
    """
    try:
        files = base.shelf.paths(parcel.item)
        if parcel.target.folder:
            place = base.path / parcel.target.folder
            return [folder.place(files, place, parcel.name, keep=parcel.target.keep, former=former)]
        if parcel.target.webhook:
            return [_posted(base, parcel)]
        if parcel.target.channel:
            return [_given(base, parcel)]
        settings = base.config.mail
        assert settings
        with composed(base, base.shelf, parcel, at) as (_, message):
            return smtp.send(settings, base.path, message, to)
    except (FermataError, OSError) as e:
        return [Outcome("later", str(e))]


def _posted(base: Base, parcel: Parcel) -> Outcome:
    target = parcel.target
    if BODY not in parcel.item.files:
        return Outcome("refused", f"item {parcel.item.number} was made before the delivery had a webhook")
    token = _token(base, target)
    body = (base.shelf.folder(parcel.item.number) / BODY).read_bytes()
    return webhook.post(target.webhook, body, parcel.identity, token)


def _given(base: Base, parcel: Parcel) -> Outcome:
    target, item = parcel.target, parcel.item
    said = values(base.shelf.facts(item), item, target.address)
    letter = channel.Letter(
        target.address,
        tuple(base.shelf.paths(item)),
        templates.filled(target.subject or templates.SUBJECT, said),
        templates.filled(target.text or templates.TEXT, said),
        parcel.identity,
        _token(base, target),
        target.options,
    )
    return channel.give(target.channel, letter)


def _token(base: Base, target: Target) -> str:
    where = base.path / target.token_file if target.token_file else None
    return secret(f"the token of the {target.channel or 'webhook'}", target.token_env, where)


@contextlib.contextmanager
def composed(
    base: Base, shelf: Shelf, parcel: Parcel, at: datetime, *, keeps: bool = True
) -> Iterator[tuple[mail.Letter, EmailMessage]]:
    """The mail of a parcel, as what it says and as a message; without `keeps`, nothing is laid into the share."""
    settings, item, target = base.config.mail, parcel.item, parcel.target
    assert settings
    facts = shelf.facts(item)
    with TemporaryDirectory() as aside:
        attached, links = _carried(base, shelf, parcel, Path(aside), keeps=keeps)
        said = values(facts, item, ", ".join(parcel.shown), links)
        subject = templates.filled(target.subject or templates.SUBJECT, said)
        text = templates.filled(target.text or templates.TEXT, said)
        if unsaid := [link for link in links if link not in text]:  # a text of one's own that leaves them out
            text = "\n".join([text.rstrip(), "", *unsaid, ""])
        inside = shelf.folder(item.number) / FRAGMENT
        tables = inside.read_text(encoding="utf-8") if inside.exists() and not target.text else ""
        letter = mail.Letter(subject, text, templates.page(said, text if target.text else "", tables), tuple(attached))
        yield letter, mail.message(settings, target, parcel.shown, parcel.copied, letter, parcel.identity, at)


def _carried(base: Base, shelf: Shelf, parcel: Parcel, aside: Path, *, keeps: bool) -> tuple[list[Path], list[str]]:
    """What is attached, and what is linked to instead. Raises DataError where the share cannot be written."""
    settings, files = base.config.mail, shelf.paths(parcel.item)
    assert settings
    if parcel.how == "in the text":
        return [], []
    if parcel.how == "link":
        made = []
        for file in files:
            name = f"{file.stem}-{parcel.item.files[file.name][:16]}{file.suffix}"  # nobody guesses it without the file
            if keeps:
                put(file, base.path / settings.share / name)
                shelf.shared(parcel.item.number, base.path / settings.share / name)
            made.append(settings.share_address.rstrip("/") + "/" + urllib.parse.quote(name))
        return [], made
    large = sum(f.stat().st_size for f in files) > bytes_of(parcel.target.zip_above or settings.zip_above)
    if parcel.how == "zipped" or large:
        return [mail.zipped(files, aside / f"{files[0].stem}.zip")], []
    return files, []
