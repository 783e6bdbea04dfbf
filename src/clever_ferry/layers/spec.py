"""What a recipe may say of a layer: its kind, what that asks for, and what is wrong with it."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from clever_ferry.documents.document import FORMS
from clever_ferry.documents.places import place_fault
from clever_ferry.layouts import LayoutSpec
from clever_ferry.layouts.digests import DigestName
from clever_ferry.layouts.times import StampUnit
from clever_ferry.layouts.tracing import trace
from clever_ferry.model import HexBytes, Meta, Model, hint, one_of
from clever_ferry.wording import known

__all__ = [
    "LARGEST_BLOCK",
    "AesSpec",
    "AfterSpec",
    "AgreementSpec",
    "AgreesSpec",
    "ByTagSpec",
    "ChunksSpec",
    "CompressedSpec",
    "EitherSpec",
    "EncodedSpec",
    "FooterSpec",
    "HeaderSpec",
    "IdentitySpec",
    "LayerSpec",
    "PathsSpec",
    "SecretSpec",
    "StageSpec",
    "SwapSpec",
    "TextSpec",
    "WayModel",
    "XorSpec",
]


LARGEST_BLOCK = 256 << 20
"""Bytes that a block of a method without streams may become."""
_Fault = tuple[str, str]
_Layouts = Mapping[str, LayoutSpec]


class _Spec(Model, tag_field="kind"):
    MADE_BY: ClassVar[str] = ""
    """The layer's class, behind the room of this package that it is in."""

    @property
    def layouts(self) -> dict[str, str]:
        """The layouts that it names, and as what: `header`, `chunk` or `table`."""
        return {}

    @property
    def within(self) -> set[str]:
        """The names of the layers that stand within it."""
        return set()

    @property
    def words(self) -> str:
        """What it is, in a few words: its kind, or what it says of a text."""
        return self.kind

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield which of its keys lead nowhere or would be idle, and why; all layouts are there."""
        yield from ()


class CompressedSpec(_Spec):
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

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield what the method does not have."""
        highest = self.HIGHEST.get(self.kind)
        if self.level is not None and highest is None:
            yield "level", f"{self.kind} has none"
        elif self.level is not None and highest is not None and self.level > highest:
            yield "level", f"{highest} is the highest of {self.kind}"
        if self.most is not None and highest is None and self.most > LARGEST_BLOCK:
            yield "most", f"a block of {self.kind} has at most {LARGEST_BLOCK:,} bytes"


class _Headed(_Spec):
    layout: str

    @property
    def layouts(self) -> dict[str, str]:
        """The header's."""
        return {self.layout: "header"}


class HeaderSpec(_Headed, tag="header"):
    """A layout stands before the bytes; its sizes and checksums are those of the bytes."""

    MADE_BY = "headers.Header"


class FooterSpec(_Headed, tag="footer"):
    """A layout of fixed size stands after the bytes."""

    MADE_BY = "headers.Footer"

    size: Annotated[int, Meta(ge=1, le=65536, description="bytes of the layout")]


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

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield what can't be a tag."""
        if not trace(layouts, self.layout, self.tag) & {"number", "text", "identifier"}:
            yield "tag", f"nothing that could be a tag stands at {self.tag} in {self.layout}"
        if self.usual is not None and self.usual not in self.of:
            yield "usual", f"{self.usual!r} is none of the tags; {known(self.of)}"


class WayModel(Model):
    """One of several wrappings."""

    layers: tuple[str, ...] = ()
    text: Annotated[str | None, hint("what is in it begins with this text")] = None
    hex: Annotated[HexBytes | None, hint("what is in it begins with these bytes")] = None

    def __post_init__(self) -> None:
        if self.text is not None and self.hex is not None:
            raise ValueError("say either `text` or `hex`")

    @property
    def start(self) -> bytes:
        """How it begins; nothing where it is tried."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode()


class EitherSpec(_Spec, tag="either"):
    """One of several wrappings: the first that its beginning shows, or that can be taken off."""

    MADE_BY = "either.Either"

    of: Annotated[tuple[WayModel, ...], Meta(min_length=2)]
    written: Annotated[
        Annotated[int, Meta(ge=1)] | None,
        hint("which is written where nothing is replaced (1 is the first); as it was, without"),
    ] = None

    @property
    def within(self) -> set[str]:
        """The layers of any."""
        return {name for one in self.of for name in one.layers}

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield a number that none has, and what comes behind one that takes all."""
        if self.written is not None and self.written > len(self.of):
            yield "written", f"there are {len(self.of)}"
        for number, one in enumerate(self.of[:-1], 1):
            if not one.layers and not one.start:
                yield f"of[{number}]", "it takes all bytes, so those behind it are never looked at"


class _Marked(_Spec):
    text: str | None = None
    hex: HexBytes | None = None

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

    hex: HexBytes | None = None
    given: str | None = None
    front: Annotated[
        Literal[16, 24, 32] | None, hint("a key of so many bytes stands before all")
    ] = None

    def __post_init__(self) -> None:
        if sum(way is not None for way in (self.hex, self.given, self.front)) != 1:
            raise ValueError("say either `hex`, `given` or `front`")


class AesSpec(_Spec, tag="aes"):
    """AES; the vector may stand before the bytes, the tag (GCM) after or before them."""

    MADE_BY = "ciphers.Aes"

    mode: Literal["ecb", "cbc", "ctr", "gcm"]
    key: SecretSpec
    vector: SecretSpec | Literal["front"] = "front"
    padding: Literal["pkcs7", "zero", "none"] = "pkcs7"
    tag: Literal["end", "front"] = "end"

    def __post_init__(self) -> None:
        if isinstance(self.vector, SecretSpec) and self.vector.front is not None:
            raise ValueError('a vector in the file is `vector = "front"`')

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
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


