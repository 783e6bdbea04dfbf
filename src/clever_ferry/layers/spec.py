"""What a recipe may say of a layer: its kind, what that asks for, and what is wrong with it."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from msgspec import field

from clever_ferry.layers.document_spec import (
    AgreesSpec,
    IdentitySpec,
    ListsSpec,
    PathsSpec,
    StageSpec,
)
from clever_ferry.layers.spec_base import Fault, LayerModel, Layouts
from clever_ferry.layouts.making import random_bytes
from clever_ferry.layouts.spec import BytesSpec, IdentifierSpec, NumberSpec, TimeSpec
from clever_ferry.layouts.spec import TextSpec as TextSpec_
from clever_ferry.layouts.tracing import field_of, trace
from clever_ferry.model import HexBytes, Meta, Model, hint, one_of
from clever_ferry.wording import known

__all__ = [
    "LARGEST_BLOCK",
    "AesSpec",
    "AfterSpec",
    "ByTagSpec",
    "ChunksSpec",
    "CompressedSpec",
    "EitherSpec",
    "EncodedSpec",
    "FooterSpec",
    "HeaderSpec",
    "LayerSpec",
    "SecretSpec",
    "SwapSpec",
    "TextSpec",
    "WayModel",
    "XorSpec",
]


LARGEST_BLOCK = 256 << 20
"""Bytes that a block of a method without streams may become."""


class CompressedSpec(LayerModel):
    """The bytes are compressed by a well-known method."""

    MADE_BY = "compressed.Compressed"
    HIGHEST: ClassVar[dict[str, int]] = {
        "deflate": 9, "zlib": 9, "gzip": 9, "xz": 9, "lzma": 9, "bzip2": 9, "zstd": 19, "lz4": 16,
    }  # fmt: skip
    TAGS = (*HIGHEST, "lz4-block", "lzo")

    level: Annotated[Annotated[int, Meta(ge=0, le=19)] | None, hint("effort when writing")] = None
    most: Annotated[
        Annotated[int, Meta(ge=1, le=1 << 40)] | None,
        hint(
            "bytes unpacked at the most; without it, 64 MiB and 256 times the packed "
            "bytes, for lz4-block and lzo 256 MiB"
        ),
    ] = None

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what the method does not have."""
        highest = self.HIGHEST.get(self.kind)
        if self.level is not None and highest is None:
            yield "level", f"{self.kind} has none"
        elif self.level is not None and highest is not None and self.level > highest:
            yield "level", f"{highest} is the highest of {self.kind}"
        if self.most is not None and highest is None and self.most > LARGEST_BLOCK:
            yield "most", f"a block of {self.kind} has at most {LARGEST_BLOCK:,} bytes"


class _Headed(LayerModel):
    layout: Annotated[str, hint("the layout of what comes off")]

    @property
    def layouts(self) -> dict[str, str]:
        """The header's."""
        return {self.layout: "header"}


HeaderWay = Literal["kept", "adopted", "made", "given"]


class _Arriving(_Headed):
    on_arrival: Annotated[
        dict[str, Annotated[tuple[HeaderWay, ...], Meta(min_length=1)]],
        hint("of its fields: where a crossing takes their values from; the first to be had counts"),
    ] = field(default_factory=dict)

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield fields that are not there, that follow from others, or can't be made or stated."""
        known_ones = [str(name) for one in layouts[self.layout].fields
                      if (name := getattr(one, "name", ""))]  # fmt: skip
        for name, ways in self.on_arrival.items():
            one = field_of(layouts, self.layout, name)
            key = f"on_arrival.{name}"
            if one is None:
                yield key, f"{self.layout} has no such field; {known(known_ones)}"
            elif not isinstance(
                one, NumberSpec | BytesSpec | TextSpec_ | IdentifierSpec | TimeSpec
            ):
                yield key, "it is no number, text, identifier, time, nor bytes"
            elif isinstance(one, TimeSpec) and "given" in ways:
                yield key, "a time can be made, and not stated"
            elif any(getattr(one, other, None) is not None for other in ("bound", "computed")):
                yield key, "it follows from something else"
            elif getattr(one, "equals", None) is not None:
                yield key, "it has only one right value"
            elif "made" in ways and not (isinstance(one, TimeSpec) or random_bytes(one)):
                yield key, "only whole numbers, times, identifiers and fixed bytes can be made"


