"""What somebody means by a word that is no option or command here."""

from __future__ import annotations

import contextlib
import difflib
import re
from collections.abc import Iterable, Mapping

import click

from fermata.errors import SAID, FermataError, UnknownName

__all__ = ["another_command", "another_option", "filter_written", "instead_of_value", "missing", "shown_by"]

ALIKE = 0.75  # how much of a slip of the finger is right
OPTIONS = {  # option -> what others call it; of several that a command has, the first
    "--mail": "email e-mail recipients to",
    "--period": "from to since until between start end begin after before date dates when range last day days week "
    "month quarter year p",
    "--only": "filter filters where include keep match with if equals",
    "--without": "exclude except not ignore",
    "--by": "g group group-by groupby grouped row per dimension dimensions dims breakdown split",
    "--across": "pivot crosstab cols matrix",
    "--columns": "measure measures metric metrics figure figures sum total count mean average avg median distinct "
    "select show values aggregate agg fields unique percent pct share rank running cumulative",
    "--fields": "columns column select",
    "--output": "format form fmt type out file export save-as csv tsv json jsonl xlsx excel pdf html xml parquet "
    "markdown md png svg print o",
    "--sort": "order order-by orderby sort-by desc descending asc ascending reverse",
    "--top": "first head highest",
    "--limit": "max maximum most lines max-rows head first n",
    "--hours": "time-of-day worktime working-hours business-hours daytime",
    "--compare": "versus vs against previous prior baseline diff delta difference change growth trend yoy "
    "year-over-year",
    "--rows": "having min-count min-rows at-least above over greater more-than less-than below under",
    "--warn": "threshold alert warning",
    "--zero-rows": "zero zeros zeroes empty missing nulls all include-zero",
    "--totals": "subtotals subtotal grand-total",
    "--rename": "label name heading",
    "--events": "detail details records list raw drill drilldown drill-down show-events evidence source",
    "--dry-run": "plan preview estimate simulate dry test",
    "--notes": "quiet silent q",
    "--try": "dry-run plan preview test simulate",
    "--explain": "why verbose debug",
    "--chart": "graph plot diagram",
    "--display": "style landscape portrait orientation paper page-size decimal clock theme lang language locale",
    "--set": "option param parameter key",
    "--viewer": "as role anonymize anonymise mask redact hide pseudonymize pseudonymise",
    "--workspace": "config dir root",
    "--zone": "timezone time-zone tz",
    "--folder": "directory dir path",
    "--when": "every daily weekly monthly cron at",
    "--add": "write append apply save",
    "--replace": "force overwrite yes",
    "--fresh": "force overwrite yes",
}
SPELT = {  # what is typed for an option -> the option with its value
    "today": "--period today",
    "yesterday": "--period yesterday",
    "weekdays": "--hours weekdays",
    "workdays": "--hours weekdays",
    "exclude-weekends": "--hours weekdays",
    "weekend": "--hours weekend",
    "weekends": "--hours weekend",
    "night": "--hours '22:00-06:00'",
    "no-total": "--no-totals",
    "no-subtotals": "--no-totals",
    "bottom": "--sort COLUMN --limit N",
}
ELSEWHERE = "--mail --folder --when --loop --subject --webhook --recipient"  # where they are, no other word is meant
COMMANDS = {  # what is typed -> the words of the command
    "report NAME": "show query run ask get count sum total table stats statistics figures",
    "report NAME --output FILE": "export download write dump csv pdf excel print",
    "report NAME --chart KIND": "chart graph plot draw",
    "report NAME --compare PERIOD": "compare diff versus vs change changes trend",
    "report NAME --top N": "top busiest highest ranking",
    "--viewer NAME report NAME": "anonymise anonymize mask redact",
    "archive check": "doctor diagnose lint test",
    "reports (or: fermata events LOG, fermata register list)": "list ls",
    "reports": "catalogue catalog templates",
    "reports --search WORDS": "search",
    "events LOG": "records entries rows tail view detail details",
    "trace NAME": "person history activity audit timeline where whereabouts",
    "people inside LOG": "who present presence",
    "register list people": "users persons staff",
    "register list": "devices places registers",
    "survey": "status health info summary logs quality coverage gaps fields stats",
    "new": "init create setup start",
    "import": "add load ingest read collect fetch",
    "map FILE": "mapping guess detect parse",
    "map --kinds": "kinds kind vocabulary",
    "page": "dashboard overview pages",
    "schedule": "cron timetable mail email deliver delivery deliveries plan",
    "archive undo-import": "undo remove delete",
    "archive expire": "purge retention prune clean cleanup",
    "archive compact": "vacuum optimize optimise",
    "archive verify": "validate proof prove audit-proof",
    "evacuation": "evacuate clear",
    "--help": "help man usage",
    "--version": "version",
}

