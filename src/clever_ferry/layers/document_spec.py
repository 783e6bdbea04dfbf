"""What a recipe may say of layers that look into a document: agreements, identities, paths."""

from collections.abc import Iterator
from typing import Annotated, Literal

from clever_ferry.documents.places import place_fault
from clever_ferry.layers.spec_base import Fault, LayerModel, Layouts
from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit
from clever_ferry.layouts.tracing import trace
from clever_ferry.model import Meta, Model, hint

__all__ = [
    "AGREEING",
    "LOOKING",
    "AgreementSpec",
    "AgreesSpec",
    "IdentitySpec",
    "ListsSpec",
    "PathsSpec",
    "StageSpec",
]


class _Placed(LayerModel):
    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what is written as no place."""
        for number, place in enumerate(getattr(self, "at", ()), 1):
            if why := place_fault(place):
                yield f"at[{number}]", why


Spelling = Literal["decimal", "hex", "HEX", "number-hex", "number-HEX", "base64", "hex-little"]


_Stage = Annotated[
    str, hint("which of its bytes: as they lie (`file`), innermost (`payload`), or a `stage`")
]
_Spelled = Annotated[Spelling | None, hint("how it is spelled there, where it is not as itself")]
_Digits = Annotated[Annotated[int, Meta(ge=1, le=64)] | None, hint("how many digits at least")]


class AgreementSpec(Model):
    """A place in a document, and what stands there: what it agrees with."""

    at: Annotated[str | tuple[str, ...], hint("where; of several places all must say the same")]
    field: Annotated[str | None, hint("a name field, such as the account")] = None
    fact: Annotated[str | None, hint("a fact of the save")] = None
    piece: Annotated[str | None, hint("the bytes of the piece of this role")] = None
    what: Annotated[DigestName | None, hint("what of a piece's bytes: `size`, a checksum")] = None
    stage: _Stage = "file"
    written: Annotated[StampUnit | None, hint("the time of writing, in this unit")] = None
    counts: Annotated[bool, hint("a number that goes up by 1 per writing")] = False
    always: Annotated[int | str | None, hint("this and nothing else")] = None
    plus: Annotated[int, hint("added to a number: -1 where slots count from 0")] = 0
    spelled: _Spelled = None
    digits: _Digits = None
    kept: Annotated[
        bool, hint("where nothing else is known, the source's stays, as in a world")
    ] = False
    fixed: Annotated[
        bool, hint("it can't be written, as a checksum that nobody knows guards it")
    ] = False

    def __post_init__(self) -> None:
        ways = (self.field, self.fact, self.piece, self.written, self.counts or None, self.always)
        if sum(way is not None for way in ways) != 1:
            raise ValueError(
                "say one of `field`, `fact`, `piece`, `written`, `counts` and `always`"
            )
        if (self.piece is None) != (self.what is None):
            raise ValueError("`piece` and `what` go together")
        if self.piece is None and self.stage != "file":
            raise ValueError("a `stage` is one of a `piece`")
        if (self.kept or self.fixed) and self.field is None:
            raise ValueError("only a `field` can be `kept` or `fixed`")
        if self.kept and self.fixed:
            raise ValueError("say either `kept` or `fixed`")
        if self.plus and (self.counts or self.written or self.always is not None):
            raise ValueError("`plus` is added to a `field`, a `fact` or a `piece`'s size")
        if self.plus and self.what not in (None, "size"):
            raise ValueError("a checksum is not added to")
        if self.digits is not None and self.spelled in (None, "base64", "hex-little"):
            raise ValueError("`digits` are of what is `spelled` decimal or hex")

    @property
    def places(self) -> tuple[str, ...]:
        """Where it stands."""
        return (self.at,) if isinstance(self.at, str) else self.at

    @property
    def words(self) -> str:
        """What it agrees with, in a few words."""
        if self.piece is not None:
            return f"{self.what} of the {self.piece}"
        if self.always is not None:
            return f"{self.always!r}"
        named = self.field or self.fact or ""
        return named or ("count" if self.counts else "time of writing")


class AgreesSpec(LayerModel, tag="agrees"):
    """Values in a document agree with what is known elsewhere; the target's are written."""

    MADE_BY = "agreements.Agreements"

    holds: Annotated[str, hint("the form of the document, or a layout")]
    values: Annotated[
        tuple[AgreementSpec, ...],
        Meta(description="what must be so, and because of what", min_length=1),
    ]

    @property
    def words(self) -> str:
        """What is made to agree."""
        return f"the {', '.join(one.words for one in self.values)} inside"

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what is written as no place, and places that a layout does not have."""
        for number, one in enumerate(self.values, 1):
            for place in one.places:
                if why := place_fault(place):
                    yield f"values[{number}].at", why
                elif self.holds in layouts and not (
                    trace(layouts, self.holds, place) & {"number", "text", "bytes", "identifier",
                                                         "time"}
                ):  # fmt: skip
                    yield f"values[{number}].at", f"no value stands at {place} in {self.holds}"


class IdentitySpec(_Placed, tag="identity"):
    """A name field, such as the account, stands in a document; the target's is written."""

    MADE_BY = "agreements.Agreements"

    holds: Annotated[str, hint("the form of the document, or a layout")]
    at: Annotated[
        tuple[str, ...], Meta(min_length=1, description="paths of it; `*` is every name there")
    ]
    bound: Annotated[str, hint("the name field")]
    kept: Annotated[
        bool, hint("where nothing else is known, the source's stays, as in a world")
    ] = False

    @property
    def words(self) -> str:
        """Whose it is."""
        return f"the {self.bound} inside"

    @property
    def values(self) -> tuple[AgreementSpec, ...]:
        """The same as agreements."""
        return (AgreementSpec(at=self.at, field=self.bound, kept=self.kept),)