class HeaderSpec(_Arriving, tag="header"):
    """A layout stands before the bytes; its sizes and checksums are those of the bytes."""

    MADE_BY = "headers.Header"


class FooterSpec(_Arriving, tag="footer"):
    """A layout of fixed size stands after the bytes."""

    MADE_BY = "headers.Footer"

    size: Annotated[int, Meta(ge=1, le=65536, description="bytes of the layout")]

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield also fields that speak of what follows, as nothing does."""
        yield from super().faults(layouts)
        for one in layouts[self.layout].fields:
            of = getattr(getattr(one, "computed", None), "of", "")
            if of in ("onward", "whole"):
                yield "layout", f"nothing follows a footer: not {of!r}, but `inside` is before it"


class ByTagSpec(_Headed, tag="by-tag"):
    """A layout stands before the bytes, and one of its values names the layers within."""

    MADE_BY = "headers.ByTag"

    tag: Annotated[str, hint("the path of that value in the layout")]
    of: Annotated[
        dict[str, tuple[str, ...]], Meta(min_length=1, description="value = names of layers")
    ]
    usual: Annotated[str | None, hint("the value to write where none is known")] = None

    @property
    def within(self) -> set[str]:
        """Those of any tag."""
        return {name for names in self.of.values() for name in names}

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what can't be a tag."""
        if not trace(layouts, self.layout, self.tag) & {"number", "text", "identifier"}:
            yield "tag", f"nothing that could be a tag stands at {self.tag} in {self.layout}"
        if self.usual is not None and self.usual not in self.of:
            yield "usual", f"{self.usual!r} is none of the tags; {known(self.of)}"


class WayModel(Model):
    """One of several wrappings."""

    layers: Annotated[tuple[str, ...], hint("what comes off then")] = ()
    text: Annotated[str | None, hint("what is in it begins with this text")] = None
    hex: Annotated[HexBytes | None, hint("what is in it begins with these bytes")] = None

    def __post_init__(self) -> None:
        if self.text is not None and self.hex is not None:
            raise ValueError("say either `text` or `hex`")

    @property
    def start(self) -> bytes:
        """How it begins; nothing where it is tried."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode()


class EitherSpec(LayerModel, tag="either"):
    """One of several wrappings: the first that its beginning shows, or that can be taken off."""

    MADE_BY = "either.Either"

    of: Annotated[
        tuple[WayModel, ...],
        Meta(description="the ways, in the order in which they are tried", min_length=2),
    ]
    written: Annotated[
        Annotated[int, Meta(ge=1)] | None,
        hint("which is written where nothing is replaced (1 is the first); as it was, without"),
    ] = None

    @property
    def words(self) -> str:
        """What it is called in explanations: which ways there are."""
        ways = [" + ".join(one.layers) or "plain" for one in self.of]
        return f"{', '.join(ways[:-1])} or {ways[-1]}"

    @property
    def within(self) -> set[str]:
        """The layers of any."""
        return {name for one in self.of for name in one.layers}

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield a number that none has, and what comes behind one that takes all."""
        if self.written is not None and self.written > len(self.of):
            yield "written", f"there are {len(self.of)}"
        for number, one in enumerate(self.of[:-1], 1):
            if not one.layers and not one.start:
                yield f"of[{number}]", "it takes all bytes, so those behind it are never looked at"


