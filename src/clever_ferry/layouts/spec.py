"""What a recipe may say of a binary layout: its fields in order, each with its type.

The models here are the language; the modules beside give them their meaning in bytes.
"""

from typing import TYPE_CHECKING, Annotated, Literal, get_args

from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit
from clever_ferry.model import HexBytes, Meta, Model, hint, one_of, spelled

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
NUMBER_TYPES: frozenset[str] = frozenset(get_args(NumberType))
LENGTH_TYPES: frozenset[str] = frozenset(get_args(LengthType))
VarintStyle = Literal["sevens", "ones", "zigzag"]
FieldName = Annotated[
    str, spelled("[a-z][a-z0-9_]{0,39}", "small letters, digits and _, such as play_time")
]


MOST_BYTES = 1 << 28
"""Bytes of the largest field of a fixed size, which is held whole."""


class _Spec(Model, tag_field="type"):
    pass


class LengthSpec(Model):
    """A length or count in front of what it measures, where its type alone does not say it."""

    type: LengthType
    order: Annotated[Order | None, hint("of its bytes")] = None
    style: Annotated[VarintStyle, hint("how a varint is spelled")] = "sevens"
    plus: Annotated[int, Meta(ge=0, description="by how much it is more than what it measures")] = 0


Length = LengthType | LengthSpec


class SpanSpec(Model, rename={"from_": "from"}):
    """The bytes from one field of the layout to another, both included."""

    from_: Annotated[str, hint("the first field of the span")]
    to: Annotated[str, hint("the last one")]


class ComputedSpec(Model):
    """A value that is worked out on writing and checked on reading."""

    what: Annotated[DigestName | Literal["count", "offset"], hint("what is computed")]
    of: Annotated[
        str | SpanSpec,
        hint(
            "`before`, `after` or `all` of the layout's bytes; the bytes `inside` a header "
            "layer, `onward` from this field through those, the `whole` layout (this field as "
            "zeros) and those, or the `payload` within all further layers; a field; a span of "
            "fields"
        ),
    ] = ""
    at_stage: Annotated[
        str | None, hint("instead of `of`: the bytes that a layer further within names as a stage")
    ] = None
    seed: Annotated[Annotated[int, Meta(ge=0)] | None, hint("where a checksum begins")] = None
    xor: Annotated[Annotated[int, Meta(ge=0)] | None, hint("applied to the result")] = None
    plus: Annotated[int, hint("added to a size, count or offset")] = 0

    @property
    def outside(self) -> bool:
        """Whether it is computed over bytes that are not only the layout's own."""
        return self.at_stage is not None or self.of in ("inside", "onward", "whole", "payload")

    @property
    def stage(self) -> str:
        """The stage that it speaks of, further within: `payload` is the innermost; '' for none."""
        return self.at_stage or ("payload" if self.of == "payload" else "")

    def __post_init__(self) -> None:
        if (self.of == "") == (self.at_stage is None):
            raise ValueError("say either `of` or `at_stage`")


class NumberSpec(_Spec):
    """A number of fixed size."""

    TAGS = get_args(NumberType)

    name: Annotated[FieldName, hint("what it is called")]
    order: Annotated[Order | None, hint("of its bytes; the layout's own without it")] = None
    equals: Annotated[int | None, hint("the only value that is right")] = None
    usual: Annotated[int | None, hint("what to write where none is known")] = None
    bound: Annotated[str | None, hint("the name field or fact that it repeats")] = None
    plus: Annotated[int, hint("added to what it repeats: -1 where slots count from 0")] = 0
    computed: Annotated[ComputedSpec | None, hint("what it follows from")] = None

    def __post_init__(self) -> None:
        if self.plus and self.bound is None:
            raise ValueError("`plus` is added to what a number is `bound` to")


class VarintSpec(_Spec, tag="varint"):
    """A whole number in as many bytes as it needs.

    `sevens`: seven bits a byte, low ones first, the top bit set where more follow.
    `zigzag`: the same, with the sign in the lowest bit.
    `ones`: as many ones at the top of the first byte as bytes follow, high ones first.
    """

    name: Annotated[FieldName, hint("what it is called")]
    style: Annotated[VarintStyle, hint("how it is spelled")] = "sevens"
    equals: Annotated[int | None, hint("the only right value")] = None


