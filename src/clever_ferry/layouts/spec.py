"""What a recipe may say of a binary layout: its fields in order, each with its type.

The models here are the language; `codec` gives them their meaning in bytes.
"""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

__all__ = [
    "BytesSpec",
    "FieldSpec",
    "LayoutSpec",
    "LengthSpec",
    "ListSpec",
    "MagicSpec",
    "NestedSpec",
    "NumberSpec",
    "TextSpec",
    "VarintSpec",
]

Order = Literal["little", "big"]
NumberType = Literal["u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64"]
LengthType = Literal["u8", "u16", "u32", "u64", "varint"]
VarintStyle = Literal["sevens", "ones"]
DigestName = Literal["size", "crc32", "adler32", "sum8", "sum16", "sum32"]
_NAME = Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")


class _Spec(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class LengthSpec(_Spec):
    """A length or count in front of what it measures, where its type alone does not say it."""

    type: LengthType
    style: VarintStyle = "sevens"
    plus: int = Field(default=0, ge=0, description="by how much it is more than what it measures")


Length = LengthType | LengthSpec


class ComputedSpec(_Spec):
    """A value that is worked out on writing and checked on reading."""

    what: DigestName
    of: Literal["before", "inside", "payload"] = Field(
        description="the layout's bytes before this field, the bytes that this header stands "
        "before, or the payload within all further layers"
    )


class NumberSpec(_Spec):
    """A number of fixed size."""

    type: NumberType
    name: str = _NAME
    order: Order | None = None
    equals: int | None = Field(default=None, description="the only value that is right")
    usual: int | None = Field(default=None, description="what to write where none is known")
    bound: str | None = Field(default=None, description="the name field that it repeats")
    computed: ComputedSpec | None = None


class VarintSpec(_Spec):
    """A whole number in as many bytes as it needs.

    `sevens`: seven bits a byte, low ones first, the top bit set where more follow.
    `ones`: as many ones at the top of the first byte as bytes follow, high ones first.
    """

    type: Literal["varint"]
    name: str = _NAME
    style: VarintStyle = "sevens"
    equals: int | None = None


class MagicSpec(_Spec):
    """Bytes that must stand exactly so."""

    type: Literal["magic"]
    text: str | None = None
    hex: str | None = Field(default=None, pattern=r"^([0-9a-fA-F]{2})+$")

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if (self.text is None) == (self.hex is None):
            raise ValueError("a magic has either `text` or `hex`")
        return self

    @property
    def data(self) -> bytes:
        """The bytes themselves."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode("latin-1")


class _Framed(_Spec):
    size: int | Literal["rest"] | str | None = Field(
        default=None, description='bytes: a number, an earlier field\'s name, or "rest"'
    )
    length: Length | None = Field(default=None, description="a length of this type in front")

    @model_validator(mode="after")
    def _framed_once(self) -> Self:
        if (self.size is None) == (self.length is None):
            raise ValueError("say either `size` or `length`")
        if isinstance(self.size, int) and self.size < 0:
            raise ValueError("a size can't be negative")
        return self


class BytesSpec(_Framed):
    """Bytes that are kept as they are."""

    type: Literal["bytes"]
    name: str = _NAME
    bound: str | None = Field(default=None, description="the name field that it repeats, as hex")


class TextSpec(_Framed):
    """Text in a stated encoding."""

    type: Literal["text"]
    name: str = _NAME
    encoding: Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"] = "utf-8"
    equals: str | None = None


class NestedSpec(_Spec):
    """Another layout, framed by a length where one is given."""

    type: Literal["layout"]
    name: str = _NAME
    of: str
    length: Length | None = None


class ListSpec(_Spec):
    """Many of one layout: a count in front, or as many as fit, or until one that ends them."""

    type: Literal["list"]
    name: str = _NAME
    of: str
    count: Literal["rest"] | Length | None = None
    until: dict[str, int | str] | None = Field(
        default=None, description="the last one has these values; it is part of the list"
    )

    @model_validator(mode="after")
    def _ends_one_way(self) -> Self:
        if (self.count is None) == (self.until is None):
            raise ValueError("say either `count` or `until`")
        return self


FieldSpec = Annotated[
    NumberSpec | VarintSpec | MagicSpec | BytesSpec | TextSpec | NestedSpec | ListSpec,
    Field(discriminator="type"),
]


class LayoutSpec(_Spec):
    """The fields of one layout, in order."""

    order: Order = "little"
    fields: tuple[FieldSpec, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _names_differ(self) -> Self:
        names = [field.name for field in self.fields if not isinstance(field, MagicSpec)]
        twice = {name for name in names if names.count(name) > 1}
        if twice:
            raise ValueError(f"two fields are named {min(twice)!r}")
        return self
