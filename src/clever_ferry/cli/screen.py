"""The terminal's look: one console, tables, and values in a player's words."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, Any, cast

import click
from rich import box, markup
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderResult
from rich.containers import Lines
from rich.measure import Measurement
from rich.padding import Padding
from rich.table import Table
from rich.text import Text
from rich.theme import Theme

from clever_ferry.visible import visible

if TYPE_CHECKING:
    from clever_ferry.cargo import Save
    from clever_ferry.recipes import Edition

__all__ = [
    "called",
    "columns",
    "console",
    "counted",
    "escape",
    "facts_line",
    "heading",
    "indented",
    "iso",
    "numbered",
    "place",
    "place_word",
    "print_unkept",
    "size",
    "steps",
    "table",
    "told_facts",
    "when",
    "when_cell",
]

_THEME = Theme(
    {
        "save": "bold",
        "good": "green",
        "bad": "red",
        "care": "yellow",
        "dim": "bright_black",
        "place": "cyan",
    }
)
_PIPE_WIDTH = 10_000
_NO_BREAK, _BOUND = "\N{NO-BREAK SPACE}", "\ue0fe"
"""What binds words, and a letter for private use that stands in for it where rich breaks lines."""


def print_unkept(unkept: Sequence[str]) -> None:
    """Say which attributes of files could not be given here."""
    out = console()
    for one in unkept[:5]:
        out.print(f"[care]Not kept:[/] {escape(one)}", soft_wrap=True)
    if len(unkept) > 5:
        out.print(f"[care]Not kept:[/] {len(unkept) - 5} more attributes of files")


def console(*, err: bool = False) -> Console:
    """Return the console for output, or for messages beside it."""
    stream = sys.stderr if err else sys.stdout
    width = None
    if not stream.isatty() and "COLUMNS" not in os.environ:
        width = _PIPE_WIDTH
    return Console(
        file=stream, theme=_THEME, width=width, highlight=False, soft_wrap=False, emoji=False
    )


def escape(text: str) -> str:
    """Return text that prints as it is: no markup, and nothing that a terminal would obey."""
    return markup.escape(visible(text))


class _Cell(Text):
    """Text that is not broken at no-break spaces, where rich's own is."""

    def wrap(self, console: Console, width: int, **how: Any) -> Lines:
        """Return the lines; the spaces in them are plain ones."""
        bound = self.copy()
        bound.plain = self.plain.replace(_NO_BREAK, _BOUND)
        lines = bound.wrap(console, width, **how)
        for line in lines:
            line.plain = line.plain.replace(_BOUND, " ")
        return lines

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        """Return how wide it is at the least and at the most."""
        lines = self.plain.split("\n")
        words = [word for line in lines for word in line.split(" ")]
        return Measurement(max(map(cell_len, words)), max(map(cell_len, lines)))


class _Table(Table):
    """A table that turns into stacked lines where its words have no room beside each other."""

    def add_row(self, *cells: str, style: str | None = None) -> None:  # type: ignore[override]
        """Add a row of markup; what stands to the right is not broken."""
        made = [Text.from_markup(cell, emoji=False) for cell in cells]
        for one, column in zip(made, self.columns, strict=True):
            if column.justify == "right":
                one.plain = one.plain.replace(" ", _NO_BREAK)
        super().add_row(*(_Cell(one.plain, spans=one.spans) for one in made), style=style)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Render it as a table, or each row's cells below each other, no word broken."""
        wide = options.update_width(10_000)
        ranges = [
            [Measurement.get(console, wide, one) for one in (column.header, *column.cells)]
            for column in self.columns
        ]
        least = [max(one.minimum for one in column) for column in ranges]
        most = [max(one.maximum for one in column) for column in ranges]
        frame = self.__rich_measure__(console, wide).maximum - sum(most)
        room = options.max_width - frame
        if sum(least) <= room:
            if sum(most) > room:
                for column, width in zip(self.columns, _shared(least, most, room), strict=True):
                    column.width = width
            yield from super().__rich_console__(console, options)
            return
        heads = [str(column.header) for column in self.columns]
        indent = max(map(cell_len, heads), default=0) + 2
        for cells in zip(*(column.cells for column in self.columns), strict=True):
            yield Text("")
            for head, cell in zip(heads, cells, strict=True):
                lines = cast("Text", cell).split("\n")
                for number, line in enumerate(one for one in lines if one.plain):
                    line.plain = line.plain.replace(_NO_BREAK, " ")
                    front = Text(f"{head if number == 0 else '':<{indent}}", style="bold")
                    if indent + cell_len(line.plain) <= options.max_width:
                        yield Text("") + front + line  # else all of it would be bold
                        continue
                    if number == 0:
                        yield Text(head, style="bold")
                    line.overflow = "fold"  # by itself it has the most room
                    yield line


