"""Reading and writing an index of 100,000 records by description, against hand-written `struct`.

python -m benchmarks.layouts [RECORDS]
"""

from __future__ import annotations

import struct
import sys
import time
from collections.abc import Callable
from statistics import median
from typing import Any
from uuid import UUID

from clever_ferry.layouts import LayoutSpec, compile_layouts
from clever_ferry.model import convert

_SPECS = {
    "index": {
        "fields": [
            {"type": "magic", "text": "BENCH"},
            {"type": "list", "name": "records", "of": "record", "count": "u32"},
        ]
    },
    "record": {
        "fields": [
            {"type": "text", "name": "name", "length": "u16"},
            {"type": "identifier", "name": "id", "order": "mixed"},
            {"type": "time", "name": "saved", "within": "u64", "unit": "ticks-1601"},
            {"type": "u64", "name": "size"},
            {"type": "u32", "name": "packed"},
            {"type": "u32", "name": "flags"},
        ]
    },
}
_EPOCH = 11_644_473_600_000_000_000


def read_by_hand(data: bytes) -> dict[str, Any]:
    """Read the index as one would write it for this format alone."""
    assert data[:5] == b"BENCH"
    (count,) = struct.unpack_from("<I", data, 5)
    length, numbers = struct.Struct("<H"), struct.Struct("<QQII")
    at, records = 9, []
    for _ in range(count):
        (size,) = length.unpack_from(data, at)
        at += 2
        name = data[at : at + size].decode("utf-8")
        at += size
        raw = data[at : at + 16]
        text = (raw[3::-1] + raw[5:3:-1] + raw[7:5:-1] + raw[8:]).hex()
        ident = f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"
        at += 16
        saved, whole, packed, flags = numbers.unpack_from(data, at)
        at += 24
        records.append(
            {
                "name": name, "id": ident, "saved": saved * 100 - _EPOCH if saved else None,
                "size": whole, "packed": packed, "flags": flags,
            }
        )  # fmt: skip
    assert at == len(data)
    return {"records": records}


def write_by_hand(value: dict[str, Any]) -> bytes:
    """Write the index as one would write it for this format alone."""
    length, numbers = struct.Struct("<H"), struct.Struct("<QQII")
    out = [b"BENCH", struct.pack("<I", len(value["records"]))]
    for record in value["records"]:
        name = record["name"].encode("utf-8")
        saved = record["saved"]
        out += (
            length.pack(len(name)),
            name,
            UUID(record["id"]).bytes_le,
            numbers.pack(
                0 if saved is None else (saved + _EPOCH) // 100,
                record["size"], record["packed"], record["flags"],
            ),
        )  # fmt: skip
    return b"".join(out)


def timed(ours: Callable[[], Any], theirs: Callable[[], Any], rounds: int = 5) -> float:
    """Return the median ratio of the times of two functions, run in turn."""
    ratios = []
    for _ in range(rounds + 1):
        times = []
        for one in (ours, theirs):
            started = time.perf_counter()
            one()
            times.append(time.perf_counter() - started)
        ratios.append(times[0] / times[1])
    return median(ratios[1:])


def main() -> None:
    """Print both ratios."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    layout = compile_layouts({k: convert(v, LayoutSpec) for k, v in _SPECS.items()})["index"]
    value = {
        "records": [
            {
                "name": f"save {n} of Wren's isle", "id": str(UUID(int=n * 2**70 + 12345)),
                "saved": 1_700_000_000_000_000_000 + n * 100, "size": n * 1000, "packed": n,
                "flags": n % 7,
            }
            for n in range(count)
        ]
    }  # fmt: skip
    data = write_by_hand(value)
    assert layout.write(value) == data
    assert layout.read_whole(data) == value == read_by_hand(data)
    reading = timed(lambda: layout.read_whole(data), lambda: read_by_hand(data))
    writing = timed(lambda: layout.write(value), lambda: write_by_hand(value))
    print(f"reading {count:,} records: {reading:.2f} times hand-written code (at most 2 wanted)")
    print(f"writing {count:,} records: {writing:.2f} times hand-written code (at most 2 wanted)")


if __name__ == "__main__":
    main()