class MemberSpec(LayerModel, tag="member"):
    """An archive of which one member counts; the others are as they were where it is replaced."""

    MADE_BY = "archives.InArchive"

    name: Annotated[str, Meta(min_length=1, description="the member's name in the archive")]
    archive: Annotated[Literal["zip", "tar"], hint("what it is")] = "zip"
    packed: Annotated[bool, hint("whether it is packed where it was not there before")] = True


class _Marked(LayerModel):
    text: Annotated[str | None, hint("the bytes, as text")] = None
    hex: Annotated[HexBytes | None, hint("the bytes, as hexadecimal digits")] = None

    def __post_init__(self) -> None:
        if bool(self.text) == bool(self.hex):
            raise ValueError("say either `text` or `hex`")
        if self.text is not None and not all(ord(char) < 256 for char in self.text):
            raise ValueError("`text` is Latin-1; write other bytes as `hex`")

    @property
    def data(self) -> bytes:
        """The bytes themselves."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode("latin-1")


class AfterSpec(_Marked, tag="after"):
    """The bytes begin after (or, with `keep`, at) the first place of a mark."""

    MADE_BY = "headers.After"

    keep: Annotated[bool, hint("the mark itself belongs to the bytes")] = False


class XorSpec(_Marked, tag="xor"):
    """Each byte is xor-ed with a byte of a key that repeats."""

    MADE_BY = "ciphers.Xor"

    step: Annotated[
        int, Meta(ge=0, le=255, description="each key byte grows by this with every position")
    ] = 0


class SecretSpec(Model):
    """A key or a vector: in the recipe, given by the user under a name, or in the file."""

    hex: Annotated[HexBytes | None, hint("the bytes themselves")] = None
    given: Annotated[str | None, hint("the name by which the user states it")] = None
    front: Annotated[
        Literal[16, 24, 32] | None, hint("a key of so many bytes stands before all")
    ] = None

    def __post_init__(self) -> None:
        if sum(way is not None for way in (self.hex, self.given, self.front)) != 1:
            raise ValueError("say either `hex`, `given` or `front`")


class AesSpec(LayerModel, tag="aes"):
    """AES; the vector may stand before the bytes, the tag (GCM) after or before them."""

    MADE_BY = "ciphers.Aes"

    mode: Annotated[Literal["ecb", "cbc", "ctr", "gcm"], hint("how blocks go together")]
    key: Annotated[SecretSpec, hint("the key")]
    vector: Annotated[
        SecretSpec | Literal["front"],
        hint("the first block's other half, or `front`: it stands before the bytes"),
    ] = "front"
    padding: Annotated[Literal["pkcs7", "zero", "none"], hint("how the last block is filled")] = (
        "pkcs7"
    )
    tag: Annotated[Literal["end", "front"], hint("where GCM's tag stands")] = "end"

    def __post_init__(self) -> None:
        if isinstance(self.vector, SecretSpec) and self.vector.front is not None:
            raise ValueError('a vector in the file is `vector = "front"`')

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield what the mode does not have, and keys of a wrong length."""
        if self.mode == "ecb" and self.vector != "front":
            yield "vector", "the mode ecb has none"
        if self.mode in ("ctr", "gcm") and self.padding != "pkcs7":
            yield "padding", f"the mode {self.mode} pads nothing"
        if self.mode != "gcm" and self.tag != "end":
            yield "tag", f"the mode {self.mode} has none"
        if self.key.hex is not None and len(self.key.hex) not in (32, 48, 64):
            yield "key.hex", "a key has 16, 24 or 32 bytes"
        own = self.vector.hex if isinstance(self.vector, SecretSpec) else None
        if own is not None and self.mode != "gcm" and len(own) != 32:
            yield "vector.hex", "a vector has 16 bytes"