NAME, TEXT = r"([a-z_][\w.]*)", r"['\"]?(.+?)['\"]?"
FILTERS = tuple(  # what is written -> how it is written here
    (re.compile(rf"\s*{pattern}\s*", re.IGNORECASE | re.DOTALL), here)
    for pattern, here in (
        (r"(?:hour of day|hour|time|start)\s*[=<>!:]+.*", "hours of the day are chosen with --hours '22:00-06:00'"),
        (
            r"(?:day of (?:the )?week|week ?day)\s*[=<>!:]+.*",
            "days of the week are chosen with --hours 'saturday, sunday'",
        ),
        (
            r"(?:weekends?|weekdays?|workdays?|nights?|(?:mon|tues|wednes|thurs|fri|satur|sun)days?)",
            "days and hours are chosen with --hours 'monday to friday'",
        ),
        (rf"{NAME}\s+is not (?:null|none|empty)", r"write --without \1="),
        (rf"{NAME}\s+is (?:null|none|empty)", r"write \1="),
        (rf"{NAME}\s*==\s*(.+?)", r"write \1=\2"),
        (rf"{NAME}\s*>=\s*(.+?)", r"write \1=\2.."),
        (rf"{NAME}\s*<=\s*(.+?)", r"write \1=..\2"),
        (rf"{NAME}\s*(?:!=|<>|\s+is not\s)\s*(.+?)", r"write --without \1=\2"),
        (rf"{NAME}\s*>\s*([^=].*?)", r"write \1=\2.. for \2 and more"),
        (rf"{NAME}\s*<\s*([^=].*?)", r"write \1=..\2 for \2 and less"),
        (rf"{NAME}\s+not in\s*[(\[](.+?)[)\]]", r"write --without \1=\2"),
        (rf"{NAME}\s+in\s*[(\[](.+?)[)\]]", r"write \1=\2"),
        (rf"{NAME}\s+contains\s+{TEXT}", r"write \1~*\2*"),
        (rf"{NAME}\s+starts with\s+{TEXT}", r"write \1~\2*"),
        (rf"{NAME}\s+ends with\s+{TEXT}", r"write \1~*\2"),
        (rf"{NAME}\s+(?:i?like|matches)\s+{TEXT}", r"write \1~\2, with * for any signs"),
        (rf"{NAME}\s+between\s+(.+?)\s+and\s+(.+?)", r"write \1=\2..\3"),
    )
)


def filter_written(text: str) -> str:
    """How a filter that cannot be read is written here."""
    for pattern, here in FILTERS:
        if m := pattern.fullmatch(text):
            return m.expand(here).replace("%", "*")
    return "write FIELD=VALUE, FIELD=A,B, FIELD~Ann*, FIELD= or FIELD=10..50"


def another_option(error: click.NoSuchOption) -> str:
    """The message for an option that a command does not have: the one that is meant, and what it does."""
    ctx = error.ctx or click.Context(click.Command("fermata"))
    own, above = _options(ctx), _options(ctx.find_root())
    word, told = error.option_name.lstrip("-"), f"there is no option {error.option_name!r}"
    path = ctx.command_path.partition(" ")[2]
    root = error.option_name if error.option_name in above else _of_the_trade(word, above)
    if meant := _of_the_trade(word, own):
        return f"{told}; did you mean {_told(own[meant])}"
    if SPELT.get(word, "-").split()[0] in own:
        return f"{told}; did you mean {SPELT[word]}"
    if root and ctx.parent:
        where = " behind a command; it stands before it:" if root == error.option_name else "; did you mean:"
        return f"{told}{where} fermata {_written(above[root])} {path} ..."
    if field := _field(word):
        filters = [f"'{o} {field}{value}'" for o, value in (("--only", "=VALUE"), ("--by", "")) if o in own]
        if filters:
            return f"{told}; did you mean {' or '.join(filters)}?"
    if other := _elsewhere(ctx.find_root(), word):
        return f"{told}; it is one of: fermata {other}"
    near = difflib.get_close_matches(word, [n.lstrip("-") for n in own if n.startswith("--")], 2, ALIKE)
    if len(word) > 1 and near:
        return f"{told}; did you mean {' or '.join(repr('--' + n) for n in near)}?"
    return f"{told}; all there are: {' '.join(('fermata', *path.split(), '--help'))}"


