"""The timetable of a workspace as its administrator has it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from fermata.api.tabular import Listing
from fermata.deliveries import edit, send, timetable, timetable_view, trial
from fermata.deliveries.outcome import Sent
from fermata.deliveries.progress import History
from fermata.deliveries.trial import Shown
from fermata.workspace.base import Base

__all__ = ["Deliveries"]


@dataclass(frozen=True)
class Deliveries:
    """Reports that go out by themselves. No viewer has it."""

    base: Base

    def names(self) -> list[str]:
        """The names of what is on the timetable.

        >>> hall.deliveries.names()[:2]
        ['client-statements', 'doors-silent']
        """
        return timetable.names(self.base)

    def table(self, name: str = "", *, count: int = 2) -> Listing:
        """Every delivery with its next runs, how the last one ended, and what is wrong with it; with a name, its next
        `count` runs.

        >>> hall.deliveries.table().names[:3]
        ('delivery', 'report', 'next')
        """
        history = History.of(self.base.shelf.record.read())
        return Listing.of(timetable_view.table(self.base, history, name, count=count))

    def schedule(self, name: str, *, over: bool = False, **data: object) -> tuple[Path, list[str]]:
        """Puts a report on the timetable: `schedule("refused", report="refused-entries", when="monthly on the 1st at
        07:00", mail=[...])`.

        `data` are the keys of `deliveries/NAME.toml`; `mail=[...]`, `folder=` and `webhook=`, and what goes with a
        mail, may stand beside them instead of in `to`; `report="last"` keeps the last run under that name. Returns the
        file, and what will work but may not be meant. Raises RequestError with every problem.

        >>> asked = {"report": "refused-entries", "period": "last month", "when": "monthly on the 1st at 07:00"}
        >>> hall.deliveries.schedule("refused", mail=["audit@house.example"], subject="Refused", **asked)[0].name
        'refused.toml'
        """
        return edit.add(self.base, name, over=over, **data)

    def change(self, name: str, **keys: object) -> Path:
        """Changes keys of a delivery (`paused=True`, `when="..."`); all else in its file stays. Raises UnknownName,
        RequestError.

        >>> hall.deliveries.change(hall.deliveries.names()[0], paused=True).suffix
        '.toml'
        """
        return edit.changed(self.base, name, **keys)

    def skip_next(self, name: str) -> datetime:
        """Leaves the next run of a delivery out; when that would have been (aware UTC). Raises UnknownName.

        >>> hall.deliveries.skip_next(hall.deliveries.names()[-1]) > hall.now()
        True
        """
        return edit.skipped(self.base, name)

    def remove(self, name: str) -> Path:
        """Takes a delivery off the timetable; its file stays as NAME.toml.removed, which is returned. Raises
        UnknownName.

        >>> hall.deliveries.remove("own-printing").name
        'own-printing.toml.removed'
        """
        return edit.removed(self.base, name)

    def trial(self, name: str, *, to: str = "", into: Path | None = None) -> tuple[list[Shown], list[Sent]]:
        """What a delivery would send now, to whom, and what would not go out; nothing is recorded. With `to`, an
        address, the mails go there and nowhere else; with `into`, the files and the HTML of mails are written there.

        >>> shown, _ = hall.deliveries.trial(hall.deliveries.names()[0])
        >>> shown[0].to
        'accounts@farrowmere.example'
        """
        return trial.tried(self.base, name, to=to, into=into)

    def send(self, name: str = "", *, at_once: bool = False, retry: bool = False, wait: float = 0) -> list[Sent]:
        """Runs and hands over what is due now, and what is to be tried again; with `at_once`, the delivery `name`
        whatever its timetable; with `retry`, what could not be handed over is tried at once.

        A failure is one of what is returned and no exception, so that the others go out. Raises ArchiveBusy while
        another does it.

        >>> [(sent.delivery, sent.what, sent.why) for sent in hall.deliveries.send()][0]
        ('client-statements', 'first seen', 'next run 2026-04-01 09:00')
        """
        return send.send(self.base, name, at_once=at_once, retry=retry, wait=wait)

    def units(self, program: str, kind: str) -> str:
        """Text for a scheduler of the system that calls `fermata send`.

        >>> hall.deliveries.units("/usr/bin/fermata", "cron").splitlines()[-1]
        '*/5 * * * * /usr/bin/fermata --workspace ... send --quiet'
        """
        return timetable.units(self.base, program, kind)