class BitsSpec(_Spec, tag="bits"):
    """Several small numbers in one, the lowest bits first."""

    name: Annotated[FieldName, hint("what it is called")]
    within: Annotated[Literal["u8", "u16", "u32", "u64"], hint("the number that they are in")]
    order: Annotated[Order | None, hint("of its bytes")] = None
    parts: Annotated[dict[str, int], Meta(min_length=1, description="name = how many bits")]

    def __post_init__(self) -> None:
        bits = int(self.within[1:])
        if sum(self.parts.values()) != bits or min(self.parts.values()) < 1:
            raise ValueError(f"the parts must make up {bits} bits, each at least one")


class TimeSpec(_Spec, tag="time"):
    """A time stamp; its value is in nanoseconds since 1970, or nothing where it is zero."""

    name: Annotated[FieldName, hint("what it is called")]
    within: Annotated[IntType, hint("the number that it is")] = "i64"
    order: Annotated[Order | None, hint("of its bytes")] = None
    unit: Annotated[StampUnit, hint("what it counts, and from when")]


class MagicSpec(_Spec, tag="magic"):
    """Bytes that must stand exactly so."""

    text: Annotated[str | None, hint("the bytes, as text")] = None
    hex: Annotated[HexBytes | None, hint("the bytes, as hexadecimal digits")] = None

    def __post_init__(self) -> None:
        if (self.text is None) == (self.hex is None):
            raise ValueError("a magic has either `text` or `hex`")
        if self.text is not None and not all(ord(char) < 256 for char in self.text):
            raise ValueError("a magic's `text` is Latin-1; write other bytes as `hex`")

    @property
    def data(self) -> bytes:
        """The bytes themselves."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode("latin-1")


class PaddingSpec(_Spec, tag="padding"):
    """Bytes that only fill; what stands there is kept all the same."""

    size: Annotated[Annotated[int, Meta(ge=1, le=MOST_BYTES)] | None, hint("bytes")] = None
    to: Annotated[Annotated[int, Meta(ge=2, le=65536)] | None, hint("up to a multiple of this")] = (
        None
    )
    fill: Annotated[int, Meta(description="the byte that is written", ge=0, le=255)] = 0

    def __post_init__(self) -> None:
        if (self.size is None) == (self.to is None):
            raise ValueError("padding has either `size` or `to`")


class IdentifierSpec(_Spec, tag="identifier"):
    """A 16-byte identifier, as text of five groups; `mixed` has the first three little-endian."""

    name: Annotated[FieldName, hint("what it is called")]
    order: Annotated[
        Literal["big", "mixed"], hint("of its bytes: `mixed` turns the first three groups round")
    ] = "big"


class _Framed(_Spec):
    size: Annotated[
        int | str | None, Meta(description='bytes: a number, an earlier field\'s name, or "rest"')
    ] = None
    length: Annotated[Length | None, hint("a length of this type in front")] = None

    def __post_init__(self) -> None:
        ways = (self.size, self.length, getattr(self, "ends", None))
        if sum(way is not None for way in ways) != 1:
            raise ValueError("say either `size` or `length`")
        if isinstance(self.size, int) and not 0 <= self.size <= MOST_BYTES:
            raise ValueError(f"a size is from 0 to {MOST_BYTES:,} bytes")


class BytesSpec(_Framed, tag="bytes"):
    """Bytes that are kept as they are."""

    name: Annotated[FieldName, hint("what it is called")]
    bound: Annotated[str | None, hint("the name field or fact that it repeats, as hex")] = None
    computed: Annotated[ComputedSpec | None, hint("what it follows from")] = None


class TextSpec(_Framed, tag="text"):
    """Text in a stated encoding."""

    name: Annotated[FieldName, hint("what it is called")]
    encoding: Annotated[
        Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"],
        hint("how letters are spelled"),
    ] = "utf-8"
    ends: Annotated[
        Annotated[str, Meta(min_length=1, max_length=16)] | None,
        hint("what ends it and is no part of it: `zero` (a zero character), or this text"),
    ] = None
    number: Annotated[
        Literal["decimal", "hex", "HEX"] | None, hint("it is a number, written as these digits")
    ] = None
    digits: Annotated[
        Annotated[int, Meta(ge=1, le=64)] | None, hint("how many digits such a number has at least")
    ] = None
    counts: Annotated[Literal["bytes", "characters"], hint("what the length in front counts")] = (
        "bytes"
    )
    zero: Annotated[
        Literal["counted", "extra"] | None,
        hint("a zero character follows, within the length or beyond it"),
    ] = None
    pad: Annotated[Annotated[int, Meta(ge=0, le=255)] | None, hint("fills a fixed size")] = None
    equals: Annotated[str | None, hint("the only right value")] = None
    usual: Annotated[str | None, hint("what to write where none is known")] = None
    bound: Annotated[str | None, hint("the name field or fact that it repeats")] = None


class NestedSpec(_Spec, tag="layout"):
    """Another layout, framed by a length where one is given."""

    name: Annotated[FieldName, hint("what it is called")]
    of: Annotated[str, hint("the layout")]
    length: Annotated[Length | None, hint("how many bytes it has, in front of it")] = None


class ListSpec(_Spec, tag="list"):
    """Many of one layout or number: counted, measured, to the end, or to one that ends them."""

    name: Annotated[FieldName, hint("what it is called")]
    of: Annotated[str, hint("a layout, or a type of number")]
    count: Annotated[
        int | str | LengthSpec | None,
        hint("a type in front, a number, an earlier field's name, or `rest`"),
    ] = None
    length: Annotated[Length | None, hint("their bytes, in front")] = None
    until: Annotated[
        dict[str, int | str] | None,
        hint("the last one has these values (by name, or by place); it is in the list"),
    ] = None

    def __post_init__(self) -> None:
        if sum(way is not None for way in (self.count, self.length, self.until)) != 1:
            raise ValueError("say either `count`, `length` or `until`")
        if isinstance(self.count, int) and not 0 <= self.count <= MOST_BYTES:
            raise ValueError(f"a count is from 0 to {MOST_BYTES:,}")


class ChoiceSpec(_Spec, tag="choice"):
    """One of several layouts, by an earlier field's value; of an unknown value, the bytes."""

    name: Annotated[FieldName, hint("what it is called")]
    by: Annotated[str, hint("the earlier field, or a place in one, whose value decides")]
    of: Annotated[
        dict[str, str], Meta(min_length=1, description="value = layout, or a type of number")
    ]
    otherwise: Annotated[str | None, hint("the layout for every other value")] = None
    size: Annotated[str | None, hint("an earlier field with the bytes, or `rest`")] = None
    length: Annotated[Length | None, hint("how many bytes it has, in front of it")] = None


