"""An edition's own program: how it loads a save without a screen, and what shows that it runs."""

import re
from collections.abc import Collection, Iterator, Mapping
from itertools import pairwise
from typing import Annotated

from clever_ferry.model import Meta, Model, hint, spelled
from clever_ferry.recipes.spellings import Id, Line
from clever_ferry.wording import known

__all__ = ["LoaderInfo", "PromptInfo", "RunningInfo", "filled", "loader_faults", "parts_of"]

_LAID = ("scratch", "place", "file", "free_port", "title")
"""What stands in braces for what is only known when a save is laid out."""
_NAMED = re.compile(r"\{([a-z_]+)\}")
Program = Annotated[
    str, spelled(r"[A-Za-z0-9][A-Za-z0-9._ +-]*", "a program's name without a folder", 80)
]
Setting = Annotated[
    str, spelled("[A-Z][A-Z0-9_]*", "capital letters, digits and _, as of a variable", 60)
]
Below = Annotated[str, spelled(r"[^\x00-\x1f\x7f\\]+", "a path with /, below the folder", 300)]
Word = Annotated[str, spelled(r"[^\x00-\x1f\x7f]*", "one line of text, 1,000 at most", 1000)]
_SHELLS = {"sh", "bash", "dash", "zsh", "ksh", "fish", "csh", "tcsh", "cmd", "powershell", "pwsh"}
_BARRED = ("LD_", "DYLD_")


def parts_of(pattern: str) -> list[str]:
    """Return a text of `tells` in parts: literal ones, and between them `{}` and `{any}`."""
    return re.split(r"(\{\}|\{any\})", pattern)


def filled(text: str, values: Mapping[str, object]) -> str:
    """Return a text with what its braces name; what they do not name stays."""
    return _NAMED.sub(lambda found: str(values.get(found[1], found[0])), text)


class RunningInfo(Model):
    """What shows that a game runs though its process is not seen: on a server, above all."""

    file: Annotated[
        str | None, hint("name pattern of a file that is in the saves' folder only while it runs")
    ] = None
    says: Annotated[Line | None, hint("text that stands in that file meanwhile")] = None
    port: Annotated[
        Annotated[int, Meta(ge=1, le=65535)] | None,
        hint("a TCP port at which it answers, on the computer where the folder is"),
    ] = None
    stop: Annotated[tuple[Line, ...], hint("how one stops it, in order")] = ()

    def __post_init__(self) -> None:
        if self.says is not None and self.file is None:
            raise ValueError("`says` is about the file that `file` names")


class PromptInfo(Model):
    """Lines that the program gets on its standard input."""

    after: Annotated[
        Line | None, hint("what must stand in its output first; without it, at once")
    ] = None
    wait: Annotated[float, Meta(ge=0, le=60, description="seconds to wait after that")] = 0
    lines: Annotated[tuple[Word, ...], Meta(min_length=1, description="the lines, in order")]


class LoaderInfo(Model):
    """How the game itself is asked whether a save loads: on a copy, in a folder of its own."""

    program: Annotated[
        tuple[Program, ...], Meta(min_length=1, description="its names; the first found is started")
    ]
    arguments: Annotated[tuple[Word, ...], hint("its arguments, one by one; no shell reads them")]
    lays: Annotated[
        Below, hint("the folder in the scratch folder where the saves' own folder is laid")
    ]
    also: Annotated[
        tuple[Below, ...],
        hint("files and folders of the saves' own folder that the game needs too, as add-ons"),
    ] = ()
    files: Annotated[
        dict[Below, str], hint("what else the program needs there: texts, by their paths")
    ] = {}
    environment: Annotated[dict[Setting, Word], hint("variables that it gets")] = {}
    input: Annotated[tuple[PromptInfo, ...], hint("what it is told on its standard input")] = ()
    terminal: Annotated[
        bool,
        hint(
            "whether it runs at a terminal (80 by 24): lines are typed key by key, and an empty "
            "one is Enter"
        ),
    ] = False
    reads: Annotated[
        tuple[Below, ...], hint("files that it writes there whose text counts as its output")
    ] = ()
    loaded: Annotated[
        tuple[Line, ...], hint("texts any of which says that the save is loaded")
    ] = ()
    refused: Annotated[tuple[Line, ...], hint("texts any of which says that it is not")] = ()
    exits: Annotated[
        tuple[int, ...], hint("the exit codes that it has where it has loaded the save")
    ] = ()
    stopped_after: Annotated[
        Annotated[float, Meta(ge=0, le=600)] | None,
        hint(
            "seconds after which it is ended once it has loaded, as servers go on for ever; "
            "without it, it ends by itself"
        ),
    ] = None
    tells: Annotated[
        dict[Id, Line],
        hint("facts that it tells: the text around each on its line, with {} for its value"),
    ] = {}
    seconds: Annotated[int, Meta(ge=1, le=3600, description="so long it may take")] = 120
    mebibytes: Annotated[int, Meta(ge=16, le=1 << 20, description="so much memory it may use")] = (
        4096
    )

    def __post_init__(self) -> None:
        if any(one.lower().removesuffix(".exe") in _SHELLS for one in self.program):
            raise ValueError("a shell is no game: name the program itself")
        if any(one.startswith(_BARRED) or one == "PATH" for one in self.environment):
            raise ValueError("`environment` can't say which code programs are made of")
        if not self.loaded and (self.stopped_after is not None or not self.exits):
            raise ValueError("say in `loaded` or in `exits` what shows that it has loaded the save")
        if self.stopped_after is not None and self.exits:
            raise ValueError("what is ended (`stopped_after`) has no exit code of its own")
        for one in self.tells.values():
            parts = parts_of(one)
            if parts.count("{}") != 1 or any(x == y == "" for x, y in pairwise(parts[::2])):
                raise ValueError(
                    "each text in `tells` has {} once, where the value stands, and "
                    "text between that and each {any}, which is any text"
                )
        for path in (self.lays, *self.also, *self.files, *self.reads):
            if path.startswith("/") or ".." in path.split("/") or ":" in path:
                raise ValueError(f"{path!r} is no path below the scratch folder")

    @property
    def texts(self) -> dict[str, str]:
        """All texts in which something is filled, by their keys."""
        found = {f"arguments[{at}]": one for at, one in enumerate(self.arguments, 1)}
        found |= {f"environment.{name}": one for name, one in self.environment.items()}
        found |= {f"files.{path}": text for path, text in self.files.items()}
        for at, prompt in enumerate(self.input, 1):
            found |= {f"input[{at}].lines[{n}]": one for n, one in enumerate(prompt.lines, 1)}
        found |= {f"reads[{at}]": one for at, one in enumerate(self.reads, 1)}
        return found | {"lays": self.lays}


def loader_faults(
    loader: LoaderInfo, fields: Collection[str], facts: Collection[str]
) -> Iterator[tuple[str, str]]:
    """Say which keys name what is not there: `fields` of names, and `facts`."""
    for key, text in loader.texts.items():
        there = (
            {*fields, "slot"}
            if key == "lays" or key.startswith("reads")
            else {*fields, "slot", *_LAID}
        )
        for name in _NAMED.findall(text):
            if name not in there:
                yield f"loader.{key}", f"nothing fills {{{name}}}; {known(there)}"
    for key in loader.tells:
        if key not in facts:
            yield f"loader.tells.{key}", f"there is no such fact; {known(facts)}"
