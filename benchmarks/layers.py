"""Layers against the libraries alone on the same data, and xor against NumPy's own.

    python -m benchmarks.layers [MEBIBYTES]

Each side runs in a process of its own, so that its peak memory can be told.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
import zlib
from collections.abc import Callable
from pathlib import Path
from statistics import median

from benchmarks.measuring import Run, in_turn, ratio_line, run
from clever_ferry.layers import UNKNOWN, LayerSpec, compile_layers
from clever_ferry.layers.ciphers import Xor
from clever_ferry.layers.compressed import Compressed
from clever_ferry.layers.found import Found
from clever_ferry.layers.spec import CompressedSpec, XorSpec
from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert, tagged
from clever_ferry.moving.files import FilePayload
from clever_ferry.payload import StreamPayload

_CHUNK = 1 << 20


def unwrap(method: str, path: Path) -> None:
    """Read a packed file through the layer."""
    data = path.stat()
    source = FilePayload(str(path), data.st_size, data.st_mtime_ns)
    spec = tagged(CompressedSpec, method)()
    payload, _ = Compressed(spec).unwrap(source, Found())
    for _ in payload.chunks():
        pass


def alone(method: str, path: Path) -> None:
    """Read a packed file with the library alone."""
    if method == "zlib":
        reader = zlib.decompressobj()
        with path.open("rb", buffering=0) as file:
            while chunk := file.read(_CHUNK):
                while chunk:
                    reader.decompress(chunk, _CHUNK)
                    chunk = reader.unconsumed_tail
        reader.flush()
        return
    import zstandard

    with path.open("rb") as file:
        for _ in zstandard.ZstdDecompressor().read_to_iter(file, _CHUNK, _CHUNK):
            pass


def pack(method: str, path: Path, size: int) -> None:
    """Make a packed file of so many mebibytes of data that is packed to about half."""
    block = b"".join(os.urandom(512) + bytes(512) for _ in range(1024))
    spec = tagged(CompressedSpec, method)(level=1)
    plain = StreamPayload(lambda: (block for _ in range(size)), size << 20)
    with path.open("wb") as out:
        for chunk in Compressed(spec).wrap(plain, {}, None, UNKNOWN).chunks():
            out.write(chunk)


def xor_ratio(size: int) -> float:
    """Return our speed over NumPy's own xor of two arrays, for so many mebibytes."""
    import numpy as np

    chunks = [os.urandom(_CHUNK) for _ in range(8)]
    first = [np.frombuffer(chunk, np.uint8) for chunk in chunks]
    second = np.frombuffer(os.urandom(_CHUNK), np.uint8)
    layer = Xor(convert({"kind": "xor", "hex": "a1b2c3d4e5"}, XorSpec))
    source = StreamPayload(lambda: (chunks[n % 8] for n in range(size)))
    ratios = []
    for _ in range(5):
        started = time.perf_counter()
        for _ in layer.unwrap(source, Found())[0].chunks():
            pass
        ours = time.perf_counter() - started
        started = time.perf_counter()
        for number in range(size):
            np.bitwise_xor(first[number % 8], second)
        ratios.append((time.perf_counter() - started) / ours)
    return median(ratios)


_STREAMING: dict[str, list[dict[str, object]]] = {
    "gzip": [{"kind": "gzip", "level": 1}],
    "deflate": [{"kind": "deflate", "level": 1}],
    "xz": [{"kind": "xz", "level": 0}],
    "lzma": [{"kind": "lzma", "level": 0}],
    "bzip2": [{"kind": "bzip2", "level": 1}],
    "zstd": [{"kind": "zstd"}],
    "lz4": [{"kind": "lz4"}],
    "xor": [{"kind": "xor", "text": "lantern", "step": 3}],
    "aes-cbc": [{"kind": "aes", "mode": "cbc", "key": {"hex": "00" * 16}}],
    "aes-gcm": [{"kind": "aes", "mode": "gcm", "key": {"hex": "00" * 16}}],
    "base64": [{"kind": "base64", "line": 76}],
    "hex": [{"kind": "hex"}],
    "swap": [{"kind": "swap", "size": 4}],
    "header": [{"kind": "header", "layout": "seal"}],
    "footer": [{"kind": "footer", "layout": "seal", "size": 12}],
    "chunks": [{"kind": "chunks", "most": 65536, "header": "seal"}],
}
_SEAL = {
    "fields": [
        {"type": "u64", "name": "size", "computed": {"what": "size", "of": "inside"}},
        {"type": "u32", "name": "crc", "computed": {"what": "crc32", "of": "payload"}},
    ]
}


def through(kind: str, size: int) -> None:
    """Wrap so many mebibytes in a layer, and unwrap them again, as one stream."""
    specs = convert(_STREAMING[kind], list[LayerSpec])
    layouts = compile_layouts({"seal": convert(_SEAL, LayoutSpec)})
    chain = compile_layers({"it": specs}, layouts)["it"]
    block = b"".join(os.urandom(512) + bytes(512) for _ in range(1024))
    plain = StreamPayload(lambda: (block for _ in range(size)), size << 20)
    total = sum(len(chunk) for chunk in chain.unwrap(chain.wrap(plain)).payload.chunks())
    assert total == size << 20


def side(what: str, method: str, path: Path) -> Callable[[], Run]:
    """Return a run of one side in a process of its own."""
    return lambda: run([sys.executable, "-m", "benchmarks.layers", what, method, str(path)])


def main() -> None:
    """Print the ratios."""
    if len(sys.argv) == 4 and sys.argv[1] == "through":
        through(sys.argv[2], int(sys.argv[3]))
        return
    if len(sys.argv) == 4:
        (unwrap if sys.argv[1] == "unwrap" else alone)(sys.argv[2], Path(sys.argv[3]))
        return
    size = int(sys.argv[1]) if len(sys.argv) > 1 else 1024
    with tempfile.TemporaryDirectory() as name:
        for method in ("zlib", "zstd"):
            path = Path(name) / method
            pack(method, path, size)
            ours, theirs = in_turn(side("unwrap", method, path), side("alone", method, path), 3)
            what = f"{size} MiB through {method} against the library alone"
            print(ratio_line(what, ours, theirs, 1.3))
    for kind in _STREAMING:
        done = run([sys.executable, "-m", "benchmarks.layers", "through", kind, str(size // 4)])
        print(f"{size // 4} MiB through {kind} and back: peak memory {done.memory / 1e6:.0f} MB")
    print(f"xor at {xor_ratio(size):.2f} of the speed of NumPy's own (over 0.5 wanted)")


if __name__ == "__main__":
    main()
