"""Xor and AES as layers: what games use to keep curious eyes out of their saves."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

from clever_ferry.certainty import Evidence
from clever_ferry.errors import DamagedError, KeyNeededError, WrongUseError
from clever_ferry.layers.chain import Stages
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import Known
from clever_ferry.layers.spec import AesSpec, SecretSpec, XorSpec
from clever_ferry.payload import Payload, SlicedPayload, StreamPayload, head, without_tail

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.ciphers import Cipher

__all__ = ["Aes", "Xor"]

_BLOCK = 16
_NONCE = 12
_STRIDE = 1 << 17
"""Bytes xor-ed in one go: few enough that the processor still has them when they are copied."""


class Xor:
    """A key that repeats; with a step, its bytes grow with every position."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: XorSpec) -> None:
        key, step = spec.data, spec.step
        period = math.lcm(len(key), 256) if step else len(key)
        self.mask = bytes((key[at % len(key)] + at * step) & 0xFF for at in range(period))

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, None]:
        """Return the bytes xor-ed."""
        return StreamPayload(lambda: self._turned(source), source.size), None

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the bytes xor-ed, which is the same."""
        return StreamPayload(lambda: self._turned(inside), inside.size)

    def _turned(self, source: Payload) -> Iterator[bytes]:
        period, at = len(self.mask), 0
        mask = self.mask * -(-(_STRIDE + period) // period)
        xor = _xor()
        for chunk in source.chunks():
            for start in range(0, len(chunk), _STRIDE):
                data = chunk[start : start + _STRIDE]
                yield xor(data, mask[at : at + len(data)])
                at = (at + len(data)) % period


def _xor() -> Callable[[bytes, bytes], bytes]:
    """Return what turns bytes by as many others: NumPy's, which is far quicker, where it is."""
    try:
        import numpy as np
    except ImportError:
        return _xor_alone
    byte = np.uint8
    return lambda one, other: np.bitwise_xor(
        np.frombuffer(one, byte), np.frombuffer(other, byte)
    ).tobytes()  # fmt: skip


def _xor_alone(one: bytes, other: bytes) -> bytes:
    turned = int.from_bytes(one, "little") ^ int.from_bytes(other, "little")
    return turned.to_bytes(len(one), "little")