class EncodedSpec(_Spec):
    """The bytes are written as text."""

    MADE_BY = "encoded.Encoded"
    TAGS = ("base64", "hex")

    line: Annotated[
        int, Meta(ge=0, le=1000, description="characters in a line; 0 for one line")
    ] = 0
    ending: Literal["lf", "crlf"] = "lf"

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield line ends without lines."""
        if self.ending != "lf" and not self.line:
            yield "ending", "there are no lines without `line`"


class SwapSpec(_Spec, tag="swap"):
    """The bytes of each word stand in turned order; what is left at the end stays."""

    MADE_BY = "encoded.Swap"

    size: Literal[2, 4, 8]


class TextSpec(_Spec, tag="text"):
    """Text: within the tool it is UTF-8 with line feeds."""

    MADE_BY = "encoded.Text"

    encoding: Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"] = "utf-8"
    mark: Annotated[bool, hint("a byte order mark stands in front")] = False
    ending: Literal["lf", "crlf"] = "lf"

    @property
    def words(self) -> str:
        """How the text is written."""
        ends = "Windows line ends" if self.ending == "crlf" else "plain line ends"
        return ends if self.encoding == "utf-8" else f"{self.encoding}, {ends}"

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield a mark that the encoding does not have."""
        if self.mark and not self.encoding.startswith("utf"):
            yield "mark", f"{self.encoding} has no byte order mark"


class _Placed(_Spec):
    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
        """Yield what is written as no place."""
        for number, place in enumerate(getattr(self, "at", ()), 1):
            if why := place_fault(place):
                yield f"at[{number}]", why


Spelling = Literal["decimal", "hex", "HEX", "base64", "hex-little"]


class AgreementSpec(Model):
    """A place in a document, and what stands there: what it agrees with."""

    at: Annotated[str | tuple[str, ...], hint("where; of several places all must say the same")]
    field: Annotated[str | None, hint("a name field, such as the account")] = None
    fact: Annotated[str | None, hint("a fact of the save")] = None
    piece: Annotated[str | None, hint("the bytes of the piece of this role")] = None
    what: Annotated[DigestName | None, hint("what of a piece's bytes: `size`, a checksum")] = None
    stage: Annotated[
        str, hint("which of its bytes: as they lie (`file`), innermost (`payload`), or a `stage`")
    ] = "file"
    written: Annotated[StampUnit | None, hint("the time of writing, in this unit")] = None
    counts: Annotated[bool, hint("a number that goes up by 1 per writing")] = False
    always: Annotated[int | str | None, hint("this and nothing else")] = None
    plus: Annotated[int, hint("added to a number: -1 where slots count from 0")] = 0
    spelled: Annotated[
        Spelling | None, hint("how it is spelled there, where it is not as itself")
    ] = None
    digits: Annotated[
        Annotated[int, Meta(ge=1, le=64)] | None, hint("how many digits at least")
    ] = None
    kept: Annotated[
        bool, hint("where nothing else is known, the source's stays, as in a world")
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
        if self.kept and self.field is None:
            raise ValueError("only a `field` can be `kept`")
        if self.plus and (self.counts or self.written or self.always is not None):
            raise ValueError("`plus` is added to a `field`, a `fact` or a `piece`'s size")
        if self.plus and self.what not in (None, "size"):
            raise ValueError("a checksum is not added to")
        if self.digits is not None and self.spelled not in ("decimal", "hex", "HEX"):
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


class AgreesSpec(_Spec, tag="agrees"):
    """Values in a document agree with what is known elsewhere; the target's are written."""

    MADE_BY = "agreements.Agreements"

    holds: Annotated[str, hint("the form of the document, or a layout")]
    values: Annotated[tuple[AgreementSpec, ...], Meta(min_length=1)]

    @property
    def words(self) -> str:
        """What is made to agree."""
        return f"the {', '.join(one.words for one in self.values)} inside"

    @property
    def layouts(self) -> dict[str, str]:
        """The layout that it holds, where it is one."""
        return {} if self.holds in FORMS else {self.holds: "document"}

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
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


class StageSpec(_Spec, tag="stage"):
    """Changes nothing: it names the bytes as they are here, so that others can speak of them."""

    MADE_BY = "agreements.Stage"

    name: Annotated[str, hint('what others call it, as in `at_stage = "once"`')]

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
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


class ChunksSpec(_Spec, tag="chunks"):
    """The bytes are cut into chunks, each with a header of its own or with its size in a table.

    A `header` is a layout with `size` of `inside`. A `table` is a layout in front of all
    chunks, with a list `at` whose records have a `size`.
    """

    MADE_BY = "chunks.Chunks"

    most: Annotated[int, Meta(ge=1, le=64 << 20, description="bytes of the payload in one chunk")]
    header: str | None = None
    table: str | None = None
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

    def faults(self, layouts: _Layouts) -> Iterator[_Fault]:
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
    | AfterSpec
    | XorSpec
    | AesSpec
    | EncodedSpec
    | SwapSpec
    | TextSpec
    | IdentitySpec
    | AgreesSpec
    | StageSpec
    | PathsSpec
    | ChunksSpec
)
if TYPE_CHECKING:
    LayerSpec = _Any
else:
    LayerSpec = one_of(_Any)
