"""A result as JSON to an address, by HTTP POST (RFC 9110)."""

from __future__ import annotations

import ssl
import urllib.error
import urllib.request
from http.client import HTTPException

from fermata.deliveries.outcome import Outcome

__all__ = ["post"]

PASSING = (408, 409, 425, 429)  # besides 5xx


class _NoRedirect(urllib.request.HTTPRedirectHandler):
    """What is sent goes where it was told to go, and its token nowhere else."""

    def redirect_request(self, *_: object) -> None:
        """None: a redirect is an answer like any other."""
        return


def post(address: str, body: bytes, identity: str, token: str = "", timeout: int = 60) -> Outcome:
    """Sends `body`; `Idempotency-Key` is the same for the same delivery, so that the other side can tell a second
    one.
    """
    headers = {"Content-Type": "application/json", "Idempotency-Key": identity, "User-Agent": "fermata"}
    if token:
        headers["Authorization"] = f"Bearer {token}"
    request = urllib.request.Request(address, body, headers, method="POST")
    opener = urllib.request.build_opener(_NoRedirect, urllib.request.HTTPSHandler(context=ssl.create_default_context()))
    try:
        with opener.open(request, timeout=timeout) as answer:
            return Outcome("sent", f"{answer.status} {answer.reason}")
    except urllib.error.HTTPError as e:
        with e:
            passing = e.code >= 500 or e.code in PASSING
            return Outcome("later" if passing else "refused", f"{address}: {e.code} {e.reason}")
    except urllib.error.URLError as e:
        return Outcome("later", f"{address}: {e.reason}")
    except (OSError, HTTPException) as e:  # the request was on its way; the key tells a second one
        return Outcome("later", f"{address}: {e or type(e).__name__}")
