"""Handing a message to a mail server (RFC 5321), and what its answers mean.

A message counts as handed over when the server has accepted the end of its text. Where the connection breaks between
the end of the text and that answer, nobody can tell: that is `doubt`. Before it, nothing was accepted, and it can be
tried again.
"""

from __future__ import annotations

import smtplib
import ssl
from collections.abc import Sequence
from email.generator import BytesGenerator
from email.message import EmailMessage
from email.policy import SMTP
from io import BytesIO
from pathlib import Path

from fermata.config.mail import MailMap
from fermata.deliveries.outcome import Outcome
from fermata.errors import ConfigError
from fermata.secret import secret

__all__ = ["send"]


def send(settings: MailMap, base: Path, letter: EmailMessage, to: Sequence[str]) -> list[Outcome]:
    """Hands the message over for those in `to`; one outcome for each way it went. Never raises for what the server
    does.

    Raises RequestError, ConfigError where the password cannot be read.
    """
    password = _password(settings, base)
    try:
        server = _connected(settings, base)
    except (OSError, smtplib.SMTPException) as e:
        return [_failed(e, settings)]
    try:
        if settings.user:
            server.login(settings.user, password)
        return _handed(server, settings, letter, list(to))
    except (OSError, smtplib.SMTPException) as e:
        return [_failed(e, settings)]
    finally:
        server.close()


def _password(settings: MailMap, base: Path) -> str:
    if not settings.user:
        return ""
    file = base / settings.password_file if settings.password_file else None
    return secret("the password of the mail server", settings.password_env, file)


def _connected(settings: MailMap, base: Path) -> smtplib.SMTP:
    """A connection as secure as the settings ask for. Raises OSError, SMTPException, ConfigError."""
    try:
        context = ssl.create_default_context(
            cafile=str(base / settings.certificates) if settings.certificates else None
        )
    except (OSError, ssl.SSLError) as e:
        raise ConfigError(
            "fermata.toml", [f"mail.certificates: {settings.certificates} cannot be read ({e})"]
        ) from None
    if settings.security == "tls":
        return smtplib.SMTP_SSL(settings.server, settings.at, timeout=settings.timeout, context=context)
    server = smtplib.SMTP(settings.server, settings.at, timeout=settings.timeout)
    if settings.security == "starttls":
        try:
            server.starttls(context=context)
        except BaseException:
            server.close()
            raise
    return server


def _handed(server: smtplib.SMTP, settings: MailMap, letter: EmailMessage, to: list[str]) -> list[Outcome]:
    server.ehlo_or_helo_if_needed()
    code, said = server.mail(settings.sender)
    if code != 250:
        return [_answer(code, said)]
    outcomes, taken = [], []
    for address in to:
        code, said = server.rcpt(address)
        if code in (250, 251):
            taken.append(address)
        else:
            outcomes.append(_answer(code, said, address))
    if not taken:
        return outcomes
    code, said = server.docmd("DATA")
    if code != 354:
        return [*outcomes, *(_answer(code, said, a) for a in taken)]
    server.send(smtplib._quote_periods(_bytes(letter)))  # type: ignore[attr-defined]  # the module's own
    try:
        server.send(b".\r\n")
        code, said = server.getreply()
    except (OSError, smtplib.SMTPException) as e:
        why = f"the connection broke after the whole text was sent: {_plain(e)}"
        return [*outcomes, Outcome("doubt", why, tuple(taken))]
    if code != 250:
        return [*outcomes, *(_answer(code, said, a) for a in taken)]
    return [*outcomes, Outcome("sent", _text(said), tuple(taken))]


def _bytes(letter: EmailMessage) -> bytes:
    out = BytesIO()
    BytesGenerator(out, policy=SMTP.clone(cte_type="7bit")).flatten(letter)
    text = out.getvalue()
    return text if text.endswith(b"\r\n") else text + b"\r\n"


def _answer(code: int, said: bytes, address: str = "") -> Outcome:
    """A refusal: 4xx may pass, 5xx will not (RFC 5321, 4.2.1)."""
    state = "later" if 400 <= code < 500 or code < 0 else "refused"
    # one of the two
    return Outcome(state, f"{code} {_text(said)}", (address,) if address else ())  # type: ignore[arg-type]


def _failed(error: Exception, settings: MailMap) -> Outcome:
    where = f"{settings.server} port {settings.at}"
    if isinstance(error, ssl.SSLCertVerificationError):
        return Outcome(
            "later", f"{where}: the certificate cannot be trusted ({error.verify_message}); see mail.certificates"
        )
    if isinstance(error, smtplib.SMTPNotSupportedError):
        return Outcome("refused", f"{where}: {_plain(error)} (mail.security = {settings.security!r})")
    if isinstance(error, smtplib.SMTPAuthenticationError):
        return Outcome("later", f"{where}: user or password not accepted ({error.smtp_code})")
    if isinstance(error, smtplib.SMTPResponseException):
        return _answer(error.smtp_code, error.smtp_error if isinstance(error.smtp_error, bytes) else b"")
    return Outcome("later", f"{where}: {_plain(error)}")


def _plain(error: Exception) -> str:
    return str(error) or type(error).__name__


def _text(said: bytes) -> str:
    return " ".join(said.decode("utf-8", "replace").split())[:200]
