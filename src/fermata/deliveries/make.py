"""Making what is due: whether it is to be made now, as a whole or in parts, kept on the shelf before anything is handed
over.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from fermata.deliveries import conditions, recipients, templates, timetable
from fermata.deliveries.model import Delivery
from fermata.deliveries.one_pass import Pass
from fermata.deliveries.outcome import Sent
from fermata.deliveries.progress import Run
from fermata.proof import fingerprint, snapshot
from fermata.proof.snapshot import Made
from fermata.reports.execute import notes
from fermata.timeline.lengths import ago, exact
from fermata.timeline.zones import zone
from fermata.workspace.base import Base

__all__ = ["Maker"]


@dataclass
class Maker(Pass):
    """The part of a pass that makes runs."""

    def make(self, delivery: Delivery, run: Run) -> list[Sent]:
        """What became of making a run: nothing, where it waits, is held back or not needed."""
        base = timetable.viewed_house(self.base, delivery)
        report = timetable.report_of(base, delivery)
        before = base.at(run.planned)
        if waiting := self._waiting(delivery, run, before, report):
            return waiting
        if held := self._held_back(delivery, run):
            return held
        whole = None
        if not delivery.split or (delivery.only_if and delivery.only_if.condition):
            whole = snapshot.made(base, report, delivery.report, run.planned, self.now)
        if delivery.only_if and (quiet := self._not_needed(delivery, run, before, whole)):
            return [quiet]
        told = self._parts(delivery, run, base, report) if delivery.split else self._whole(delivery, run, base, whole)
        self.note(run, "made")
        return told

    def _stage(self, run: Run, what: str, why: str) -> list[Sent]:
        """Notes what a run waits for, and what the archive was when that was so."""
        self.note(run, what, why=why, archive=self.archive)
        return [Sent(run.delivery, run.planned, what, why=why)]

    def _waiting(self, delivery: Delivery, run: Run, before: Base, report: Any) -> list[Sent]:
        """That the logs do not cover the period yet, while it is worth waiting."""
        if not delivery.wait or run.by_hand or self.now >= run.planned + exact(delivery.wait):
            return []
        place = before.place()
        for plan in fingerprint.plans_of(report, place, run.planned):
            for number, strand in enumerate(plan.strands):
                name = strand.schema.name
                extent = place.extent(name)
                upto = notes.complete_to(place, plan, number, extent) if extent else None
                if upto is None or upto < plan.of(strand).stretch.end:
                    held = f"holds records to {self.words(upto)}" if upto else "holds no records"
                    why = f"{name} {held}, the period ends {self.words(plan.of(strand).stretch.end)}"
                    return self._stage(run, "waits", why)
        return []

    def _held_back(self, delivery: Delivery, run: Run) -> list[Sent]:
        """What a check finds that holds the delivery back; given up when it is too old to be made up."""
        before = self.base.at(run.planned)
        for name in delivery.hold:
            answer = before.answer(before.definition(name))
            why = f"{name}: {verdict}" if (verdict := conditions.wrong(answer)) else ""
            if why and self.now - run.planned > exact(delivery.make_up):
                return [self.over(run, "given up", f"held until it was older than {delivery.make_up}; {why}")]
            if why:
                return self._stage(run, "held", why)
        return []

    def _not_needed(self, delivery: Delivery, run: Run, before: Base, whole: Made | None) -> Sent | None:
        """That an alert's condition does not hold, or that it went out a short while ago; None for one that is to go
        out.
        """
        asked = delivery.only_if
        assert asked
        if asked.condition:
            assert whole
            due, why = conditions.met(asked.condition, whole.answer)
        else:
            due, why = conditions.silent(asked.no_data_for, before, timetable.report_of(before, delivery), run.planned)
        if not due:
            return self.over(run, "not needed", why)
        last = self.history.out.get(run.delivery)
        if last and not run.by_hand and run.planned < last + exact(asked.quiet):
            return self.over(run, "quiet", f"{why}; it went out {self.words(last)} and is quiet for {asked.quiet}")
        return None

    def _whole(self, delivery: Delivery, run: Run, base: Base, whole: Made | None) -> list[Sent]:
        assert whole
        if "" not in run.items:
            self._keep(delivery, run, base, whole)
        return []

    def _parts(self, delivery: Delivery, run: Run, base: Base, report: Any) -> list[Sent]:
        """Makes each part in a view that holds nothing else; says which are empty and which have no address."""
        split = delivery.split
        assert split
        told = []
        if left := recipients.left_over(base.at(run.planned), split, report):
            told.append(Sent(run.delivery, run.planned, "in no part", why=left))
        of_part = report.changed(only=tuple(c for c in report.only if c.field != split.by))  # the part is told by it
        only_mail = all(t.mail == ("recipient",) for t in delivery.to)
        for part in recipients.parts(base.at(run.planned), split, report):
            if part.value in run.items:
                continue
            if not part.to and any(t.mail == ("recipient",) for t in delivery.to):
                told.append(Sent(run.delivery, run.planned, "no address", why=part.why, part=part.value))
                if only_mail:
                    continue
            narrow = base.narrowed_to(part.scope)
            found = snapshot.made(narrow, of_part, delivery.report, run.planned, self.now)
            if split.empty == "skip" and snapshot.empty(found.answer):
                told.append(Sent(run.delivery, run.planned, "empty", part=part.value))
                continue
            self.note(run, "part", part=part.value, to=list(part.to))
            self._keep(delivery, run, narrow, found, part)
        return told

    def _keep(self, delivery: Delivery, run: Run, base: Base, made: Made, part: Any = None) -> None:
        value = part.value if part else ""
        words = {**made.said(), "delivery": run.delivery, "part": value}
        stem = self._stem(
            run,
            templates.file_name(
                templates.filled("{{ delivery }}-{{ dates }}{% if part %}-{{ part }}{% endif %}", words)
            ),
        )
        forms = [*delivery.formats]
        keep = delivery.keep
        in_text = self._in_text(delivery) or (any(t.mail for t in delivery.to) and snapshot.small(made.answer))
        item = snapshot.keep(
            self.shelf, base, made, forms, stem,
            until=None if keep == "ever" else self.now + (self.now - ago(keep, self.now,
            zone(self.base.config.workspace.zone))),
            changes={**delivery.set, **({"period": delivery.period} if delivery.period else {})},
            scope=part.scope if part else None,
            fragment=in_text, body=any(t.webhook for t in delivery.to),
            author=f"delivery {run.delivery}", delivery=run.delivery, planned=fingerprint.utc(run.planned), part=value,
            by_hand=run.by_hand,
        )  # fmt: skip
        self.history.add({
            "what": "kept", "delivery": run.delivery, "planned": fingerprint.utc(run.planned), "by_hand": run.by_hand,
            "part": value,
            "item": item.number, "at": fingerprint.utc(self.now),
        })  # fmt: skip

    def _in_text(self, delivery: Delivery) -> bool:
        mail = self.base.config.mail
        ways = {t.how for t in delivery.to if t.mail} | ({mail.how_inside, mail.how_outside} if mail else set())
        return "in the text" in ways

    def _stem(self, run: Run, stem: str) -> str:
        """A name no other part of the run has, whatever a file system thinks of capitals."""
        taken = {
            p.rpartition(".")[0].casefold() for n in run.items.values() for p in self.shelf.item(n, gone=True).files
        }
        return stem if stem.casefold() not in taken else f"{stem}-{len(run.items) + 1}"