class ListedModel(Model):
    """One value of each line."""

    at: Annotated[str, hint("where in the line; the line itself, without")] = ""
    what: Annotated[
        DigestName | Literal["name", "path"],
        hint("the file's `name`, its whole `path` here, or its `size` or a checksum of its bytes"),
    ] = "name"
    stage: _Stage = "file"
    spelled: _Spelled = None
    digits: _Digits = None

    @property
    def names(self) -> bool:
        """Whether it says which file the line is of."""
        return self.what in ("name", "path")

    def __post_init__(self) -> None:
        if self.at and not self.at.startswith("/"):
            raise ValueError("`at` goes on from the line, so it starts with '/'")
        if self.names and (self.stage != "file" or self.spelled or self.digits):
            raise ValueError("a name has no `stage`, and is not `spelled` otherwise")
        if self.digits is not None and self.spelled in (None, "base64", "hex-little"):
            raise ValueError("`digits` are of what is `spelled` decimal or hex")


class ListsSpec(LayerModel, tag="lists"):
    """A document has a line for each file of its save: its name, and its size or a checksum."""

    MADE_BY = "lists.Lists"

    holds: Annotated[str, hint("the form of the document")]
    at: Annotated[str, hint("where the lines are: all that stand there are the list")]
    of: Annotated[tuple[str, ...], Meta(description="the roles that it names", min_length=1)]
    values: Annotated[tuple[ListedModel, ...], Meta(description="what a line says", min_length=1)]
    between: Annotated[
        str, hint("what stands between lines, where only one is there to tell it")
    ] = ","

    def __post_init__(self) -> None:
        if sum(one.names for one in self.values) != 1:
            raise ValueError("of the `values`, one is the `name` or the `path`")

    @property
    def words(self) -> str:
        """What is made anew."""
        return "the list of files inside"

    def agreements(self) -> tuple[AgreementSpec | None, ...]:
        """Return each value as an agreement with a piece's bytes; None for the name."""
        return tuple(
            None if one.what == "name" or one.what == "path" else
            AgreementSpec(at=f"{self.at}{one.at}", piece=self.of[0], what=one.what,
                          stage=one.stage, spelled=one.spelled, digits=one.digits)
            for one in self.values
        )  # fmt: skip

    def name_of(self, entry: str) -> str:
        """Return how a file is named in it, by its path here."""
        whole = any(one.what == "path" for one in self.values)
        return entry if whole else entry.rpartition("/")[2]

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what is written as no place, and forms that have no lines."""
        if self.holds in layouts or self.holds == "sqlite":
            yield "holds", f"{self.holds!r} has no lines that could be made anew"
        places = {f"values[{number}].at": one.at for number, one in enumerate(self.values, 1)}
        for key, place in {"at": "", **places}.items():
            place = f"{self.at}{place}"
            if why := place_fault(place):
                yield key, why


AGREEING = (AgreesSpec, IdentitySpec)
"""Layers whose values agree one by one."""
LOOKING = (*AGREEING, ListsSpec)
"""Layers that look into a document for what must be so; a `PathsSpec` does for paths."""


class StageSpec(LayerModel, tag="stage"):
    """Changes nothing: it names the bytes as they are here, so that others can speak of them."""

    MADE_BY = "agreements.Stage"

    name: Annotated[str, hint('what others call it, as in `at_stage = "once"`')]

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield names that mean something else already."""
        if self.name in ("file", "payload"):
            yield "name", f"{self.name!r} is a stage of every piece already"


class PathsSpec(_Placed, tag="paths"):
    """Paths stand in a text piece; those in known folders are written as the target has them."""

    MADE_BY = "paths.Paths"

    holds: Annotated[str, hint("the form of the document")]
    at: Annotated[tuple[str, ...], Meta(min_length=1, description="where; `*` is every name there")]

    @property
    def words(self) -> str:
        """What is in it."""
        return "paths of folders inside"
