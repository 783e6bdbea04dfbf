"""What a recipe may say of a binary layout: its fields in order, each with its type.

The models here are the language; the modules beside give them their meaning in bytes.
"""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit

__all__ = [
    "LENGTH_TYPES",
    "NUMBER_TYPES",
    "BitsSpec",
    "BytesSpec",
    "ChoiceSpec",
    "ComputedSpec",
    "FieldSpec",
    "IdentifierSpec",
    "LayoutSpec",
    "LengthSpec",
    "ListSpec",
    "MagicSpec",
    "NestedSpec",
    "NumberSpec",
    "PaddingSpec",
    "PartsSpec",
    "SpanSpec",
    "TextSpec",
    "TimeSpec",
    "VarintSpec",
]

Order = Literal["little", "big"]
IntType = Literal["u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64"]
NumberType = Literal["u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "f32", "f64"]
LengthType = Literal["u8", "u16", "u32", "u64", "i8", "i16", "i32", "i64", "varint"]
NUMBER_TYPES: frozenset[str] = frozenset(NumberType.__args__)  # type: ignore[attr-defined]
LENGTH_TYPES: frozenset[str] = frozenset(LengthType.__args__)  # type: ignore[attr-defined]
VarintStyle = Literal["sevens", "ones", "zigzag"]
_NAME = Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")


class _Spec(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True, populate_by_name=True)


class LengthSpec(_Spec):
    """A length or count in front of what it measures, where its type alone does not say it."""

    type: LengthType
    order: Order | None = None
    style: VarintStyle = "sevens"
    plus: int = Field(default=0, ge=0, description="by how much it is more than what it measures")


Length = LengthType | LengthSpec


class SpanSpec(_Spec):
    """The bytes from one field of the layout to another, both included."""

    from_: str = Field(alias="from")
    to: str


class ComputedSpec(_Spec):
    """A value that is worked out on writing and checked on reading."""

    what: DigestName | Literal["count", "offset"]
    of: str | SpanSpec = Field(
        description="`before`, `after` or `all` of the layout's bytes; the bytes `inside` a header "
        "layer, `onward` from this field through those, or the `payload` within all further "
        "layers; a field; a span of fields"
    )
    seed: int | None = Field(default=None, ge=0)
    xor: int | None = Field(default=None, ge=0, description="applied to the result")
    plus: int = Field(default=0, description="added to a size, count or offset")

    @property
    def outside(self) -> bool:
        """Whether it is reckoned over bytes that are not only the layout's own."""
        return self.of in ("inside", "onward", "payload")


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
    `zigzag`: the same, with the sign in the lowest bit.
    `ones`: as many ones at the top of the first byte as bytes follow, high ones first.
    """

    type: Literal["varint"]
    name: str = _NAME
    style: VarintStyle = "sevens"
    equals: int | None = None


class BitsSpec(_Spec):
    """Several small numbers in one, the lowest bits first."""

    type: Literal["bits"]
    name: str = _NAME
    within: Literal["u8", "u16", "u32", "u64"]
    order: Order | None = None
    parts: dict[str, int] = Field(min_length=1, description="name = how many bits")

    @model_validator(mode="after")
    def _all_bits(self) -> Self:
        bits = int(self.within[1:])
        if sum(self.parts.values()) != bits or min(self.parts.values()) < 1:
            raise ValueError(f"the parts must make up {bits} bits, each at least one")
        return self


class TimeSpec(_Spec):
    """A time stamp; its value is in nanoseconds since 1970, or nothing where it is zero."""

    type: Literal["time"]
    name: str = _NAME
    within: IntType = "i64"
    order: Order | None = None
    unit: StampUnit


class MagicSpec(_Spec):
    """Bytes that must stand exactly so."""

    type: Literal["magic"]
    text: str | None = None
    hex: str | None = Field(default=None, pattern=r"^([0-9a-fA-F]{2})+$")

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if (self.text is None) == (self.hex is None):
            raise ValueError("a magic has either `text` or `hex`")
        if self.text is not None and not all(ord(char) < 256 for char in self.text):
            raise ValueError("a magic's `text` is Latin-1; write other bytes as `hex`")
        return self

    @property
    def data(self) -> bytes:
        """The bytes themselves."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode("latin-1")


class PaddingSpec(_Spec):
    """Bytes that only fill; what stands there is kept all the same."""

    type: Literal["padding"]
    size: int | None = Field(default=None, ge=1)
    to: int | None = Field(default=None, ge=2, le=65536, description="up to a multiple of this")
    fill: int = Field(default=0, ge=0, le=255)

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if (self.size is None) == (self.to is None):
            raise ValueError("padding has either `size` or `to`")
        return self


class IdentifierSpec(_Spec):
    """A 16-byte identifier, as text of five groups; `mixed` has the first three little-endian."""

    type: Literal["identifier"]
    name: str = _NAME
    order: Literal["big", "mixed"] = "big"


class _Framed(_Spec):
    size: int | str | None = Field(
        default=None, description='bytes: a number, an earlier field\'s name, or "rest"'
    )
    length: Length | None = Field(default=None, description="a length of this type in front")

    @model_validator(mode="after")
    def _framed_once(self) -> Self:
        ways = (self.size, self.length, getattr(self, "ends", None))
        if sum(way is not None for way in ways) != 1:
            raise ValueError("say either `size` or `length`")
        if isinstance(self.size, int) and self.size < 0:
            raise ValueError("a size can't be negative")
        return self


class BytesSpec(_Framed):
    """Bytes that are kept as they are."""

    type: Literal["bytes"]
    name: str = _NAME
    bound: str | None = Field(default=None, description="the name field that it repeats, as hex")
    computed: ComputedSpec | None = None


class TextSpec(_Framed):
    """Text in a stated encoding."""

    type: Literal["text"]
    name: str = _NAME
    encoding: Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"] = "utf-8"
    ends: Literal["zero"] | None = Field(default=None, description="a zero character ends it")
    counts: Literal["bytes", "characters"] = Field(
        default="bytes", description="what the length in front counts"
    )
    zero: Literal["counted", "extra"] | None = Field(
        default=None, description="a zero character follows, within the length or beyond it"
    )
    pad: int | None = Field(default=None, ge=0, le=255, description="fills a fixed size")
    equals: str | None = None
    usual: str | None = Field(default=None, description="what to write where none is known")
    bound: str | None = Field(default=None, description="the name field that it repeats")


class NestedSpec(_Spec):
    """Another layout, framed by a length where one is given."""

    type: Literal["layout"]
    name: str = _NAME
    of: str
    length: Length | None = None


class ListSpec(_Spec):
    """Many of one layout or number: counted, measured, to the end, or to one that ends them."""

    type: Literal["list"]
    name: str = _NAME
    of: str = Field(description="a layout, or a type of number")
    count: int | str | LengthSpec | None = Field(
        default=None, description="a type in front, a number, an earlier field's name, or `rest`"
    )
    length: Length | None = Field(default=None, description="their bytes, in front")
    until: dict[str, int | str] | None = Field(
        default=None, description="the last one has these values; it is part of the list"
    )

    @model_validator(mode="after")
    def _ends_one_way(self) -> Self:
        if sum(way is not None for way in (self.count, self.length, self.until)) != 1:
            raise ValueError("say either `count`, `length` or `until`")
        return self


class ChoiceSpec(_Spec):
    """One of several layouts, by an earlier field's value; of an unknown value, the bytes."""

    type: Literal["choice"]
    name: str = _NAME
    by: str = Field(description="the earlier field whose value decides")
    of: dict[str, str] = Field(min_length=1, description="value = layout, or a type of number")
    otherwise: str | None = Field(default=None, description="the layout for every other value")
    size: str | None = Field(default=None, description="an earlier field with the bytes, or `rest`")
    length: Length | None = None


class PartsSpec(_Spec):
    """Bytes that an earlier list says the offset and size of, one run per record."""

    type: Literal["parts"]
    name: str = _NAME
    table: str = Field(description="the earlier list")
    offset: str = Field(description="in its records: the offset")
    size: str = Field(description="in its records: the size")
    counted: Literal["start", "here"] = Field(
        default="start", description="offsets count from the layout's start, or from this field's"
    )
    align: int = Field(default=1, ge=1, le=65536, description="each begins at a multiple of this")
    fill: int = Field(default=0, ge=0, le=255)


FieldSpec = Annotated[
    NumberSpec
    | VarintSpec
    | BitsSpec
    | TimeSpec
    | MagicSpec
    | PaddingSpec
    | IdentifierSpec
    | BytesSpec
    | TextSpec
    | NestedSpec
    | ListSpec
    | ChoiceSpec
    | PartsSpec,
    Field(discriminator="type"),
]


class LayoutSpec(_Spec):
    """The fields of one layout, in order."""

    order: Order = "little"
    fields: tuple[FieldSpec, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _names_differ(self) -> Self:
        names = [name for field in self.fields if (name := getattr(field, "name", None))]
        twice = {name for name in names if names.count(name) > 1}
        if twice:
            raise ValueError(f"two fields are named {min(twice)!r}")
        return self
