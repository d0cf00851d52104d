"""The shelf of a workspace as its administrator has it: runs kept with what proves them, handed on again, verified."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from fermata.api.tabular import Listing
from fermata.archive.shelf import Item
from fermata.deliveries import index, shelf_view
from fermata.deliveries.outcome import Sent
from fermata.deliveries.progress import History
from fermata.proof import verify
from fermata.proof.verify import Verdict
from fermata.reports.definition.report import Report
from fermata.workspace.base import Base

__all__ = ["KeptRuns"]


@dataclass(frozen=True)
class KeptRuns:
    """Finished outputs, each with what it was made of. No viewer has it."""

    base: Base

    def keep(
        self,
        report: Report,
        forms: Sequence[str],
        *,
        named: str = "",
        label: str = "",
        keep_for: str = "",
        author: str = "",
    ) -> Item:
        """Runs a report and puts it on the shelf in the forms given, with all that proves it; `named` is what it is
        kept under.

        It stays for ever unless `keep_for` says how long (90 days). Raises what a run raises.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> item.number, [p.suffix for p in hall.shelf.paths(item)]
        (1, ['.csv'])
        """
        return shelf_view.keep(self.base, report, forms, named=named, label=label, keep_for=keep_for, author=author)

    def items(self, *, gone: bool = False) -> list[Item]:
        """What is kept, oldest first; with `gone`, what was dropped or has expired too. Raises ArchiveDamaged.

        >>> hall.shelf.items()
        []
        """
        return self.base.shelf.items(gone=gone)

    def item(self, number: int, *, gone: bool = False) -> Item:
        """The item of that number. Raises RequestError.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> hall.shelf.item(item.number) == item
        True
        """
        return self.base.shelf.item(number, gone=gone)

    def table(self, *, gone: bool = False) -> Listing:
        """What is on the shelf, the latest first; with `gone`, what was, too.

        >>> hall.shelf.table().names[:3]
        ('item', 'title', 'part')
        """
        return Listing.of(shelf_view.table(self.base, gone=gone))

    def publish(self, folder: Path, *, delivery: str = "") -> list[str]:
        """Puts what is on the shelf (of one delivery, where given) into a folder, with a page that leads to it; nothing
        that was made for one recipient or viewer. The names of what is new. Raises DataError.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> len(hall.shelf.publish(Path("shared"))) > 0
        True
        """
        return index.publish(self.base, folder, delivery=delivery)

    def facts(self, number: int) -> list[tuple[str, str]]:
        """What an item was made of and what was done with it, as (what, words). Raises RequestError.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> hall.shelf.facts(item.number)[0][0]
        'Period'
        """
        return shelf_view.facts(self.base, number)

    def paths(self, item: Item) -> list[Path]:
        """Its outputs, as they were made. Raises ArchiveDamaged where one was changed.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> [p.name for p in hall.shelf.paths(item)]
        ['Refused-entries-by-door-2026-03.csv']
        """
        return self.base.shelf.paths(item)

    def label(self, number: int, text: str) -> Item:
        """Gives an item a label. Raises RequestError.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> hall.shelf.label(item.number, "for the audit").label
        'for the audit'
        """
        return self.base.shelf.label(number, text, self.base.now())

    def place(self, number: int, folder: Path, *, name: str = "") -> list[Path]:
        """Copies the outputs of an item into a folder. Raises RequestError, DataError.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> [p.suffix for p in hall.shelf.place(item.number, Path("handed-on"))]
        ['.csv']
        """
        return self.base.shelf.place(number, folder, self.base.now(), name=name)

    def drop(self, numbers: Sequence[int], why: str) -> list[Item]:
        """Drops items, saying why. Raises RequestError.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> [i.number == item.number for i in hall.shelf.drop([item.number], "made by mistake")]
        [True]
        """
        return self.base.shelf.drop(numbers, why, self.base.now())

    def expire(self) -> list[Item]:
        """Drops what is kept no longer, but for what a delivery still has to hand over.

        >>> hall.shelf.expire()
        []
        """
        return self.base.shelf.expire(self.base.now(), besides=History.of(self.base.shelf.record.read()).needed)

    def send_again(self, number: int, **target: object) -> list[Sent]:
        """Sends an item once more: `mail=["name@house.example"]`, `folder="out"` or `webhook="https://..."`.

        Raises RequestError; what becomes of it is recorded.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> [s.what for s in hall.shelf.send_again(item.number, folder="out")]
        ['sent']
        """
        return shelf_view.send_again(self.base, number, **target)

    def verify(self, number: int | None = None) -> list[Verdict]:
        """Whether the archive, the ledger and the shelf are as they were stored, and whether kept runs (or the one of
        that number) give the same figures again.

        >>> item = hall.shelf.keep(hall.reports.definition("refused-entries"), ["csv"])
        >>> {v.state for v in hall.shelf.verify(item.number)}
        {'same'}
        """
        whole = [verify.archive(self.base), verify.shelf(self.base)]
        if number is None and whole[1].state == "damaged":
            return whole  # what is kept of the runs cannot be trusted
        items = self.items() if number is None else [self.item(number)]
        return [*whole, *(verify.repeat(self.base, i) for i in items)]

    def verdicts(self, found: Sequence[Verdict]) -> Listing:
        """What `verify` found, as a listing.

        >>> hall.shelf.verdicts(hall.shelf.verify()).names[:2]
        ('subject', 'state')
        """
        return Listing.of(shelf_view.verdicts(self.base, found))
