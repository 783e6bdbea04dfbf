"""What a recipe may say of a layer: its kind, and what that kind asks for."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

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

_HEX = r"^([0-9a-fA-F]{2})+$"


class _Spec(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)


class CompressedSpec(_Spec):
    """The bytes are compressed by a well-known method."""

    kind: Literal[
        "deflate", "zlib", "gzip", "xz", "lzma", "bzip2", "zstd", "lz4", "lz4-block", "lzo"
    ]
    level: int | None = Field(default=None, ge=0, le=19, description="effort when writing")
    most: int | None = Field(
        default=None,
        ge=1,
        le=1 << 40,
        description="bytes unpacked at the most; without it, 64 MiB and 256 times the packed "
        "bytes, for lz4-block and lzo 256 MiB",
    )


class HeaderSpec(_Spec):
    """A layout stands before the bytes; its sizes and checksums are those of the bytes."""

    kind: Literal["header"]
    layout: str


class FooterSpec(_Spec):
    """A layout of fixed size stands after the bytes."""

    kind: Literal["footer"]
    layout: str
    size: int = Field(ge=1, le=65536, description="bytes of the layout")


class ByTagSpec(_Spec):
    """A layout stands before the bytes, and one of its values names the layers within."""

    kind: Literal["by-tag"]
    layout: str
    tag: str = Field(description="the path of that value in the layout")
    of: dict[str, tuple[str, ...]] = Field(min_length=1, description="value = names of layers")
    usual: str | None = Field(default=None, description="the value to write where none is known")


class _Marked(_Spec):
    text: str | None = None
    hex: str | None = Field(default=None, pattern=_HEX)

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if bool(self.text) == bool(self.hex):
            raise ValueError("say either `text` or `hex`")
        if self.text is not None and not all(ord(char) < 256 for char in self.text):
            raise ValueError("`text` is Latin-1; write other bytes as `hex`")
        return self

    @property
    def data(self) -> bytes:
        """The bytes themselves."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode("latin-1")


class AfterSpec(_Marked):
    """The bytes begin after (or, with `keep`, at) the first place of a mark."""

    kind: Literal["after"]
    keep: bool = Field(default=False, description="the mark itself belongs to the bytes")


class XorSpec(_Marked):
    """Each byte is xor-ed with a byte of a key that repeats."""

    kind: Literal["xor"]
    step: int = Field(
        default=0, ge=0, le=255, description="each key byte grows by this with every position"
    )


class SecretSpec(_Spec):
    """A key or a vector: in the recipe, given by the user under a name, or in the file."""

    hex: str | None = Field(default=None, pattern=_HEX)
    given: str | None = None
    front: Literal[16, 24, 32] | None = Field(
        default=None, description="a key of so many bytes stands before all"
    )

    @model_validator(mode="after")
    def _one_of_three(self) -> Self:
        if sum(way is not None for way in (self.hex, self.given, self.front)) != 1:
            raise ValueError("say either `hex`, `given` or `front`")
        return self


class AesSpec(_Spec):
    """AES; the vector may stand before the bytes, the tag (GCM) after or before them."""

    kind: Literal["aes"]
    mode: Literal["ecb", "cbc", "ctr", "gcm"]
    key: SecretSpec
    vector: SecretSpec | Literal["front"] = "front"
    padding: Literal["pkcs7", "zero", "none"] = "pkcs7"
    tag: Literal["end", "front"] = "end"

    @model_validator(mode="after")
    def _vector_is_not_a_key(self) -> Self:
        if isinstance(self.vector, SecretSpec) and self.vector.front is not None:
            raise ValueError('a vector in the file is `vector = "front"`')
        return self


class EncodedSpec(_Spec):
    """The bytes are written as text."""

    kind: Literal["base64", "hex"]
    line: int = Field(default=0, ge=0, le=1000, description="characters in a line; 0 for one line")
    ending: Literal["lf", "crlf"] = "lf"


class SwapSpec(_Spec):
    """The bytes of each word stand in turned order; what is left at the end stays."""

    kind: Literal["swap"]
    size: Literal[2, 4, 8]


class TextSpec(_Spec):
    """Text: within the tool it is UTF-8 with line feeds."""

    kind: Literal["text"]
    encoding: Literal["utf-8", "utf-16-le", "utf-16-be", "latin-1", "shift-jis"] = "utf-8"
    mark: bool = Field(default=False, description="a byte order mark stands in front")
    ending: Literal["lf", "crlf"] = "lf"


class IdentitySpec(_Spec):
    """A name field, such as the account, stands in a text piece; the target's is written."""

    kind: Literal["identity"]
    holds: Literal["json", "ini"]
    at: tuple[str, ...] = Field(min_length=1, description="paths of it; `*` is every name there")
    bound: str = Field(description="the name field")
    kept: bool = Field(
        default=False, description="where nothing else is known, the source's stays, as in a world"
    )


class PathsSpec(_Spec):
    """Paths stand in a text piece; those in known folders are written as the target has them."""

    kind: Literal["paths"]
    holds: Literal["json", "ini"]
    at: tuple[str, ...] = Field(min_length=1, description="where; `*` is every name there")


class ChunksSpec(_Spec):
    """The bytes are cut into chunks, each with a header of its own or with its size in a table.

    A `header` is a layout with `size` of `inside`. A `table` is a layout in front of all
    chunks, with a list `at` whose records have a `size`.
    """

    kind: Literal["chunks"]
    most: int = Field(ge=1, le=64 << 20, description="bytes of the payload in one chunk")
    header: str | None = None
    table: str | None = None
    at: str = Field(default="/chunks", description="in the table: the path of the list")
    size: str = Field(default="size", description="in a record: the packed size")
    plain: str | None = Field(default=None, description="in a record: the unpacked size")
    layers: tuple[str, ...] = Field(default=(), description="what each chunk is wrapped in")

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if self.header is not None and self.table is not None:
            raise ValueError("say either `header` or `table`")
        if self.header is None and self.table is None and self.layers:
            raise ValueError("wrapped chunks need a `header` or a `table` with their sizes")
        return self


LayerSpec = Annotated[
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
    | ChunksSpec,
    Field(discriminator="kind"),
]


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
