"""Messages: text and HTML, attachments, and headers nothing from a log can break out of."""

from __future__ import annotations

import hashlib
import io
import mimetypes
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime
from pathlib import Path

from fermata.config.mail import MailMap
from fermata.deliveries.model import Target
from fermata.deliveries.templates import header

__all__ = ["Letter", "mark", "message", "message_id", "zipped"]


@dataclass(frozen=True)
class Letter:
    """What a message says: subject, text, HTML ("" for none) and its files."""

    subject: str
    text: str
    html: str = ""
    files: tuple[Path, ...] = ()


def mark(*parts: str) -> str:
    """128 bits of SHA-256 of some texts, in hex: the same texts always have the same mark."""
    return hashlib.sha256("\0".join(parts).encode()).hexdigest()[:32]


def message_id(settings: MailMap, *parts: str) -> str:
    """The identity of a message: the same for the same delivery, planned time, part and target, so that a second one
    can be told.
    """
    return f"<{mark(*parts)}@{settings.sender.rpartition('@')[2]}>"


def message(
    settings: MailMap, target: Target, to: Sequence[str], cc: Sequence[str], letter: Letter, identity: str, at: datetime
) -> EmailMessage:
    """The message, addressed to those in `to` and `cc`; whoever else gets it stands in no header."""
    made = EmailMessage(policy=SMTP)
    made["Subject"] = header(letter.subject)
    made["From"] = Address(header(settings.sender_name), addr_spec=settings.sender)
    for name, addresses in (("To", to), ("Cc", cc)):
        if addresses:
            made[name] = [Address(addr_spec=a) for a in addresses]
    if reply := target.reply_to or settings.reply_to:
        made["Reply-To"] = Address(addr_spec=reply)
    made["Date"] = format_datetime(at)
    made["Message-ID"] = identity
    made["Auto-Submitted"] = "auto-generated"  # RFC 3834: no answer from a machine
    made.set_content(letter.text)
    if letter.html:
        made.add_alternative(letter.html, subtype="html")
    for path in letter.files:
        kind, _ = mimetypes.guess_type(path.name)
        major, _, minor = (kind or "application/octet-stream").partition("/")
        if major == "text":
            major, minor = "application", "octet-stream"  # as it is, byte for byte
        made.add_attachment(path.read_bytes(), maintype=major, subtype=minor, filename=path.name)
    for number, part in enumerate(p for p in made.walk() if p.is_multipart()):
        part.set_boundary(
            f"={identity.strip('<>').partition('@')[0]}-{number}="
        )  # the same bytes each time it is tried
    return made


def zipped(files: Sequence[Path], target: Path) -> Path:
    """The files as one archive at `target`, the same bytes for the same files."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as z:
        for path in files:
            info = zipfile.ZipInfo(path.name, (1980, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            z.writestr(info, path.read_bytes())
    target.write_bytes(packed.getvalue())
    return target