def _shared(least: Sequence[int], most: Sequence[int], room: int) -> list[int]:
    """Return widths that fill a room: each has its least, and those that want little all of it.

    >>> _shared([4, 4, 4], [4, 10, 30], 24)
    [4, 10, 10]
    """
    widths, spare = list(least), room - sum(least)
    order = sorted(range(len(widths)), key=lambda at: most[at] - least[at])
    for left, at in zip(range(len(order), 0, -1), order, strict=True):
        more = min(most[at] - least[at], spare // left)
        widths[at] += more
        spare -= more
    return widths


def table(*columns: str, right: Sequence[str] = ()) -> Table:
    """Return an empty table in the program's look."""
    made = _Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold", expand=False)
    for column in columns:
        made.add_column(column, justify="right" if column in right else "left", overflow="fold")
    return made


def columns(
    heads: Sequence[str], rows: Sequence[Sequence[str]], *, right: Sequence[str] = ()
) -> None:
    """Print rows under each other, each in a line: for thousands, where a table takes long.

    Columns whose heads are among `right` end at the same place.
    """
    padded = [
        _padded([head, *column], head in right)
        for head, column in zip(heads, zip(*rows, strict=True), strict=True)
    ]
    click.echo("\n".join(" " + "  ".join(line).rstrip() for line in zip(*padded, strict=True)))


def _padded(cells: Sequence[str], right: bool) -> list[str]:
    """Return cells made as wide as the widest is on a terminal."""
    if all(map(str.isascii, cells)):
        width = max(map(len, cells))
        return [cell.rjust(width) if right else cell.ljust(width) for cell in cells]
    widths = [cell_len(cell) for cell in cells]
    blanks = [" " * (max(widths) - width) for width in widths]
    pairs = zip(cells, blanks, strict=True)
    return [blank + cell if right else cell + blank for cell, blank in pairs]


def heading(text: str) -> str:
    """Return a heading's markup."""
    return f"[bold underline]{escape(text)}[/]"


def indented(shown: str | Table, by: int) -> Padding:
    """Return lines, or a table, that stay indented where they are wrapped."""
    return Padding(shown, (0, 0, 0, by), expand=False)


def steps(lines: Iterable[str]) -> str:
    """Return numbered lines."""
    return "\n".join(f"  {number}. {escape(line)}" for number, line in enumerate(lines, 1))


def facts_line(save: Save, *, most: int = 3) -> str:
    """Return a save's first facts but its name: `Day 31 · Played 12 h 05 min`."""
    facts = [(fact.label, fact.text) for fact in save.shown_facts]
    return told_facts(facts[:most])


def told_facts(facts: Iterable[tuple[str, str]]) -> str:
    """Return labels and values in one line; in a table, it breaks only between facts."""
    told = (f"{label} {text}" for label, text in facts)
    if not sys.stdout.isatty():
        return " · ".join(told)
    return f"{_NO_BREAK}· ".join(one.replace(" ", _NO_BREAK) for one in told)


def counted(count: int, what: str) -> str:
    """Return a number with its noun.

    >>> counted(1, "piece"), counted(4, "piece")
    ('1 piece', '4 pieces')
    """
    return f"{count:,} {what}{'' if count == 1 else 's'}"


def numbered(slot: int, edition: Edition) -> str:
    """Return how a save's number is said: a slot where the game has slots, else its place here."""
    return f"slot {edition.slot_text(slot)}" if edition.numbered else f"no. {slot}"


def save_line(save: Save, edition: Edition) -> str:
    """Return a save in one line: its number, what it is called, its first facts."""
    told = f"  [dim]{escape(facts)}[/]" if (facts := facts_line(save)) else ""
    return f"{called(save.title, save.slot, edition)}{told}"


def called(title: str, slot: int, edition: Edition) -> str:
    """Return a save's number and what it is called, said once where they are the same."""
    number = numbered(slot, edition)
    return f"{'' if title == number else f'{number}  '}[save]{escape(title)}[/]"


def size(count: int) -> str:
    """Return bytes in words.

    >>> size(512), size(2_500_000)
    ('512 B', '2.5 MB')
    """
    value, units = float(count), ["B", "kB", "MB", "GB", "TB"]
    while value >= 999.5 and len(units) > 1:
        value /= 1000
        units.pop(0)
    return f"{count} B" if units[0] == "B" else f"{value:.{1 if value < 99.95 else 0}f} {units[0]}"


def when(stamp: int | None, now: float | None = None) -> str:
    """Return a time stamp (ns since 1970) in local time, and how long ago that is."""
    if stamp is None:
        return "not known"
    try:
        then = datetime.fromtimestamp(stamp / 1e9)
    except (OverflowError, ValueError, OSError):  # a stamp that no calendar has
        return "no date"
    seconds = (now if now is not None else datetime.now().timestamp()) - stamp / 1e9
    return f"{then.isoformat(' ', 'minutes')} ({_ago(seconds)})"


def when_cell(stamp: int | None) -> str:
    """Return a time stamp for a table: how long ago it is stands below it."""
    if not stamp:  # 0 is what some formats have for none
        return "[dim]not known[/]"
    date, _, ago = when(stamp).partition(" (")
    return f"{date}\n[dim]{ago.rstrip(')')}[/]"


def _ago(seconds: float) -> str:
    if seconds < -60:
        return "in the future"
    for unit, length in (("day", 86400), ("hour", 3600), ("minute", 60)):
        count = int(seconds // length)
        if count >= 1:
            return f"{count} {unit}{'s' if count > 1 else ''} ago"
    return "just now"


def place(path: PurePath | str, most: int = 200) -> str:
    """Return a path with the home folder shortened."""
    home = str(Path.home())
    text = str(path)
    if text.startswith(home + os.sep):
        text = "~" + text[len(home) :]
    return text if len(text) <= most else "…" + text[-most + 1 :]


def place_word(path: PurePath) -> str:
    """Return a path as one word of a command: the home folder shortened, else quoted if need be."""
    text = place(path, most=10_000)
    return text if re.fullmatch(r"[\w@%+=:,./\\~-]+", text) else f'"{path}"'


def iso(stamp: int | None) -> str | None:
    """Return a time (ns since 1970) as ISO 8601 in UTC; None for none, or one no calendar has.

    >>> iso(1_790_000_000_123_456_789)
    '2026-09-21T14:13:20.123456Z'
    """
    if not stamp:
        return None
    try:
        then = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=stamp // 1000)
    except OverflowError:
        return None
    return then.isoformat(timespec="microseconds").replace("+00:00", "Z")
