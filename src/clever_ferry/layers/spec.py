"""What a recipe may say of a layer: its kind, and what that kind asks for."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

__all__ = ["AfterSpec", "ByTagSpec", "CompressedSpec", "HeaderSpec", "LayerSpec"]


class _Spec(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class CompressedSpec(_Spec):
    """The bytes are compressed by a well-known method."""

    kind: Literal["deflate", "zlib", "gzip", "xz", "bzip2"]
    level: int | None = Field(default=None, ge=0, le=9, description="effort when writing")


class HeaderSpec(_Spec):
    """A layout stands before the bytes; its sizes and checksums are those of the bytes."""

    kind: Literal["header"]
    layout: str


class ByTagSpec(_Spec):
    """A layout stands before the bytes, and one of its values names the layers within."""

    kind: Literal["by-tag"]
    layout: str
    tag: str = Field(description="the path of that value in the layout")
    of: dict[str, tuple[str, ...]] = Field(min_length=1, description="value = names of layers")
    usual: str | None = Field(default=None, description="the value to write where none is known")


class AfterSpec(_Spec):
    """Only what comes after the first place of these bytes counts. For reading facts only."""

    kind: Literal["after"]
    text: str | None = None
    hex: str | None = Field(default=None, pattern=r"^([0-9a-fA-F]{2})+$")

    @model_validator(mode="after")
    def _one_of_both(self) -> Self:
        if bool(self.text) == bool(self.hex):
            raise ValueError("a marker has either `text` or `hex`")
        return self

    @property
    def marker(self) -> bytes:
        """The bytes that are looked for."""
        return bytes.fromhex(self.hex) if self.hex else (self.text or "").encode("latin-1")


LayerSpec = Annotated[
    CompressedSpec | HeaderSpec | ByTagSpec | AfterSpec, Field(discriminator="kind")
]