class PartsSpec(_Spec, tag="parts"):
    """Bytes that an earlier list says the offset and size of, one run per record."""

    name: Annotated[FieldName, hint("what it is called")]
    table: Annotated[str, hint("the earlier list")]
    offset: Annotated[str, hint("in its records: the offset")]
    size: Annotated[str, hint("in its records: the size")]
    counted: Annotated[
        Literal["start", "here"],
        hint("offsets count from the layout's start, or from this field's"),
    ] = "start"
    align: Annotated[int, Meta(ge=1, le=65536, description="each begins at a multiple of this")] = 1
    fill: Annotated[int, Meta(description="the byte in gaps", ge=0, le=255)] = 0


_Any = (
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
    | PartsSpec
)
if TYPE_CHECKING:
    FieldSpec = _Any
else:
    FieldSpec = one_of(_Any)


class LayoutSpec(Model):
    """The fields of one layout, in order."""

    order: Annotated[Order, hint("of bytes in numbers, where a field does not say")] = "little"
    fields: Annotated[
        tuple[FieldSpec, ...], Meta(description="what stands in it, in order", min_length=1)
    ]

    def __post_init__(self) -> None:
        names = [name for field in self.fields if (name := getattr(field, "name", None))]
        twice = {name for name in names if names.count(name) > 1}
        if twice:
            raise ValueError(f"two fields are named {min(twice)!r}")