class Aes:
    """AES in one of four modes."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: AesSpec) -> None:
        self.spec = spec
        self.fronted = spec.vector == "front" and spec.mode != "ecb"
        self.vector_size = 0 if not self.fronted else _NONCE if spec.mode == "gcm" else _BLOCK
        stated = [one for one in (spec.key, spec.vector) if isinstance(one, SecretSpec)]
        self.secrets = frozenset(one.given for one in stated if one.given)

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, dict[str, bytes]]:
        """Return the plain bytes; reading them raises DamagedError where they can't be."""
        size = self.spec.key.front or 0
        key = self._key(found.known, head(source, size))
        if size:
            source = SlicedPayload(source, size)
        front = head(source, self.vector_size)
        if len(front) < self.vector_size:
            raise DamagedError("The AES data is shorter than its vector.")
        vector = front if self.fronted else self._vector(found.known)
        body: Payload = SlicedPayload(source, self.vector_size)
        kept = {"vector": vector, "key": key}
        if self.spec.mode == "gcm":
            found.evidence.append(lambda: Evidence("verified", "the cipher's tag"))
            return StreamPayload(lambda: self._opened(key, vector, body)), kept
        return StreamPayload(lambda: self._plain(key, vector, body)), kept

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the encrypted bytes; a vector that none is known for follows from the bytes."""
        was = (residue or {}).get("key", b"")

        def encrypted() -> Iterator[bytes]:
            made = self._made_key(inside) if self.spec.key.front and not was else was
            key = self._key(known, made)
            if self.spec.key.front:
                yield key
            vector = (residue or {}).get("vector") or self._new_vector(inside, known)
            if self.fronted:
                yield vector
            if self.spec.mode == "gcm":
                yield from self._sealed(key, vector, inside)
            else:
                yield from self._secret(key, vector, inside)

        return StreamPayload(encrypted)

    def _made_key(self, inside: Payload) -> bytes:
        """Return a key that follows from the bytes; the file holds it, so it hides nothing."""
        import hashlib

        digest = hashlib.blake2b(digest_size=self.spec.key.front or 16, person=b"key")
        for chunk in inside.chunks():
            digest.update(chunk)
        return digest.digest()

    def _key(self, known: Known, front: bytes) -> bytes:
        key = front if self.spec.key.front else _secret(self.spec.key, known)
        if self.spec.key.front and len(key) < self.spec.key.front:
            raise DamagedError("The AES data is shorter than its key.")
        if len(key) not in (16, 24, 32):
            raise WrongUseError(f"An AES key has 16, 24 or 32 bytes, but this one has {len(key)}.")
        return key

    def _vector(self, known: Known) -> bytes:
        if self.spec.mode == "ecb" or not isinstance(self.spec.vector, SecretSpec):
            return b""
        vector = _secret(self.spec.vector, known)
        if self.spec.mode != "gcm" and len(vector) != _BLOCK:
            raise WrongUseError(f"An AES vector has 16 bytes, but this one has {len(vector)}.")
        return vector

    def _new_vector(self, inside: Payload, known: Known) -> bytes:
        if not self.fronted:
            return self._vector(known)
        import hashlib

        digest = hashlib.blake2b(digest_size=self.vector_size)
        for chunk in inside.chunks():
            digest.update(chunk)
        return digest.digest()

    def _cipher(self, key: bytes, vector: bytes, tag: bytes | None = None) -> Cipher[Any]:
        from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

        mode: Any
        match self.spec.mode:
            case "ecb":
                mode = modes.ECB()  # not ours to choose
            case "cbc":
                mode = modes.CBC(vector)
            case "ctr":
                mode = modes.CTR(vector)
            case "gcm":
                mode = modes.GCM(vector, tag)
        return Cipher(algorithms.AES(key), mode)

    @property
    def _padded(self) -> str:
        return self.spec.padding if self.spec.mode in ("ecb", "cbc") else "none"

    def _plain(self, key: bytes, vector: bytes, body: Payload) -> Iterator[bytes]:
        worker, held = self._cipher(key, vector).decryptor(), b""
        try:
            for chunk in body.chunks():
                held += worker.update(chunk)
                if len(held) > _BLOCK:
                    yield held[:-_BLOCK]
                    held = held[-_BLOCK:]
            held += worker.finalize()
        except ValueError:
            raise DamagedError(
                "The AES data is cut short: it is no whole number of blocks."
            ) from None
        if self._padded == "zero":
            held = held.rstrip(b"\0")
        elif self._padded == "pkcs7":
            count = held[-1] if held else 0
            if not 1 <= count <= _BLOCK or held[-count:] != bytes([count]) * count:
                raise DamagedError("The AES data can't be opened: its key or its bytes are wrong.")
            held = held[:-count]
        yield held

    def _secret(self, key: bytes, vector: bytes, inside: Payload) -> Iterator[bytes]:
        worker, size = self._cipher(key, vector).encryptor(), 0
        for chunk in inside.chunks():
            size += len(chunk)
            yield worker.update(chunk)
        if self._padded == "pkcs7":
            count = _BLOCK - size % _BLOCK
            yield worker.update(bytes([count]) * count)
        elif self._padded == "zero":
            yield worker.update(bytes(-size % _BLOCK))
        try:
            yield worker.finalize()
        except ValueError:
            raise WrongUseError(
                "Without padding, AES takes whole blocks of 16 bytes only."
            ) from None

    def _opened(self, key: bytes, vector: bytes, body: Payload) -> Iterator[bytes]:
        from cryptography.exceptions import InvalidTag

        if self.spec.tag == "front":
            tag, rest = head(body, _BLOCK), SlicedPayload(body, _BLOCK)
            if len(tag) < _BLOCK:
                raise DamagedError("The AES data is shorter than its tag.")
            stream: Iterator[bytes] = rest.chunks()
        else:
            tail: list[bytes] = []
            stream = without_tail(body, _BLOCK, tail)
            tag = b""
        worker = self._cipher(key, vector, tag or None).decryptor()
        for chunk in stream:
            yield worker.update(chunk)
        try:
            if self.spec.tag == "front":
                yield worker.finalize()
            else:
                yield worker.finalize_with_tag(b"".join(tail))
        except (InvalidTag, ValueError):
            raise DamagedError(
                "The AES data can't be opened: its key or its bytes are wrong."
            ) from None

    def _sealed(self, key: bytes, vector: bytes, inside: Payload) -> Iterator[bytes]:
        if self.spec.tag == "front":
            worker = self._cipher(key, vector).encryptor()
            for chunk in inside.chunks():
                worker.update(chunk)
            worker.finalize()
            yield worker.tag
        worker = self._cipher(key, vector).encryptor()
        for chunk in inside.chunks():
            yield worker.update(chunk)
        yield worker.finalize()
        if self.spec.tag == "end":
            yield worker.tag


def _secret(spec: SecretSpec, known: Known) -> bytes:
    if spec.hex is not None:
        return bytes.fromhex(spec.hex)
    name = spec.given or ""
    if name not in known.stated:
        raise KeyNeededError(
            f"This save is encrypted, and its {name} is not known.",
            advice=f"State it with --give {name}=HEX; --give {name} alone asks for it.",
        )
    try:
        return bytes.fromhex(known.stated[name])
    except ValueError:
        raise WrongUseError(f"--give {name}: it must be hexadecimal digits.") from None
