"""What a recipe says of forms that have no standard: blocks, sections, and start scripts."""

from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from clever_ferry.model import Meta, Model, hint, one_of

__all__ = ["BlocksSpec", "FormSpec", "ScriptSpec", "SectionsSpec"]

_Sign = Annotated[str, Meta(min_length=1, max_length=3)]


class _Spec(Model, tag_field="kind"):
    MADE_BY: ClassVar[str] = ""
    """The form's class, behind the room of this package that it is in."""


class BlocksSpec(_Spec, tag="blocks"):
    """Names with values, and blocks of them; names may repeat, and order counts."""

    MADE_BY = "blocks_text.Blocks"

    opens: Annotated[_Sign, hint("what opens a block")] = "{"
    closes: Annotated[_Sign, hint("what closes it")] = "}"
    indented: Annotated[
        bool, hint("blocks are told by their indentation instead of `opens` and `closes`")
    ] = False
    assigns: Annotated[tuple[_Sign, ...], hint("what may stand between a name and its value")] = (
        "=",
    )
    ends: Annotated[_Sign | None, hint("what ends a value, besides the end of its line")] = None
    quote: Annotated[_Sign | None, hint("what stands around texts")] = '"'
    escape: Annotated[_Sign | None, hint("what makes a quote part of a text")] = "\\"
    comments: Annotated[tuple[_Sign, ...], hint("what begins a remark, up to its line's end")] = (
        "#", "//",
    )  # fmt: skip

    def __post_init__(self) -> None:
        signs = [*self.assigns, *filter(None, [self.ends, self.quote]), *self.comments]
        signs += [] if self.indented else [self.opens, self.closes]
        if len(set(signs)) < len(signs):
            raise ValueError("two of the signs are the same")
        if any(sign != sign.strip() or sign.isalnum() for sign in signs):
            raise ValueError("a sign can be neither blank nor a letter or digit")
        if self.indented and (self.opens, self.closes) != ("{", "}"):
            raise ValueError("indented blocks have no signs that open or close them")
        if self.quote is None and self.escape != "\\":
            raise ValueError("there is no `quote` for an `escape` to be of use in")


class SectionsSpec(_Spec, tag="sections"):
    """INI whose texts stand between quotes: `name="Isa"`."""

    MADE_BY = "ini_text.Ini"

    quote: Annotated[_Sign, hint("what stands around texts")] = '"'
    escape: Annotated[_Sign | None, hint("what makes a quote, or itself, part of a text")] = "\\"

    def __post_init__(self) -> None:
        if any(sign != sign.strip() or sign.isalnum() for sign in (self.quote, self.escape or "-")):
            raise ValueError("a sign can be neither blank nor a letter or digit")
        if self.quote == self.escape:
            raise ValueError("two of the signs are the same")


class ScriptSpec(_Spec, tag="script"):
    """A start script: the values behind the options of its commands, and what it sets."""

    MADE_BY = "script_text.Script"

    shell: Annotated[Literal["sh", "bat"], hint("whose script it is")] = "sh"


_Any = BlocksSpec | SectionsSpec | ScriptSpec
if TYPE_CHECKING:
    FormSpec = _Any
else:
    FormSpec = one_of(_Any)
