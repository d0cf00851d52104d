"""Templates of subjects, texts and file names. Their values come from logs and registers, so they are made harmless
first.
"""

from __future__ import annotations

import functools
import re
import unicodedata
from collections.abc import Mapping
from typing import Any

from fermata.errors import RequestError

__all__ = ["SUBJECT", "TEXT", "checked", "file_name", "filled", "header", "page"]

SUBJECT = "{{ title }}{% if part %}, {{ part }}{% endif %}: {{ period }}"
TEXT = """\
{{ title }}{% if part %}: {{ part }}{% endif %}
{{ period }} ({{ zone }}){% if view and view != part %}
{{ view }}{% endif %}
{% if verdict %}
{{ verdict }}
{% endif %}{% if figures %}
{% for label, figure in figures.items() %}{{ label }}: {{ figure }}
{% endfor %}{% endif %}{% for link in links %}
{{ link }}{% endfor %}
{% for note in notes %}
Note: {{ note }}{% endfor %}
"""
MOST = 200  # characters of a header
INK, SOFT, LINE = "#20252c", "#565e69", "#d6dae0"  # the colours of a report's page
PAGE = f"""\
<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{{{{ title }}}}</title>
<style>td, th {{ padding: 3px 20px 3px 0 }} table {{ border-collapse: collapse; margin: 0 0 1em }}</style></head>
<body style="font: 15px/1.5 system-ui, sans-serif; color: {INK}; background: #ffffff; max-width: 60em; margin: 20px">
{{% if own %}}{{% for line in own.strip().splitlines() %}}{{{{ line }}}}<br>
{{% endfor %}}{{% else %}}<h1 style="font-size: 20px; line-height: 1.25; margin: 0">\
{{{{ title }}}}{{% if part %}}: {{{{ part }}}}{{% endif %}}</h1>
<p style="margin: 2px 0 16px; color: {SOFT}">{{{{ period }}}} ({{{{ zone }}}})\
{{% if view and view != part %}}<br>{{{{ view }}}}{{% endif %}}</p>
{{% if verdict %}}<p style="margin: 0 0 16px"><strong>{{{{ verdict }}}}</strong></p>{{% endif %}}
{{% if figures and not tables %}}<table style="border-collapse: collapse; margin: 0 0 16px">\
{{% for label, figure in figures.items() %}}<tr><td style="padding: 4px 28px 4px 0; border-bottom: 1px solid {LINE}; \
color: {SOFT}">{{{{ label }}}}</td><td style="padding: 4px 0; border-bottom: 1px solid {LINE}; text-align: right; \
font-size: 17px; font-weight: 600; font-variant-numeric: tabular-nums">{{{{ figure }}}}</td></tr>
{{% endfor %}}</table>{{% endif %}}
{{{{ tables }}}}
{{% for link in links %}}<p style="margin: 0 0 8px"><a href="{{{{ link }}}}">{{{{ link }}}}</a></p>{{% endfor %}}
{{% if notes %}}<ul style="padding-left: 18px; margin: 0; color: {SOFT}; font-size: 13px">\
{{% for note in notes %}}<li>{{{{ note }}}}</li>
{{% endfor %}}</ul>{{% endif %}}{{% endif %}}
</body></html>
"""
VALUES = (
    "title", "period", "period_text", "dates", "exact", "zone", "delivery", "part", "recipient", "figures", "notes",
    "verdict", "view", "links",
    "planned", "number",
)  # fmt: skip


LONGEST = 20_000  # characters of a template
DEEPEST = 2  # loops within each other
FILTERS = (
    "abs", "capitalize", "count", "default", "d", "e", "escape", "first", "int", "items", "join", "last", "length",
    "list", "lower", "max", "min",
    "reverse", "round", "sort", "sum", "title", "trim", "truncate", "unique", "upper", "wordcount",
)  # fmt: skip
METHODS = (
    "items",
    "keys",
    "values",
    "get",
    "upper",
    "lower",
    "title",
    "capitalize",
    "strip",
    "split",
    "startswith",
    "endswith",
)


