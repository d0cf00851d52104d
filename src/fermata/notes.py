"""Notes: sentences beside a result that a reader must know, each with what it is about and how much it weighs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple, Self

__all__ = ["FAILED", "KINDS", "Note", "NoteKind", "Weight", "failed", "ordered", "shortened"]

Weight = Literal["figures", "explains", "upkeep"]
ORDER: tuple[Weight, ...] = ("figures", "explains", "upkeep")
FAILED = ("limit", "check", "balance")  # what a check, a hold or an alert takes for wrong


class NoteKind(NamedTuple):
    """What a kind of note means: its `weight` (`figures`: something is missing from the figures, is wrong or was asked
    to be watched; `explains`: how the figures came about; `upkeep`: about the workspace, the figures are right without
    it), its `cause`, its `effect` on the figures, and what to `do`.
    """

    weight: Weight
    cause: str
    effect: str
    do: str


KINDS: dict[str, NoteKind] = {
    "limit": NoteKind("figures", "A limit of the report (warn) is crossed.", "None; the rows are named.",
        "Look at the rows it names."),
    "check": NoteKind("figures", "An equality of the report does not hold.", "One side of it is wrong.",
        "Open the events behind the figures it names."),
    "balance": NoteKind("figures", "The source recorded another balance than its movements add up to.",
        "The balance shown is the sum of the movements.", "Compare the movements named with the source."),
    "nothing": NoteKind("figures", "No event is left.", "All figures are zero or empty.",
        "See which filter removed the last events, and the nearest events outside the period."),
    "filter": NoteKind("figures", "A filter fits no event, or cannot be applied in this part.",
        "It changes nothing here.", "Compare its value with those the log has."),
    "match": NoteKind("explains", "A filter is a pattern.", "The values it matched are named.",
        "See whether these are the ones you meant."),
    "validity": NoteKind("figures", "A name was read outside the time in which the register gives it to somebody.",
        "These events are not counted as that person's or device's.",
        "Correct the register row, or ask for the name as it is written."),
    "examined": NoteKind("figures", "A check or limit had no event to look at.", "The check says nothing.",
        "Widen the period or the filters."),
    "usual": NoteKind("figures", "Nobody is beyond what is usual for them.", "The table is empty.",
        "See how many have enough history for a claim."),
    "group": NoteKind("figures", "The viewer may not see small groups.",
        "What they did is in no figure, totals included.", "Ask somebody who may see all rows."),
    "coverage": NoteKind("figures", "The log begins after the period begins, or ends before it ends.",
        "Nothing is counted for the part without records.", "Import the missing files, or choose a shorter period."),
    "gap": NoteKind("figures", "A log has no record for longer than it usually has none.",
        "What happened in the gap is in no figure.", "Look at the gaps; declare closed days, or import what is "
        "missing."),
    "rejected": NoteKind("figures", "Records could not be read as the log is mapped.", "They are in no figure.",
        "Look at the reasons, correct the mapping or the records, and import again."),
    "unfinished": NoteKind("figures", "An event has no finish.", "It is counted, and in no duration.",
        "Look at the unfinished events; the pairing may declare how they end."),
    "counter": NoteKind("figures", "A reading is the first of its device, or smaller than the one before.",
        "Its amount is not known, or only the least it can be.", "Look at the readings named."),
    "rate": NoteKind("figures", "No rule or rate fits an event.", "Its computed field is empty and in no total.",
        "Add a rule, or a rate that is valid on that day."),
    "undated": NoteKind("figures", "The period goes by another date than the start.",
        "Events without that date are in no period.", "Complete the dates in the source."),
    "clipped": NoteKind("figures", "An event crosses the edge of the period.",
        "Its time is divided at the edge and its money is not.", "Take total duration where money stands beside it."),
    "earlier": NoteKind("figures", "Events began before the period and last into it.", "They are not listed.",
        "List them too with --overlapping."),
    "left out": NoteKind("figures", "The workspace has no log or no field for a part of the report.",
        "The columns, groups or filters named are left out.", "Map the field that is named."),
    "rows": NoteKind("figures", "The report keeps only some rows, or shows more than its top since some are equal.",
        "Totals are still of all rows.", "Leave out the condition or the top to see all of them."),
    "safety": NoteKind("figures", "Somebody may be in the house without a reading.", "They are on no list.",
        "Ask who else was there."),
    "count": NoteKind("explains", "A sum or number of what is listed.", "None.", "Nothing."),
    "compared": NoteKind("figures", "Another period stands beside.", "None; the period and its days are named.",
        "Nothing."),
    "change": NoteKind("explains", "A group has events in one of two compared periods only.",
        "Its change cannot be a per cent.", "Nothing."),
    "chance": NoteKind("explains", "Changes are compared with the usual scatter.", "None; the method is named.",
        "Nothing."),
    "holds": NoteKind("explains", "A limit is not crossed, or an equality holds.", "None.", "Nothing."),
    "as known": NoteKind("explains", "The figures are as they were known on an earlier day.",
        "Later imports are left out.", "Leave out --as-known for the figures of today."),
    "clock change": NoteKind("explains", "A local time happened twice or never, when the clocks changed.",
        "Times in that hour are taken as the log's settings say.", "See the settings ambiguous and nonexistent."),
    "repeats": NoteKind("explains", "Records of two files are equal, and the files do not overlap.",
        "Each of them counts.", "If they are the same event, remove one of the files with archive undo-import."),
    "method": NoteKind("explains", "How a figure is worked out, rounded or added up.", "As it says.", "Nothing."),
    "choice": NoteKind("explains", "Several logs fit the report, or several names the subject.",
        "The one named was taken.", "Name the log with --log."),
    "today": NoteKind("explains", "The day has not ended.", "What it requires counts when it has ended.", "Nothing."),
    "names": NoteKind("explains", "Names are in no register, or were looked for as written.",
        "They count as themselves, in no department or group.", "Add them to the register."),
    "empty": NoteKind("explains", "A column has no figure in any row.", "None.", "See what the log must have for it."),
    "scope": NoteKind("explains", "What was looked for, and what an answer cannot contain.", "None.", "Nothing."),
    "mapping": NoteKind("upkeep", "Files were imported under an older mapping.",
        "Their events are as the older mapping read them.", "Import the log again."),
    "hint": NoteKind("upkeep", "The result is long.", "None.", "Narrow it as proposed."),
    "setting": NoteKind("upkeep", "Something is not set up yet, or stands in an unusual way.", "None.",
        "Do what the note says."),
}  # fmt: skip


class Note(str):
    """A sentence of a `kind` from KINDS; `more` is the command that shows more of it, for a terminal.

    >>> note = Note("limit Refused > 20: in 2 rows", "limit")
    >>> note.kind, note.weight
    ('limit', 'figures')
    """

    kind: str
    more: str

    def __new__(cls, text: str, kind: str, more: str = "") -> Self:
        made = super().__new__(cls, text)
        made.kind, made.more = kind, more
        return made

    def __reduce__(self) -> tuple[type[Self], tuple[str, str, str]]:
        return type(self), (str(self), self.kind, self.more)

    @property
    def weight(self) -> Weight:
        """How much the note weighs beside the figures."""
        return KINDS[self.kind].weight

    def about(self, what: str) -> Note:
        """The same note with what it is about in front of it."""
        return Note(f"{what}: {self}", self.kind, self.more)


def failed(notes: Iterable[Note]) -> list[Note]:
    """Those of the notes that say something is wrong."""
    return [n for n in notes if n.kind in FAILED]


def ordered(notes: Iterable[Note]) -> tuple[Note, ...]:
    """Each note once: what changes the figures first, then what explains them, then upkeep.

    >>> [n.kind for n in ordered([Note("b", "hint"), Note("a", "gap"), Note("b", "hint")])]
    ['gap', 'hint']
    """
    return tuple(sorted(dict.fromkeys(notes), key=lambda n: ORDER.index(n.weight)))


def shortened(notes: Sequence[Note], how: Literal["all", "few", "none"]) -> list[str]:
    """The notes as a terminal shows them, each with the command that shows more of it: `all`, a `few` (those that
    change the figures, and how many others there are), or `none`.

    >>> shortened([Note("a gap", "gap", "fermata survey doors"), Note("b", "hint"), Note("c", "hint")], "few")
    ['a gap (fermata survey doors)', '2 more about the data: --notes all']
    """
    if how == "none":
        return []
    kept = [n for n in notes if how == "all" or n.weight == "figures"]
    if (left := len(notes) - len(kept)) == 1:  # as short as saying that there is one
        kept, left = list(notes), 0
    said = [f"{n} ({n.more})" if n.more else str(n) for n in kept]
    return [*said, f"{left:,} more about the data: --notes all"] if left else said
