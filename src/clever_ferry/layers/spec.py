"""What a recipe may say of a layer: its kind, and what that kind asks for."""

from typing import TYPE_CHECKING, Annotated, Literal

from clever_ferry.model import HexBytes, Meta, Model, hint, one_of

__all__ = [
    "AesSpec",
    "AfterSpec",
    "ByTagSpec",
    "ChunksSpec",
    "CompressedSpec",
    "EncodedSpec",
    "FooterSpec",
    "HeaderSpec",
    "IdentitySpec",
    "LayerSpec",
    "PathsSpec",
    "SecretSpec",
    "SwapSpec",
    "TextSpec",
    "XorSpec",
    "told_layer",
]


class _Spec(Model, tag_field="kind"):
    pass


class CompressedSpec(_Spec):
    """The bytes are compressed by a well-known method."""

    TAGS = ("deflate", "zlib", "gzip", "xz", "lzma", "bzip2", "zstd", "lz4", "lz4-block", "lzo")

    level: Annotated[Annotated[int, Meta(ge=0, le=19)] | None, hint("effort when writing")] = None
    most: Annotated[
        Annotated[int, Meta(ge=1, le=1 << 40)] | None,
        hint(
            "bytes unpacked at the most; without it, 64 MiB and 256 times the packed "
            "bytes, for lz4-block and lzo 256 MiB"
        ),
    ] = None


class HeaderSpec(_Spec, tag="header"):
    """A layout stands before the bytes; its sizes and checksums are those of the bytes."""

    layout: str


class FooterSpec(_Spec, tag="footer"):
    """A layout of fixed size stands after the bytes."""

    layout: str
    size: Annotated[int, Meta(ge=1, le=65536, description="bytes of the layout")]


class ByTagSpec(_Spec, tag="by-tag"):
    """A layout stands before the bytes, and one of its values names the layers within."""

    layout: str
    tag: Annotated[str, hint("the path of that value in the layout")]
    of: Annotated[
        dict[str, tuple[str, ...]], Meta(min_length=1, description="value = names of layers")
    ]
    usual: Annotated[str | None, hint("the value to write where none is known")] = None


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

    keep: Annotated[bool, hint("the mark itself belongs to the bytes")] = False


class XorSpec(_Marked, tag="xor"):
    """Each byte is xor-ed with a byte of a key that repeats."""

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

    mode: Literal["ecb", "cbc", "ctr", "gcm"]
    key: SecretSpec
    vector: SecretSpec | Literal["front"] = "front"
    padding: Literal["pkcs7", "zero", "none"] = "pkcs7"
    tag: Literal["end", "front"] = "end"

    def __post_init__(self) -> None:
        if isinstance(self.vector, SecretSpec) and self.vector.front is not None:
            raise ValueError('a vector in the file is `vector = "front"`')


class EncodedSpec(_Spec):
    """The bytes are written as text."""

    TAGS = ("base64", "hex")

    line: Annotated[
        int, Meta(ge=0, le=1000, description="characters in a line; 0 for one line")
    ] = 0
    ending: Literal["lf", "crlf"] = "lf"


class SwapSpec(_Spec, tag="swap"):
    """The bytes of each word stand in turned order; what is left at the end stays."""

    size: Literal[2, 4, 8]


class TextSpec(_Spec, tag="text"):
    """Text: within the tool it is UTF-8 with line feeds."""

    encoding: Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"] = "utf-8"
    mark: Annotated[bool, hint("a byte order mark stands in front")] = False
    ending: Literal["lf", "crlf"] = "lf"


class IdentitySpec(_Spec, tag="identity"):
    """A name field, such as the account, stands in a text piece; the target's is written."""

    holds: Literal["json", "ini"]
    at: Annotated[
        tuple[str, ...], Meta(min_length=1, description="paths of it; `*` is every name there")
    ]
    bound: Annotated[str, hint("the name field")]
    kept: Annotated[
        bool, hint("where nothing else is known, the source's stays, as in a world")
    ] = False


class PathsSpec(_Spec, tag="paths"):
    """Paths stand in a text piece; those in known folders are written as the target has them."""

    holds: Literal["json", "ini"]
    at: Annotated[tuple[str, ...], Meta(min_length=1, description="where; `*` is every name there")]


class ChunksSpec(_Spec, tag="chunks"):
    """The bytes are cut into chunks, each with a header of its own or with its size in a table.

    A `header` is a layout with `size` of `inside`. A `table` is a layout in front of all
    chunks, with a list `at` whose records have a `size`.
    """

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


_Any = (
    CompressedSpec
    | HeaderSpec
    | FooterSpec
    | ByTagSpec
    | AfterSpec
    | XorSpec
    | AesSpec
    | EncodedSpec
    | SwapSpec
    | TextSpec
    | IdentitySpec
    | PathsSpec
    | ChunksSpec
)
if TYPE_CHECKING:
    LayerSpec = _Any
else:
    LayerSpec = one_of(_Any)


def told_layer(spec: LayerSpec) -> str:
    """Return what a layer is, in a few words: its kind, or what it says of a text."""
    match spec:
        case TextSpec():
            ends = "Windows line ends" if spec.ending == "crlf" else "plain line ends"
            return ends if spec.encoding == "utf-8" else f"{spec.encoding}, {ends}"
        case IdentitySpec():
            return f"the {spec.bound} inside"
        case PathsSpec():
            return "paths of folders inside"
    return spec.kind
