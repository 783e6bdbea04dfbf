"""Sheets and comparisons as pages: one file each, readable on a phone and on paper, no script."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from datetime import UTC, datetime
from functools import cache
from typing import Any

from jinja2 import DictLoader, Environment, StrictUndefined
from markupsafe import Markup

from clever_ferry.sheets.differing import Difference, Differences, TableDifferences, summary
from clever_ferry.sheets.looks import BAND, INK, LINE, PAPER, SOFT
from clever_ferry.sheets.report import Report, placed
from clever_ferry.sheets.sheet import Sheet, SheetColumn, SheetTable, embedded
from clever_ferry.visible import visible
from clever_ferry.wording import in_words

__all__ = ["comparison_page", "page", "report_page", "sheet_page"]

_ROWS = 500
"""So many rows of a table are shown; a sheet keeps all of them."""
_SIGNS = {"more": "+", "less": "\N{MINUS SIGN}", "other": "\N{NOT EQUAL TO}",
          "missing": "\N{MULTIPLICATION SIGN}", "new": "\N{BLACK STAR}"}  # fmt: skip
_WORDS = {"more": "more", "less": "less", "other": "another", "missing": "missing", "new": "new"}

_BEQUEST = """{% extends "base" %}
{% block title %}{{ views[0][0].title|line }}{% endblock %}
{% block body %}
{% for view, maps in views %}
<h1>{{ view.title|line }}</h1>
<p class="soft">{{ view.where|line }}</p>
{% for map in maps %}
<h2>{{ loop.first and "Before" or "After" }}: {{ map.title|line }}</h2>
<svg viewBox="0 0 {{ map.wide }} {{ map.high }}" role="img" width="100%"
 aria-label="{{ map.title|line }}: places by their owners">
{% for x, y, side, colour, told in map.squares -%}
<rect x="{{ x }}" y="{{ y }}" width="{{ side }}" height="{{ side }}" fill="{{ colour }}"><title>
{{- told|line }}</title></rect>
{% endfor %}
{% for x, y, number in map.numbers -%}
<circle cx="{{ x }}" cy="{{ y }}" r=".55" fill="{{ paper }}" stroke="{{ ink }}"
 stroke-width=".06"/><text x="{{ x }}" y="{{ y }}" dy=".24" font-size=".7"
 text-anchor="middle">{{ number }}</text>
{% endfor %}
</svg>
<div class="wide"><table><thead><tr><th class="number">No.</th><th>The ten largest</th>
<th class="number">Size</th><th class="number">Places</th></tr></thead><tbody>
{% for owner, name, total, count in map.largest %}<tr><td class="number">{{ loop.index }}</td>
<td style="color: {{ map.colours[owner] }}">{{ name|line }}</td>
<td class="number">{{ total|number }}</td><td class="number">{{ count|number }}</td></tr>
{% endfor %}</tbody></table></div>
{% endfor %}
<h2>What stayed</h2>
<div class="wide"><table><thead><tr><th>Total</th><th class="number">Before</th>
<th class="number">After</th></tr></thead><tbody>
{% for table, column, before, after in view.sums %}<tr><td>{{ table|line }}, {{ column|line }}</td>
<td class="number">{{ before|number }}</td><td class="number">{{ after|number }}</td></tr>
{% endfor %}</tbody></table></div>
<h2>What became of what</h2>
{% for what, names in view.told %}<p><b>{{ what|line }}</b>{% if names %}: {{ names|join(", ")|line
 }}{% endif %}</p>
{% else %}<p>Nothing was split, merged, left out, or given what is usual.</p>
{% endfor %}
{% if view.rules %}<h2>Rules that counted</h2>
<div class="wide"><table><thead><tr><th>Mapping</th><th>Rule</th><th class="number">Rows</th></tr>
</thead><tbody>
{% for name, where, count in view.rules %}<tr><td>{{ name|line }}</td><td>{{ where|line }}</td>
<td class="number">{{ count|number }}</td></tr>
{% endfor %}</tbody></table></div>{% endif %}
<h2>What was chosen</h2>
<table><tbody>{% for name, value in view.chosen %}<tr><th scope="row">{{ name|line }}</th>
<td>{{ value|line }}</td></tr>{% endfor %}</tbody></table>
{% endfor %}
{% endblock %}
"""

_BASE = """<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="generator" content="cferry">
<title>{% block title %}{% endblock %}</title>
<style>
  :root { --ink: {{ ink }}; --soft: {{ soft }}; --line: {{ rule }}; --paper: {{ paper }};
          --band: {{ band }}; }
  body { font: 16px/1.5 Georgia, "Times New Roman", serif; color: var(--ink); margin: 0 auto;
         background: var(--paper); max-width: 60rem; padding: 1rem 1.2rem 3rem; }
  h1 { font-size: 1.7rem; margin: .4rem 0 .2rem; }
  h2 { font-size: 1.2rem; margin: 2rem 0 .5rem; border-bottom: 3px double var(--line); }
  h3 { font-size: 1rem; margin: 1.2rem 0 .3rem; }
  p { margin: .4rem 0; } .soft { color: var(--soft); }
  .wide { overflow-x: auto; }
  table { border-collapse: collapse; min-width: 40%; }
  th { text-align: left; border-bottom: 2px solid var(--ink); padding: .2rem .9rem .2rem 0; }
  td { border-bottom: 1px solid var(--line); padding: .2rem .9rem .2rem 0; vertical-align: top;
       overflow-wrap: anywhere; }
  tbody th { border-bottom: 1px solid var(--line); font-weight: normal; color: var(--soft); }
  tbody tr:nth-child(even) { background: var(--band); }
  .number { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
  .sign { font-weight: bold; white-space: nowrap; }
  .note { border-left: 4px solid var(--soft); padding-left: .7rem; }
  img { max-width: 100%; height: auto; border: 1px solid var(--line); }
  @media print { body { background: none; max-width: none; font-size: 11pt; }
                 tr, h2, h3 { break-inside: avoid; break-after: avoid-page; } }
</style>
</head>
<body>
{% block body %}{% endblock %}
<p class="soft">Written by cferry.</p>
</body>
</html>
"""

_SHEET = """{% extends "base" %}
{% block title %}{{ sheet.title|line }}, {{ sheet.game_title|line }}{% endblock %}
{% block body %}
<p class="soft">{{ sheet.game_title|line }}, {{ sheet.edition|line }}</p>
<h1>{{ sheet.title|line }}</h1>
<p class="soft">{{ sheet.where|line }}<br>
{% if sheet.saved %}Saved {{ sheet.saved|time }}.{% endif %} Written down {{ sheet.made|time }}.</p>
{% if picture %}<p><img src="{{ picture }}" alt="The save's own picture"></p>{% endif %}
<h2>What it is known by</h2>
{% if sheet.facts %}<table><tbody>
{% for fact in sheet.facts %}<tr><th scope="row">{{ fact.label|line }}</th>
<td>{{ fact.text|line }}</td></tr>
{% endfor %}</tbody></table>{% else %}<p>Nothing is told.</p>{% endif %}
{% for note in sheet.notes %}<p class="note">{{ note|line }}</p>{% endfor %}
{% for table in sheet.tables %}
<h2>{{ table.label|line }}: {{ "{:,}".format(table.count) }}</h2>
{% for trouble in table.troubles %}<p class="note">{{ trouble|line }}</p>{% endfor %}
{% set numbers = table|sums %}
{% if numbers %}<p>Together: {% for label, told in numbers %}{{ label|line }} {{ told }}
{%- if not loop.last %}, {% endif %}{% endfor %}</p>{% endif %}
{% if table.counts %}<div class="wide"><table><thead><tr><th>{{ table|owner|line }}</th>
<th class="number">Rows</th>{% for label in table|summed %}<th class="number">{{ label|line }}</th>
{% endfor %}</tr></thead><tbody>
{% for owner, count in table.counts.items() %}<tr><td>{{ owner|line or "nobody" }}</td>
<td class="number">{{ "{:,}".format(count) }}</td>
{% for told in table|owned(owner) %}<td class="number">{{ told }}</td>{% endfor %}</tr>
{% endfor %}</tbody></table></div>{% endif %}
{% if table.whole and table.columns and table.count %}
<h3>Row by row{% if table.count > most %}, the first {{ most }}{% endif %}</h3>
<div class="wide"><table><thead><tr>{% for one in table.columns %}
<th{% if one|numeric %} class="number"{% endif %}>
{{- one.label|line }}</th>
{% endfor %}</tr></thead><tbody>
{% for row in table|rows %}<tr>{% for number, told in row %}<td{% if number %} class="number"
{%- endif %}>{{ told|line }}</td>{% endfor %}</tr>
{% endfor %}</tbody></table></div>{% endif %}
{% endfor %}
{{ kept }}
{% endblock %}
"""

_MACROS = """{% macro allowed(told) %}
{% for one in told.allowed %}<p>{{ one.what|line }} was {{ one.first|line }} and is
{{ one.second|line }}, as it may be after a move.</p>{% endfor %}
{% endmacro %}
{% macro differences(told) %}
{% if told.facts %}<h3>Facts that differ</h3>
<div class="wide"><table><thead><tr><th></th><th>Fact</th><th class="number">First</th>
<th class="number">Second</th></tr></thead><tbody>
{% for one in told.facts %}<tr><td class="sign">{{ one|sign }}</td><td>{{ one.what|line }}</td>
<td class="number">{{ one.first|line }}</td><td class="number">{{ one.second|line }}</td></tr>
{% endfor %}</tbody></table></div>{% endif %}
{% for table in told.tables %}
<h3>{{ table.label|line }}</h3>
<p>{{ table|summary }}</p>
{% for owner, group in table|groups %}
{% if owner %}<p><strong>{{ owner|line }}</strong></p>{% endif %}
<div class="wide"><table><thead><tr><th></th><th>What</th><th></th><th class="number">First</th>
<th class="number">Second</th></tr></thead><tbody>
{% for one in group %}<tr><td class="sign">{{ one|sign }}</td><td>{{ one.what|line }}
{%- if one.how in ("missing", "new") and (one.first or one.second) %}<br>
<span class="soft">{{ (one.first or one.second)|line }}</span>{% endif %}</td>
<td>{{ one.column|line }}{% if one.sure < 1 %} <span class="soft">({{ one|sure }} sure)</span>
{%- endif %}</td>
{%- if one.how in ("missing", "new") %}<td></td><td></td>{% else %}
<td class="number">{{ one.first|cell|line }}</td><td class="number">{{ one.second|cell|line }}</td>
{%- endif %}</tr>
{% endfor %}</tbody></table></div>{% endfor %}
{% endfor %}
{% endmacro %}
"""

_COMPARISON = """{% extends "base" %}
{% from "macros" import allowed, differences %}
{% block title %}{{ told.first.title|line }} against {{ told.second.title|line }}{% endblock %}
{% block body %}
<p class="soft">{{ told.first.game_title|line }}</p>
<h1>{{ told.first.title|line }} against {{ told.second.title|line }}</h1>
<table><thead><tr><th></th><th>First</th><th>Second</th></tr></thead><tbody>
<tr><th scope="row">Where</th><td>{{ told.first.where|line }}</td>
<td>{{ told.second.where|line }}</td></tr>
<tr><th scope="row">Edition</th><td>{{ told.first.edition|line }}</td>
<td>{{ told.second.edition|line }}</td></tr>
<tr><th scope="row">Saved</th><td>{{ told.first.saved|time }}</td>
<td>{{ told.second.saved|time }}</td></tr>
</tbody></table>
{% if told.same %}<p><strong>They are the same in all that both tell.</strong></p>{% endif %}
{{ allowed(told) }}
{% for line in told.alone %}<p class="note">Not compared: {{ line|line }}</p>{% endfor %}
{{ differences(told) }}
{% if told.same_facts %}<h2>The same</h2><p>{{ told.same_facts|join(" · ")|line }}</p>{% endif %}
{% endblock %}
"""


_REPORT = """{% extends "base" %}
{% from "macros" import allowed, differences %}
{% block title %}{{ report.title|line }}{% endblock %}
{% block body %}
<p class="soft">{{ report.game|line }}</p>
<h1>{{ report.title|line }}: {{ report.state|line }}</h1>
<p>From {{ report.source|line }}<br>to {{ report.target|line }}<br>
<span class="soft">{{ report.when|stamp }}</span></p>
{% for note in report.notes %}<p class="note">{{ note|line }}</p>{% endfor %}
{% if dots %}<div class="wide"><svg width="{{ width }}" height="{{ height }}" role="img"
 viewBox="0 0 {{ width }} {{ height }}" aria-labelledby="line">
<title id="line">Time line:{% for dot in dots %} {{ dot.when }} {{ dot.label|line }}.{% endfor %}
</title>
{% for lane in lanes %}<line x1="0" x2="{{ width }}" y1="{{ 34 + 64 * loop.index0 }}"
 y2="{{ 34 + 64 * loop.index0 }}" stroke="{{ rule }}" stroke-width="2"/>
<text x="0" y="{{ 14 + 64 * loop.index0 }}" font-size="12" fill="{{ soft }}">{{ lane|line }}</text>
{% endfor %}{% for dot in dots %}<circle cx="{{ dot.x|round(1) }}" cy="{{ dot.y }}" r="6"
 fill="{{ ink }}" stroke="{{ paper }}" stroke-width="2.5"/>
<text x="{{ dot.x|round(1) }}" y="{{ dot.y + 20 }}" font-size="11" text-anchor="middle"
 fill="{{ ink }}">{{ dot.label|line }}, {{ dot.when }}</text>
{% endfor %}</svg></div>{% endif %}
{% for move in report.moves %}
<h2>{{ move.title|line }}</h2>
<p>{{ move.came_from|line }} → {{ move.went_to|line }}{% if move.replaced %}<br>
in place of {{ move.replaced|line }}{% endif %}</p>
{% if move.facts %}{% set both = move.facts[0][2] %}
<div class="wide"><table><thead><tr><th></th>
{% if both %}<th>Before</th><th>After</th>{% else %}<th>As it was carried</th>{% endif %}</tr>
</thead><tbody>
{% for label, before, after in move.facts %}<tr><th scope="row">{{ label|line }}</th>
<td>{{ before|line }}</td>{% if both %}<td>{{ after|line }}</td>{% endif %}</tr>
{% endfor %}</tbody></table></div>{% endif %}
{% if move.compared is not none %}
{% if move.compared.same %}<p>Read back and compared: the same
{%- for table in move.compared.tables %}, {{ "{:,}".format(table.first) }} {{ table.label|line }}
{%- endfor %}.</p>
{% else %}{{ differences(move.compared) }}{% endif %}
{{ allowed(move.compared) }}
{% for line in move.compared.alone %}<p class="note">Not compared: {{ line|line }}</p>{% endfor %}
{% endif %}
{% for line in move.established %}<p class="soft">{{ line|line }}</p>{% endfor %}
{% for line in move.done %}<p>{{ line|line }}</p>{% endfor %}
{% if move.renamed %}<h3>Renamed</h3><div class="wide"><table><tbody>
{% for before, after in move.renamed %}<tr><td>{{ before|line }}</td>
<td>→ {{ after|line }}</td></tr>
{% endfor %}</tbody></table></div>{% endif %}
{% endfor %}
{% if report.steps %}<h2>Now in the game</h2><ol>
{% for step in report.steps %}<li>{{ step|line }}</li>{% endfor %}</ol>{% endif %}
{% if report.backup %}<h2>If it is not right</h2>
<p>What stood there before is the backup {{ report.backup|line }}.
{% if report.back %}To put it all back: <code>{{ report.back|line }}</code>{% endif %}</p>
{% endif %}
{% endblock %}
"""


def report_page(report: Report) -> str:
    """Return what a crossing did as a page."""
    width = max(560, 190 * (len(report.events) + 1))
    lanes, dots = placed(report.events, width)
    return (
        _environment()
        .get_template("report")
        .render(report=report, lanes=lanes, dots=dots, width=width, height=64 * len(lanes) + 6)
    )


def sheet_page(sheet: Sheet, picture: bytes | None = None) -> str:
    """Return a sheet as a page, out of which it can be read again; `picture` is a PNG."""
    shown = base64.b64encode(picture).decode() if picture else ""
    return (
        _environment()
        .get_template("sheet")
        .render(
            sheet=sheet,
            most=_ROWS,
            kept=Markup(embedded(sheet)),
            picture=f"data:image/png;base64,{shown}" if shown else "",
        )
    )


def comparison_page(told: Differences) -> str:
    """Return how two saves differ as a page."""
    return _environment().get_template("comparison").render(told=told)


def page(name: str, **values: Any) -> str:
    """Return one of the pages, by name."""
    return _environment().get_template(name).render(**values)


@cache
def _environment() -> Environment:
    found = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=False,
        loader=DictLoader({
            "base": _BASE, "macros": _MACROS, "sheet": _SHEET, "comparison": _COMPARISON,
            "report": _REPORT, "bequest": _BEQUEST,
        }),
    )  # fmt: skip
    found.filters.update(
        line=_line, time=_time, sums=_sums, summed=_summed, owned=_owned, owner=_owner, rows=_rows,
        sign=_sign, sure=_sure, cell=_cell, groups=_groups, summary=summary, numeric=_numeric,
        stamp=_stamp, number=_counted,
    )  # fmt: skip
    found.globals.update(ink=INK, soft=SOFT, rule=LINE, paper=PAPER, band=BAND)
    return found


def _counted(value: float) -> str:
    return in_words(round(value, 3) if isinstance(value, float) else value, "count")


def _line(value: Any) -> str:
    """Return a text without what turns the reading round or is obeyed by programs."""
    return visible(str(value)).replace("\n", " ")


def _time(text: str | None) -> str:
    return f"{text[:16].replace('T', ' ')} UTC" if text else "at an unknown time"


def _stamp(stamp: int) -> str:
    return datetime.fromtimestamp(stamp // 10**9, UTC).strftime("%Y-%m-%d %H:%M UTC")


def _number(column: SheetColumn, value: Any) -> str:
    return in_words(value, column.unit or ("count" if _is_number(value) else None))


def _columns(table: SheetTable) -> list[SheetColumn]:
    return [one for one in table.columns if one.name in table.sums]


def _sums(table: SheetTable) -> list[tuple[str, str]]:
    return [(one.label, _number(one, table.sums[one.name])) for one in _columns(table)]


def _summed(table: SheetTable) -> list[str]:
    return [one.label for one in _columns(table)]


def _owned(table: SheetTable, owner: str) -> list[str]:
    own = table.owned.get(owner, {})
    return [_number(one, own.get(one.name, 0)) for one in _columns(table)]


def _owner(table: SheetTable) -> str:
    found = table.column(table.owner or "")
    return found.label if found is not None else "Whose"


def _is_number(value: object) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


def _numeric(column: SheetColumn) -> bool:
    """Tell whether any value that is shown is a number, so that all end at one place."""
    return any(map(_is_number, column.values[:_ROWS]))


def _rows(table: SheetTable) -> list[list[tuple[bool, str]]]:
    cells = [
        [
            (_is_number(value), "" if value is None else in_words(value, one.unit))
            for value in one.values[:_ROWS]
        ]
        for one in table.columns
    ]
    return [list(row) for row in zip(*cells, strict=True)]


def _sign(one: Difference) -> str:
    return f"{_SIGNS[one.how]} {_WORDS[one.how]}"


def _sure(one: Difference) -> str:
    return f"{one.sure:.0%}"


def _cell(value: Any) -> str:
    return "" if value is None else in_words(value, None)


def _groups(table: TableDifferences) -> list[tuple[str, Sequence[Difference]]]:
    found: dict[str, list[Difference]] = {}
    for one in table.differences:
        found.setdefault(one.owner, []).append(one)
    return list(found.items())
