"""The elements of an XML document, one at a time, whatever it holds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fermata.errors import SourceError
from fermata.intake.readers import Job

__all__ = ["DEEPEST", "elements"]

DEEPEST = 200  # levels of elements, lists or objects in each other: far more than any log has


def elements(job: Job, what: str) -> Iterator[tuple[str, Any]]:
    """What happens to each element, `start` or `end`, and the element. Raises SourceError where it is no `what`, or
    stands too deep in others.
    """
    from xml.etree.ElementTree import ParseError

    from defusedxml import DefusedXmlException, ElementTree

    depth = 0
    try:
        for kind, element in ElementTree.iterparse(str(job.path), events=("start", "end"), forbid_dtd=True):
            depth += 1 if kind == "start" else -1
            if depth > DEEPEST:
                raise SourceError(f"{job.shown}: has elements more than {DEEPEST} deep in each other, so it is no log")
            yield kind, element
    except (ParseError, DefusedXmlException, LookupError, ValueError) as e:  # an encoding that nobody knows, too
        raise SourceError(f"{job.shown}: is {what}: {str(e) or type(e).__name__}") from None