@functools.cache
def _environment() -> Any:
    """Templates in which nothing can take long or become large: no numbers to count to, no text repeated or padded, no
    deep loops.
    """
    from jinja2 import StrictUndefined
    from jinja2.exceptions import SecurityError
    from jinja2.sandbox import SandboxedEnvironment

    class Bounded(SandboxedEnvironment):
        """Without operators and methods that make a text longer than its parts."""

        intercepted_binops = frozenset(["*", "**", "%"])

        def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
            """Numbers are reckoned with; texts are not repeated."""
            if operator == "*" and isinstance(left, int | float) and isinstance(right, int | float):
                return left * right
            raise SecurityError(f"{operator} cannot be used in a template")

        def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
            """Only a few methods of texts and tables."""
            return super().is_safe_attribute(obj, attr, value) and (attr in METHODS or not callable(value))

    made = Bounded(undefined=StrictUndefined, keep_trailing_newline=True)
    made.globals.clear()
    made.filters = {n: f for n, f in made.filters.items() if n in FILTERS}
    return made


def _parsed(template: str) -> Any:
    """The template read. Raises TemplateError for one that is too long or too deep."""
    from jinja2 import TemplateSyntaxError, nodes

    if len(template) > LONGEST:
        raise TemplateSyntaxError(f"it has {len(template):,} characters, and {LONGEST:,} at most are read", 1)

    def depth(node: Any) -> int:
        inner = max((depth(child) for child in node.iter_child_nodes()), default=0)
        return inner + isinstance(node, nodes.For | nodes.Macro | nodes.CallBlock)

    tree = _environment().parse(template)
    if depth(tree) > DEEPEST:
        raise TemplateSyntaxError(f"more than {DEEPEST} loops within each other", 1)
    return tree


def checked(template: str, what: str) -> None:
    """Raises RequestError for a template that does not parse, or that names values there are none of."""
    from jinja2 import TemplateSyntaxError, meta

    try:
        tree = _parsed(template)
        _environment().from_string(template)
    except TemplateSyntaxError as e:
        raise RequestError(f"{what}: {e.message} (line {e.lineno})") from None
    unknown = sorted(meta.find_undeclared_variables(tree) - set(VALUES))
    if unknown:
        raise RequestError(f"{what}: there is no {unknown[0]!r} (values: {', '.join(VALUES)})")


def filled(template: str, values: Mapping[str, Any]) -> str:
    """The template with the values in it. Raises RequestError where it cannot be filled."""
    from jinja2 import TemplateError

    try:
        _parsed(template)
        return str(_environment().from_string(template).render({n: values.get(n, "") for n in VALUES}))
    except (TemplateError, TypeError, ValueError, ArithmeticError, MemoryError, RecursionError) as e:
        raise RequestError(f"a template cannot be filled: {e}") from None


def page(values: Mapping[str, Any], own: str = "", tables: str = "") -> str:
    """The HTML part of a message; with `own`, its text as it is. `tables` is markup that was made safe already."""
    from jinja2 import Environment
    from markupsafe import Markup

    made = Environment(autoescape=True).from_string(PAGE)
    return str(made.render(own=own, tables=Markup(tables), **{n: values.get(n, "") for n in VALUES}))


def header(text: str) -> str:
    """A text as one line of a header: whatever could end the line, or turn the direction of reading, is a space."""
    plain = "".join(" " if unicodedata.category(c) in ("Cc", "Cf", "Zl", "Zp", "Cs") else c for c in text)
    told = " ".join(plain.split())
    return told if len(told) <= MOST else told[: MOST - 1] + "…"


def file_name(text: str) -> str:
    """A text as the name of a file anywhere: letters, digits, dots, - and _; never hidden, never a path, at most 100
    characters.
    """
    told = re.sub(r"[^\w.-]+", "-", unicodedata.normalize("NFC", text)).strip("-.")
    return told[:100].rstrip("-.") or "report"