def instead_of_value(error: click.BadParameter) -> str:
    """What to add where an option has a value that another one of the command takes."""
    own = _options(error.ctx) if error.ctx else {}
    meant = _of_the_trade((error.param and error.param.name) or "", own)
    return f"; did you mean {_told(own[meant])}" if meant else ""


def missing(ctx: click.Context, what: str) -> str:
    """The message for what a command cannot do without: an example of it from its help, and the logs to choose from."""
    begin = f"fermata {ctx.command_path.partition(' ')[2]}"
    examples = [w for line in (ctx.command.help or "").splitlines() if (w := line.strip()).startswith(begin)]
    told = f"{what.removesuffix('...')} is missing" + (f", as in: {examples[0]}" if examples else "")
    asks = ctx.command.name == "report" and what == "NAME"
    given = "" if asks else ctx.params.get("log")  # in front of what is missing
    if asks or given or what in ("LOG", "--log"):
        with contextlib.suppress(FermataError):
            from fermata.api.workspace import open_workspace

            above = ctx.find_root().params
            logs = open_workspace(above["workspace"], viewer=above["viewer"]).archive.logs
            if given and given not in logs:
                told = f"there is no log {given!r}, and {told}"
            if logs and (not given or given not in logs):
                told += f"\n  {'or a log itself' if asks else 'logs'}: {', '.join(logs)}"
    return told


def another_command(ctx: click.Context, word: str, known: Iterable[str], within: Mapping[str, str]) -> str:
    """The message for a command that there is not: the report or log of that name, what it is called here, or the one
    of a group (name -> group).
    """
    typed = next((c for c, words in COMMANDS.items() if word.casefold() in words.split()), "")
    with contextlib.suppress(FermataError):
        from fermata.api.workspace import open_workspace

        here = open_workspace(ctx.params["workspace"], viewer=ctx.params["viewer"])
        typed = f"report {word}" if here.reports.definition(word) else typed
    if typed:
        return f"there is no command {word!r}; did you mean: fermata {typed}"
    if word in within:
        return f"it is: fermata {within[word]} {word}"
    return str(UnknownName.of("command", word, known))


def shown_by(ctx: click.Context, group: str, word: str) -> str:
    """The command of a group for what a word names: a register, a prepared evacuation, an item of the shelf, a log;
    nothing where it names none.
    """
    with contextlib.suppress(FermataError):
        from fermata.api.workspace import open_workspace

        above = ctx.find_root().params
        here = open_workspace(above["workspace"], viewer=above["viewer"])
        named: dict[str, tuple[str, Iterable[str]]] = {
            "register": ("list", here.config.registers),
            "people": ("inside", here.archive.logs),
            "evacuation": ("show", (p.stem for p in (here.path / "evacuations").glob("*.toml"))),
            "shelf": ("show", [word] if word.isdigit() else []),
        }
        own, names = named.get(group, ("", ()))
        return f"fermata {group} {own} {word}" if word in names else ""
    return ""


def _of_the_trade(word: str, own: Mapping[str, click.Option]) -> str:
    return next((o for o, words in OPTIONS.items() if o in own and word in words.split()), "")


def _options(ctx: click.Context) -> dict[str, click.Option]:
    """A command's options by each of their names."""
    options = [p for p in ctx.command.params if isinstance(p, click.Option)]
    return {name: p for p in options for name in (*p.opts, *p.secondary_opts)}


def _written(option: click.Option) -> str:
    """An option as it is typed, with what stands behind it."""
    name = max(option.opts, key=len)
    value = "|".join(map(str, option.type.choices)) if isinstance(option.type, click.Choice) else ""
    return name if option.is_flag else f"{name} {option.metavar or value or (option.name or '').upper()}"


def _told(option: click.Option) -> str:
    """A question about an option as it is typed, and what it does on a line of its own."""
    return f"'{_written(option)}'?\n  {option.help}"


def _elsewhere(root: click.Context, word: str) -> str:
    """The command that has what is meant by an option of no other, as it is typed."""
    meant = next((o for o in ELSEWHERE.split() if word in (o[2:], *OPTIONS.get(o, "").split())), "")
    assert isinstance(root.command, click.Group)
    for name in ("schedule", "send") if meant else ():
        command = root.command.get_command(root, name)
        assert command
        if found := _options(click.Context(command)).get(meant):
            return f"{name} ... {_written(found)}"
    return ""


def _field(word: str) -> str:
    """The field that a word names: one that some kind of log has, alone or of several, or as people call it."""
    from fermata.kinds import KINDS

    known = {f for kind in KINDS.values() for f in (*kind.fields, *kind.further)}
    said = (word, word.removesuffix("s"))
    return next((f for f in (*said, *(SAID.get(w, "") for w in said)) if f in known), "")
