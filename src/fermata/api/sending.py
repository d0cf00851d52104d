"""Sending what is due: each run of a delivery is made once, kept on the shelf, and handed over until every recipient has it.

The order of things is what makes a kill at any moment harmless: a run is noted before it is made, an item is on the shelf before anything
is handed over, an intent is noted before each handing over and its outcome after. What a killed process began is taken up by the next.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any

from fermata.api import conditions, content, handing, making, recipients, timetable
from fermata.api.handing import Parcel
from fermata.delivery import wording
from fermata.delivery.model import Delivery, Target
from fermata.delivery.outcome import Sent
from fermata.delivery.progress import GIVE_UP, History, Letter, Run, pause
from fermata.delivery.shelf import Item, Shelf
from fermata.errors import FermataError, RequestError
from fermata.locks import alone
from fermata.reports import caveats
from fermata.telling import tell
from fermata.timeline.lengths import ago, exact
from fermata.timeline.words import stamp
from fermata.timeline.zones import zone

if TYPE_CHECKING:
    from fermata.api.making import Made
    from fermata.api.workspace import Workspace

__all__ = ["send"]


def send(house: Workspace, name: str = "", *, at_once: bool = False, wait: float = 0) -> list[Sent]:
    """Runs and hands over what is due now (of the delivery `name` only, if given), what failed before and is to be tried again.

    With `at_once` the delivery runs now, whatever its timetable; its checks and conditions hold all the same. Of two processes the
    second raises ArchiveBusy after `wait` seconds. Raises UnknownName, RequestError; what is wrong with one delivery stops no other.
    """
    house.view.refuse("sending")
    if at_once and not name:
        raise RequestError("say which delivery goes out now: fermata send NAME --now")
    wanted = [name] if name else timetable.names(house)
    if name:
        timetable.load(house, name)
    with alone(house.shelf.root / ".sending", "send", wait):
        history = History.of(house.shelf.record.read())
        archive = house.archive.snapshot().manifest.number
        sender = Sender(house, house.shelf, history, house.now(), archive, bool(name))
        for one in wanted:
            sender.told += sender.deliver(one, at_once=at_once)
        for item in house.shelf.expire(sender.now, besides=history.needed):
            tell("info", "expired", item=item.number)
    return sender.told


@dataclass
class Sender:
    """One pass over the timetable, with the archive in the state of that number; `named` if for one delivery only."""

    house: Workspace
    shelf: Shelf
    history: History
    now: datetime
    archive: int
    named: bool
    told: list[Sent] = field(default_factory=list)

    def deliver(self, name: str, *, at_once: bool) -> list[Sent]:
        """What became of each run of a delivery that is due."""
        try:
            delivery = timetable.load(self.house, name)
            runs = list(self._due(name, delivery, at_once=at_once))
        except FermataError as e:
            tell("error", "delivery is wrong", delivery=name, debug={"why": str(e)})
            return [Sent(name, None, "failed", why=str(e))]
        found = []
        for run in runs:
            if isinstance(run, Sent):
                found.append(run)
                continue
            try:
                found += self._run(delivery, run)
            except FermataError as e:
                found.append(self._failed(run, str(e)))
        for one in found:
            level = "warning" if one.failed else "info"
            tell(
                level,
                one.what,
                delivery=name,
                planned=one.planned,
                debug={"to": one.to, "why": one.why, "part": one.part},
            )
        return found

    def _note(self, run: Run, what: str, **facts: Any) -> None:
        """Writes a line of the record, durably, and knows it."""
        entry = {
            "what": what, "delivery": run.delivery, "planned": content.utc(run.planned), "by_hand": run.by_hand,
            "at": content.utc(self.now), **facts,
        }  # fmt: skip
        self.shelf.record.add(entry)
        self.history.add(entry)

    def _over(self, run: Run, how: str, why: str = "") -> Sent:
        self._note(run, "over", how=how, why=why)
        return Sent(run.delivery, run.planned, how, why=why)

    def _failed(self, run: Run, why: str) -> Sent:
        """A run that could not be made: tried again after a while, given up after three days."""
        self._note(run, "failed", why=why)
        if run.since and self.now - run.since >= GIVE_UP:
            return self._over(run, "given up", why)
        return Sent(
            run.delivery,
            run.planned,
            "failed",
            why=f"{why} (tried again from {self._words(self.now + pause(run.tries))})",
        )

    def _words(self, at: datetime) -> str:
        return stamp(at, zone(self.house.config.workspace.zone))[:16]

    def _due(self, name: str, delivery: Delivery, *, at_once: bool) -> Iterator[Run | Sent]:
        """Runs that were begun and are not over, then those now due; of several for the same period only the last."""
        if at_once:
            yield self._begun(Run(name, self.now, self.now, by_hand=True))
            return
        yield from (r for r in self.history.of_delivery(name) if not r.over)
        if delivery.paused:
            return
        rule = timetable.recurrence_of(self.house, delivery)
        upto = self.history.upto(name)
        if upto is None:
            self.shelf.record.add({"what": "first seen", "delivery": name, "at": content.utc(self.now)})
            self.history.first[name] = self.now
            following = rule.after(self.now)
            yield Sent(
                name,
                None,
                "first seen",
                why=f"next run {self._words(following)}" if following else "it has no next run",
            )
            return
        due = rule.between(upto, self.now)
        oldest = self.now - exact(delivery.make_up)
        missed, due = [d for d in due if d < oldest], [d for d in due if d >= oldest]
        if missed:
            run = self._begun(Run(name, missed[-1], self.now))
            why = f"{len(missed):,} run{'s' * (len(missed) != 1)} from {self._words(missed[0])} on, older than {delivery.make_up}"
            yield self._over(run, "missed", why)
        last: dict[tuple[str, ...], datetime] = {self._periods(delivery, at): at for at in due}
        for at in due:
            run = self._begun(Run(name, at, self.now))
            if (latest := last[self._periods(delivery, at)]) != at:
                yield self._over(run, "same period", f"the run of {self._words(latest)} is for the same period")
            else:
                yield run

    def _begun(self, run: Run) -> Run:
        self._note(run, "begun")
        return self.history.runs[run.delivery, run.planned, run.by_hand]

    def _periods(self, delivery: Delivery, at: datetime) -> tuple[str, ...]:
        return content.periods(timetable.report_of(self.house, delivery), self.house.place(), at)

    def _run(self, delivery: Delivery, run: Run) -> list[Sent]:
        told: list[Sent] = []
        waited = delivery.wait and self.now >= run.planned + exact(delivery.wait)
        if run.stage and not (run.due(self.now, self.archive) or self.named or waited):
            return [Sent(run.delivery, run.planned, run.stage, why=run.why)] if run.stage != "failed" else []
        if not run.made:
            told = self._make(delivery, run)
            if run.over or not run.made:
                return told
        wrong: list[str] = []
        taken: set[str] = set()
        for part, number in run.items.items():
            item = self.shelf.item(number, gone=True)
            if item.gone:  # by hand, or with the events it tells of
                return [*told, self._over(run, "given up", f"item {number} was {item.gone}")]
            for target in delivery.to:
                try:
                    told += self._hand_over(delivery, run, item, target, run.recipients.get(part, ()), taken)
                except FermataError as e:  # the other targets get theirs
                    wrong.append(str(e))
        if wrong:
            return [*told, self._failed(run, "; ".join(dict.fromkeys(wrong)))]
        return [*told, *self._ended(run)]

    # ---- making

    def _make(self, delivery: Delivery, run: Run) -> list[Sent]:
        house = timetable.viewed_house(self.house, delivery)
        report = timetable.report_of(house, delivery)
        before = house.at(run.planned)
        if waiting := self._waiting(delivery, run, before, report):
            return waiting
        if held := self._held_back(delivery, run):
            return held
        whole = None
        if not delivery.split or (delivery.only_if and delivery.only_if.condition):
            whole = making.made(house, report, delivery.report, run.planned, self.now)
        if delivery.only_if and (quiet := self._not_needed(delivery, run, before, whole)):
            return [quiet]
        told = self._parts(delivery, run, house, report) if delivery.split else self._whole(delivery, run, house, whole)
        self._note(run, "made")
        return told

    def _stage(self, run: Run, what: str, why: str) -> list[Sent]:
        """Notes what a run waits for, and what the archive was when that was so."""
        self._note(run, what, why=why, archive=self.archive)
        return [Sent(run.delivery, run.planned, what, why=why)]

    def _waiting(self, delivery: Delivery, run: Run, before: Workspace, report: Any) -> list[Sent]:
        """That the logs do not cover the period yet, while it is worth waiting."""
        if not delivery.wait or run.by_hand or self.now >= run.planned + exact(delivery.wait):
            return []
        place = before.place()
        for plan in content.plans_of(report, place, run.planned):
            for number, strand in enumerate(plan.strands):
                name = strand.schema.name
                extent = place.extent(name)
                upto = caveats.complete_to(place, plan, number, extent) if extent else None
                if upto is None or upto < plan.of(strand).stretch.end:
                    held = f"holds records to {self._words(upto)}" if upto else "holds no records"
                    why = f"{name} {held}, the period ends {self._words(plan.of(strand).stretch.end)}"
                    return self._stage(run, "waits", why)
        return []

    def _held_back(self, delivery: Delivery, run: Run) -> list[Sent]:
        """What a check finds that holds the delivery back; given up when it is too old to be made up."""
        for name in delivery.hold:
            answer = self.house.at(run.planned).report(name).answer
            why = f"{name}: {verdict}" if (verdict := conditions.wrong(answer)) else ""
            if why and self.now - run.planned > exact(delivery.make_up):
                return [self._over(run, "given up", f"held until it was older than {delivery.make_up}; {why}")]
            if why:
                return self._stage(run, "held", why)
        return []

    def _not_needed(self, delivery: Delivery, run: Run, before: Workspace, whole: Made | None) -> Sent | None:
        """That an alert's condition does not hold, or that it went out a short while ago; None for one that is to go out."""
        asked = delivery.only_if
        assert asked
        if asked.condition:
            assert whole
            due, why = conditions.met(asked.condition, whole.result.answer)
        else:
            due, why = conditions.silent(asked.no_data_for, before, timetable.report_of(before, delivery), run.planned)
        if not due:
            return self._over(run, "not needed", why)
        last = self.history.out.get(run.delivery)
        if last and not run.by_hand and run.planned < last + exact(asked.quiet):
            return self._over(run, "quiet", f"{why}; it went out {self._words(last)} and is quiet for {asked.quiet}")
        return None

    def _whole(self, delivery: Delivery, run: Run, house: Workspace, whole: Made | None) -> list[Sent]:
        assert whole
        if "" not in run.items:
            self._keep(delivery, run, house, whole)
        return []

    def _parts(self, delivery: Delivery, run: Run, house: Workspace, report: Any) -> list[Sent]:
        """Makes each part in a view that holds nothing else; says which are empty and which have no address."""
        split = delivery.split
        assert split
        told = []
        only_mail = all(t.mail == ("recipient",) for t in delivery.to)
        for part in recipients.parts(house.at(run.planned), split, report):
            if part.value in run.items:
                continue
            if not part.to and any(t.mail == ("recipient",) for t in delivery.to):
                told.append(Sent(run.delivery, run.planned, "no address", why=part.why, part=part.value))
                if only_mail:
                    continue
            narrow = house.narrowed_to(part.scope)
            found = making.made(narrow, report, delivery.report, run.planned, self.now)
            if split.empty == "skip" and making.empty(found.result.answer):
                told.append(Sent(run.delivery, run.planned, "empty", part=part.value))
                continue
            self._note(run, "part", part=part.value, to=list(part.to))
            self._keep(delivery, run, narrow, found, part)
        return told

    def _keep(self, delivery: Delivery, run: Run, house: Workspace, made: Made, part: Any = None) -> None:
        value = part.value if part else ""
        words = {**made.said(), "delivery": run.delivery, "part": value}
        stem = self._stem(
            run,
            wording.file_name(wording.filled("{{ delivery }}-{{ dates }}{% if part %}-{{ part }}{% endif %}", words)),
        )
        forms = [*delivery.formats]
        keep = delivery.keep
        item = making.keep(
            self.shelf, house, made, forms, stem,
            until=None if keep == "ever" else self.now + (self.now - ago(keep, self.now, zone(self.house.config.workspace.zone))),
            changes={**delivery.set, **({"period": delivery.period} if delivery.period else {})}, scope=part.scope if part else None,
            fragment=self._in_text(delivery), body=any(t.webhook for t in delivery.to),
            author=f"delivery {run.delivery}", delivery=run.delivery, planned=content.utc(run.planned), part=value, by_hand=run.by_hand,
        )  # fmt: skip
        self.history.add({
            "what": "kept", "delivery": run.delivery, "planned": content.utc(run.planned), "by_hand": run.by_hand, "part": value,
            "item": item.number, "at": content.utc(self.now),
        })  # fmt: skip

    def _in_text(self, delivery: Delivery) -> bool:
        mail = self.house.config.mail
        ways = {t.how for t in delivery.to if t.mail} | ({mail.how_inside, mail.how_outside} if mail else set())
        return "in the text" in ways

    def _stem(self, run: Run, stem: str) -> str:
        """A name no other part of the run has, whatever a file system thinks of capitals."""
        taken = {
            p.rpartition(".")[0].casefold() for n in run.items.values() for p in self.shelf.item(n, gone=True).files
        }
        return stem if stem.casefold() not in taken else f"{stem}-{len(run.items) + 1}"

    # ---- handing over

    def _hand_over(
        self, delivery: Delivery, run: Run, item: Item, target: Target, to: tuple[str, ...], taken: set[str]
    ) -> list[Sent]:
        """Hands an item over to a target. `taken` are the names of the run's parts in folders so far: none replaces another's files."""
        if target.mail == ("recipient",) and not to:
            return []
        told = []
        for parcel in handing.parcels(self.house, item, target, to):
            own = parcel
            if parcel.name:
                if f"{target.folder}/{parcel.name}".casefold() in taken:
                    own = dataclasses.replace(parcel, name=f"{parcel.name}-{item.number}")
                taken.add(f"{target.folder}/{own.name}".casefold())
            told += self._parcel(delivery, run, own)
        return told

    def _parcel(self, delivery: Delivery, run: Run, parcel: Parcel) -> list[Sent]:
        """Hands a parcel over to those who do not have it, if it is time; what became of it."""
        letter = run.letters.get(parcel.identity) or Letter(parcel.to)
        left = letter.left
        if letter.doubtful and delivery.in_doubt == "leave" and not parcel.target.folder:
            left = tuple(a for a in left if a not in letter.doubtful)
        waits = letter.last and not letter.open and self.now < letter.last + pause(letter.tries)
        if not left or waits:
            return []
        if letter.first and self.now - letter.first >= GIVE_UP:
            self._outcome(run, parcel, [("given up", f"after {letter.tries} tries: {letter.why}", left)])
            return [Sent(run.delivery, run.planned, "given up", ", ".join(left), letter.why, parcel.item.part)]
        again = bool(letter.doubtful)
        self._note(
            run, "intent", identity=parcel.identity, all=list(parcel.to), to=list(left), part=parcel.item.part, item=parcel.item.number,
        )  # fmt: skip
        key = (run.delivery, parcel.item.part, parcel.to[0])
        outcomes = handing.hand_over(self.house, parcel, left, self.now, self.history.placed.get(key, ()))
        self._outcome(run, parcel, [(o.state, o.why, o.to or left) for o in outcomes])
        told = []
        for o in outcomes:
            why = f"{o.why}{' (again: it was in doubt whether it had arrived)' if again else ''}"
            told.append(Sent(run.delivery, run.planned, o.state, ", ".join(o.to or left), why, parcel.item.part))
        return told

    def _outcome(self, run: Run, parcel: Parcel, outcomes: list[tuple[str, str, tuple[str, ...]]]) -> None:
        found = [{"state": state, "why": why, "to": list(to)} for state, why, to in outcomes]
        self._note(
            run,
            "outcome",
            identity=parcel.identity,
            part=parcel.item.part,
            item=parcel.item.number,
            name=parcel.name,
            outcomes=found,
        )

    def _ended(self, run: Run) -> list[Sent]:
        """Notes the end of a run that has nothing left to hand over."""
        letters = run.letters.values()
        doubtful = [a for x in letters for a in x.doubtful]
        if any(set(x.left) - set(x.doubtful) for x in letters):
            return []
        if doubtful:
            if timetable.load(self.house, run.delivery).in_doubt == "again":
                return []
            self._over(run, "in doubt", f"nobody can tell whether it reached {', '.join(doubtful)}")
            return [Sent(run.delivery, run.planned, "doubt", ", ".join(doubtful), "left to people, as in_doubt says")]
        states = [s for x in letters for s in x.states.values()]
        went = states.count("sent")
        wrong = {x.why for x in letters if set(x.states.values()) - {"sent"}}
        if wrong:
            self._over(
                run, "partly sent" if went else "not sent", f"{went} of {len(states)}; {'; '.join(sorted(wrong))}"
            )
        else:
            self._over(run, "sent" if went else "nothing to send", f"to {went}" if went else "")
        return []
