"""The invented people, doors, lines, printers and productions of Quillmere Hall."""

from __future__ import annotations

from dataclasses import dataclass
from random import Random

__all__ = ["DOORS", "HOSTS", "LINES", "PRINTERS", "PRODUCTIONS", "PROGRAMS", "Person", "people"]

FIRST = [
    "Ada",
    "Bram",
    "Celia",
    "Dorian",
    "Elif",
    "Fergus",
    "Greta",
    "Hanno",
    "Iris",
    "Jonas",
    "Klara",
    "Lorcan",
    "Mirela",
    "Nadim",
    "Odile",
    "Pavel",
    "Quirin",
    "Runa",
    "Silvan",
    "Tamsin",
    "Ulla",
    "Viggo",
    "Wanda",
    "Xenia",
    "Yorick",
    "Zelda",
    "Anselm",
    "Brisa",
    "Corin",
    "Delphine",
]
LAST = [
    "Achterberg",
    "Bellwether",
    "Cravenholt",
    "Dunmarrow",
    "Eversley",
    "Fenwickham",
    "Gravelotte",
    "Harrowgrove",
    "Inglemoor",
    "Jessamyn",
    "Kestrelby",
    "Larkenfeld",
    "Mossgrave",
    "Nettleship",
    "Oakenthorn",
    "Pellegrane",
    "Quillfeather",
    "Ravensmere",
    "Sallowfield",
    "Thistlewick",
    "Umberlin",
    "Vanterpool",
    "Wexcombe",
    "Yarrowby",
    "Zinnemoor",
    "São-Brás",
    "Ørskov",
    "Žitnik",
    "Löwenherz",
    "Peñaranda",
]
DEPARTMENTS = ("stage", "house", "office", "library", "workshop", "visiting")

# reader -> (area, weight in everybody's day)
DOORS = {
    "Stage door": ("Stage side", 30),
    "Loading dock": ("Stage side", 6),
    "Orchestra pit": ("Stage side", 8),
    "Rehearsal room 1": ("Rehearsal wing", 10),
    "Rehearsal room 2": ("Rehearsal wing", 9),
    "Practice corridor": ("Rehearsal wing", 7),
    "Score library": ("Library", 4),
    "Score vault": ("Library", 1),
    "Foyer east": ("Front of house", 9),
    "Foyer west": ("Front of house", 8),
    "Box office": ("Front of house", 4),
    "Workshop": ("Workshop", 4),
}
LINES = ("Box office 1", "Box office 2", "Box office 3", "Hire desk", "Stage door desk", "Switchboard")
PRINTERS = {  # printer -> (colour possible, cents a page mono, cents a page colour, paper)
    "Office ground": (True, 2, 9, "A4"),
    "Office first": (False, 2, 0, "A4"),
    "Programme press": (True, 3, 7, "A3"),
    "Library desk": (False, 2, 0, "A4"),
    "Poster plotter": (True, 40, 180, "A1"),
}
HOSTS = ("desk-1", "desk-2", "scores-1")
PROGRAMS = (  # program, the pool its licences come from
    ("Score editor", "scores"),
    ("Light plot", "stage"),
    ("Sound desk", "stage"),
    ("Ticketing", ""),
    ("Bookkeeping", "office"),
)
PRODUCTIONS = (
    "Winter gala",
    "The Glass Harbour",
    "Chamber week",
    "Open rehearsal",
    "Hire: Farrowmere Ensemble",
    "House upkeep",
)


@dataclass(frozen=True)
class Person:
    """One invented person with the names the different logs know them by."""

    name: str
    badge: str
    login: str
    extension: str
    department: str


def people(random: Random, n: int = 120) -> list[Person]:
    """`n` people, the same for the same seed; names are combined so that none stands for anybody."""
    pairs = [(a, b) for a in FIRST for b in LAST]
    random.shuffle(pairs)
    found: list[Person] = []
    taken: dict[str, int] = {}
    for i, (first, last) in enumerate(pairs[:n]):
        plain = last.lower().translate(str.maketrans("ãáøžöñ -", "aaozon__")).replace("ø", "o")
        login = f"{first[0].lower()}.{plain.replace('_', '')}"
        taken[login] = taken.get(login, 0) + 1
        found.append(
            Person(
                f"{first} {last}",
                f"B-{1001 + 7 * i:04d}",
                login if taken[login] == 1 else f"{login}{taken[login]}",
                f"{200 + i}" if i % 3 else "",
                DEPARTMENTS[min(i % 9, 5)],
            )
        )
    return found
