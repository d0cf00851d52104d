"""Sending what is due: each run of a delivery is made once, kept on the shelf, and handed over until every recipient
has it.

The order of things is what makes a kill at any moment harmless: a run is noted before it is made, an item is on the
shelf before anything is handed over, an intent is noted before each handing over and its outcome after. What a killed
process began is taken up by the next.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from fermata.archive.shelf import Item
from fermata.deliveries import dispatch, index, shelf_view, timetable
from fermata.deliveries.dispatch import Parcel
from fermata.deliveries.make import Maker
from fermata.deliveries.model import Delivery, Target
from fermata.deliveries.outcome import Sent
from fermata.deliveries.progress import GIVE_UP, History, Letter, Run, pause
from fermata.errors import FermataError, RequestError, counted
from fermata.locks import alone
from fermata.proof import fingerprint
from fermata.run_log import tell
from fermata.timeline.lengths import exact
from fermata.workspace.base import Base

__all__ = ["send"]


def send(base: Base, name: str = "", *, at_once: bool = False, retry: bool = False, wait: float = 0) -> list[Sent]:
    """Runs and hands over what is due now (of the delivery `name` only, if given), what failed before and is to be
    tried again.

    With `at_once` the delivery runs now, whatever its timetable; its checks and conditions hold all the same. With
    `retry`, what could not be handed over is tried again at once. Of two processes the second raises ArchiveBusy after
    `wait` seconds. Raises UnknownName, RequestError; what is wrong with one delivery stops no other.
    """
    if at_once and not name:
        raise RequestError("say which delivery goes out now: fermata send NAME --now")
    wanted = [name] if name else timetable.names(base)
    if name:
        timetable.load(base, name)
    with alone(base.shelf.root / ".sending", "send", wait):
        history = History.of(base.shelf.record.read())
        archive = base.archive.snapshot().manifest.number
        sender = Sender(base, base.shelf, history, base.now(), archive, bool(name), retry)
        if at_once and (waiting := sender.waiting(name)):
            raise RequestError(waiting)
        for one in wanted:
            sender.told += sender.deliver(one, at_once=at_once)
        if not name:
            sender.told += shelf_view.pending(base, history, sender.now, at_once=retry)
        for item in base.shelf.expire(sender.now, besides=history.needed):
            tell("info", "expired", item=item.number)
    return sender.told


@dataclass
class Sender(Maker):
    """The part of a pass that finds what is due, has it made, and hands it over."""

    def waiting(self, name: str) -> str:
        """That a run of the delivery is not over, so that another would go out a second time; "" where none is."""
        for run in self.history.of_delivery(name):
            next_times = [x.next for x in run.letters.values() if x.next]
            if not run.over and next_times:
                return (
                    f"the run of {name} of {self.words(run.planned)} is still being handed over (next try "
                    f"{self.words(min(next_times))}); "
                    f"another would reach people twice. Try it again at once with: fermata send {name} --retry"
                )
        return ""

    def deliver(self, name: str, *, at_once: bool) -> list[Sent]:
        """What became of each run of a delivery that is due."""
        try:
            delivery = timetable.load(self.base, name)
            runs = list(self._due(name, delivery, at_once=at_once))
            if not runs:
                timetable.works(self.base, delivery)
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
                found.append(self.failed(run, str(e)))
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

    def _due(self, name: str, delivery: Delivery, *, at_once: bool) -> Iterator[Run | Sent]:
        """Runs that were begun and are not over, then those now due; of several for the same period only the last."""
        if at_once:
            yield self.begun(Run(name, self.now, self.now, by_hand=True))
            return
        yield from (r for r in self.history.of_delivery(name) if not r.over)
        if delivery.paused:
            return
        rule = timetable.recurrence_of(self.base, delivery)
        upto = self.history.upto(name)
        if upto is None:
            self.shelf.record.add({"what": "first seen", "delivery": name, "at": fingerprint.utc(self.now)})
            self.history.first[name] = self.now
            following = rule.after(self.now)
            yield Sent(
                name,
                None,
                "first seen",
                why=f"next run {self.words(following)}" if following else "it has no next run",
            )
            return
        due = [d for d in rule.between(upto, self.now) if d not in delivery.skip]
        oldest = self.now - exact(delivery.make_up)
        missed, due = [d for d in due if d < oldest], [d for d in due if d >= oldest]
        if missed:
            run = self.begun(Run(name, missed[-1], self.now))
            why = f"{counted(len(missed), 'run')} from {self.words(missed[0])} on, older than {delivery.make_up}"
            yield self.over(run, "missed", why)
        last: dict[tuple[str, ...], datetime] = {self._periods(delivery, at): at for at in due}
        for at in due:
            run = self.begun(Run(name, at, self.now))
            if (latest := last[self._periods(delivery, at)]) != at:
                yield self.over(run, "same period", f"the run of {self.words(latest)} is for the same period")
            else:
                yield run

    def _periods(self, delivery: Delivery, at: datetime) -> tuple[str, ...]:
        return fingerprint.periods(timetable.report_of(self.base, delivery), self.base.place(), at)

    def _run(self, delivery: Delivery, run: Run) -> list[Sent]:
        told: list[Sent] = []
        waited = delivery.wait and self.now >= run.planned + exact(delivery.wait)
        if run.stage and not (run.due(self.now, self.archive) or self.named or self.retry or waited):
            return [Sent(run.delivery, run.planned, run.stage, why=run.why)] if run.stage != "failed" else []
        if not run.made:
            told = self.make(delivery, run)
            if run.over or not run.made:
                return told
        wrong: list[str] = []
        taken: set[str] = set()
        for part, number in run.items.items():
            item = self.shelf.item(number, gone=True)
            if item.gone:  # by hand, or with the events it tells of
                return [*told, self.over(run, "given up", f"item {number} was {item.gone}")]
            for target in delivery.to:
                try:
                    told += self._hand_over(delivery, run, item, target, run.recipients.get(part, ()), taken)
                except FermataError as e:  # the other targets get theirs
                    wrong.append(str(e))
        if wrong:
            return [*told, self.failed(run, "; ".join(dict.fromkeys(wrong)))]
        return [*told, *self._ended(run)]

    def _hand_over(
        self, delivery: Delivery, run: Run, item: Item, target: Target, to: tuple[str, ...], taken: set[str]
    ) -> list[Sent]:
        """Hands an item over to a target. `taken` are the names of the run's parts in folders so far: none replaces
        another's files.
        """
        if target.mail == ("recipient",) and not to:
            return []
        told = []
        for parcel in dispatch.parcels(self.base, item, target, to):
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
        waits = letter.last and not letter.open and not self.retry and self.now < letter.last + pause(letter.tries)
        if not left or waits:
            return []
        if letter.first and self.now - letter.first >= GIVE_UP:
            self._outcome(run, parcel, [("given up", f"after {letter.tries} tries: {letter.why}", left)])
            return [Sent(run.delivery, run.planned, "given up", ", ".join(left), letter.why, parcel.item.part)]
        again = bool(letter.doubtful)
        self.note(
            run, "intent", identity=parcel.identity, all=list(parcel.to), to=list(left), part=parcel.item.part,
            item=parcel.item.number,
        )  # fmt: skip
        key = (run.delivery, parcel.item.part, parcel.to[0])
        outcomes = dispatch.hand_over(self.base, parcel, left, self.now, self.history.placed.get(key, ()))
        self._outcome(run, parcel, [(o.state, o.why, o.to or left) for o in outcomes])
        if parcel.target.index and any(o.state == "sent" for o in outcomes):
            index.write(self.base, self.base.path / parcel.target.folder, index.of_folder(self.base, parcel.target))
        told = []
        for o in outcomes:
            why = f"{o.why}{' (again: it was in doubt whether it had arrived)' if again else ''}"
            if o.state == "later":
                why += f" (tried again from {self.words(self.now + pause(letter.tries + 1))})"
            told.append(Sent(run.delivery, run.planned, o.state, ", ".join(o.to or left), why, parcel.item.part))
        return told

    def _outcome(self, run: Run, parcel: Parcel, outcomes: list[tuple[str, str, tuple[str, ...]]]) -> None:
        found = [{"state": state, "why": why, "to": list(to)} for state, why, to in outcomes]
        self.note(
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
            if timetable.load(self.base, run.delivery).in_doubt == "again":
                return []
            self.over(run, "in doubt", f"nobody can tell whether it reached {', '.join(doubtful)}")
            return [Sent(run.delivery, run.planned, "doubt", ", ".join(doubtful), "left to people, as in_doubt says")]
        states = [s for x in letters for s in x.states.values()]
        went = states.count("sent")
        wrong = {x.why for x in letters if set(x.states.values()) - {"sent"}}
        if wrong:
            self.over(
                run, "partly sent" if went else "not sent", f"{went} of {len(states)}; {'; '.join(sorted(wrong))}"
            )
        else:
            self.over(run, "sent" if went else "nothing to send", f"to {went}" if went else "")
        return []