class EncodedSpec(LayerModel):
    """The bytes are written as text."""

    MADE_BY = "encoded.Encoded"
    TAGS = ("base64", "hex")

    line: Annotated[
        int, Meta(ge=0, le=1000, description="characters in a line; 0 for one line")
    ] = 0
    ending: Annotated[Literal["lf", "crlf"], hint("of lines")] = "lf"

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield line ends without lines."""
        if self.ending != "lf" and not self.line:
            yield "ending", "there are no lines without `line`"


class SwapSpec(LayerModel, tag="swap"):
    """The bytes of each word stand in turned order; what is left at the end stays."""

    MADE_BY = "encoded.Swap"

    size: Annotated[Literal[2, 4, 8], hint("bytes in a word")]


class TextSpec(LayerModel, tag="text"):
    """Text: within the tool it is UTF-8 with line feeds."""

    MADE_BY = "encoded.Text"

    encoding: Annotated[
        Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"],
        hint("how letters are spelled outside"),
    ] = "utf-8"
    mark: Annotated[bool, hint("a byte order mark stands in front")] = False
    ending: Annotated[Literal["lf", "crlf"], hint("of lines outside")] = "lf"

    @property
    def words(self) -> str:
        """How the text is written."""
        ends = "Windows line ends" if self.ending == "crlf" else "plain line ends"
        return ends if self.encoding == "utf-8" else f"{self.encoding}, {ends}"

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield a mark that the encoding does not have."""
        if self.mark and not self.encoding.startswith("utf"):
            yield "mark", f"{self.encoding} has no byte order mark"


class ChunksSpec(LayerModel, tag="chunks"):
    """The bytes are cut into chunks, each with a header of its own or with its size in a table.

    A `header` is a layout with `size` of `inside`. A `table` is a layout in front of all
    chunks, with a list `at` whose records have a `size`.
    """

    MADE_BY = "chunks.Chunks"

    most: Annotated[int, Meta(ge=1, le=64 << 20, description="bytes of the payload in one chunk")]
    header: Annotated[str | None, hint("the layout before each chunk")] = None
    table: Annotated[str | None, hint("the layout before all, which lists them")] = None
    at: Annotated[str, hint("in the table: the path of the list")] = "/chunks"
    size: Annotated[str, hint("in a record: the packed size")] = "size"
    plain: Annotated[str | None, hint("in a record: the unpacked size")] = None
    layers: Annotated[tuple[str, ...], hint("what each chunk is wrapped in")] = ()

    def __post_init__(self) -> None:
        if self.header is not None and self.table is not None:
            raise ValueError("say either `header` or `table`")
        if self.header is None and self.table is None and self.layers:
            raise ValueError("wrapped chunks need a `header` or a `table` with their sizes")

    @property
    def layouts(self) -> dict[str, str]:
        """Each chunk's header, or the table of all."""
        every = {self.header: "chunk", self.table: "table"}
        return {name: use for name, use in every.items() if name is not None}

    @property
    def within(self) -> set[str]:
        """What each chunk is wrapped in."""
        return set(self.layers)

    def faults(self, layouts: Layouts) -> Iterator[Fault]:
        """Yield places that the table does not have."""
        if self.table is None:
            for key, usual in (("at", "/chunks"), ("size", "size"), ("plain", None)):
                if getattr(self, key) != usual:
                    yield key, "it is a place in a `table`, and there is none"
            return
        if "list" not in trace(layouts, self.table, self.at):
            yield "at", f"no list stands at {self.at} in {self.table}"
        for key, name in (("size", self.size), ("plain", self.plain)):
            if name is not None and "number" not in trace(
                layouts, self.table, f"{self.at}/0/{name}"
            ):
                yield key, f"the records at {self.at} in {self.table} have no number {name!r}"


_Any = (
    CompressedSpec
    | HeaderSpec
    | FooterSpec
    | ByTagSpec
    | EitherSpec
    | MemberSpec
    | AfterSpec
    | XorSpec
    | AesSpec
    | EncodedSpec
    | SwapSpec
    | TextSpec
    | IdentitySpec
    | ListsSpec
    | AgreesSpec
    | StageSpec
    | PathsSpec
    | ChunksSpec
)
if TYPE_CHECKING:
    LayerSpec = _Any
else:
    LayerSpec = one_of(_Any)
