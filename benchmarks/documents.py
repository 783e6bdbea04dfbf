"""Places of a large XML and of blocks against code by hand; an edit of JSON against `json.loads`.

python -m benchmarks.documents [MEBIBYTES]
"""

from __future__ import annotations

import json
import resource
import sys
from collections.abc import Iterator
from typing import Any
from xml.etree import ElementTree

from benchmarks.layouts import timed
from clever_ferry.documents.blocks_text import Blocks
from clever_ferry.documents.document import Put, changed, values_in
from clever_ferry.documents.spec import BlocksSpec
from clever_ferry.payload import BytesPayload, StreamPayload


def record(number: int) -> dict[str, object]:
    """Return one row of the JSON."""
    return {"id": number, "name": f"settler {number}", "at": [number * 0.5, 1], "home": None}


def elements(size: int) -> Iterator[bytes]:
    """Yield an XML text of about so many bytes."""
    yield b"<save>"
    for number in range(size // 100):
        yield (f'<settler id="{number}"><name>settler {number}</name><gold>{number % 97}</gold>'
               f"<home>isle {number % 7}</home></settler>\n").encode()  # fmt: skip
    yield b"<day>31</day></save>"


def lines(size: int) -> Iterator[bytes]:
    """Yield a text of blocks of about so many bytes."""
    for number in range(size // 110):
        yield (f"settler {number} {{\n\tname = \"settler {number}\"\n\tgold = {number % 97}\n"
               f"\thome = isle_{number % 7}\n\tat {{ x = 1 y = 2 }}\n}}\n").encode()  # fmt: skip
    yield b"day = 31\n"


def by_lines(source: StreamPayload) -> list[str | None]:
    """Read two places of that as one would for this text alone, line by line."""
    day: str | None = None
    gold: str | None = None
    deep, settler, rest = 0, "", b""
    for chunk in source.chunks():
        *whole, rest = (rest + chunk).split(b"\n")
        for raw in whole:
            line = raw.decode().strip()
            if line.endswith("{"):
                deep += 1
                if deep == 1:
                    settler = line.split()[1]
            elif line.endswith("}"):
                deep -= line.count("}") - line.count("{")
            elif "=" in line:
                name, _, value = line.partition("=")
                if deep == 0 and name.strip() == "day":
                    day = value.strip()
                elif deep == 1 and settler == "500" and name.strip() == "gold":
                    gold = value.strip()
    return [day, gold]


def by_hand(source: StreamPayload) -> list[str | None]:
    """Read the same two places as one would for this text alone."""
    day: str | None = None
    gold: str | None = None
    parser: Any = ElementTree.XMLPullParser(["end"])
    for chunk in source.chunks():
        parser.feed(chunk)
        for _, one in parser.read_events():
            if one.tag == "settler":
                if one.get("id") == "500":
                    gold = one.findtext("gold")
                one.clear()
            elif one.tag == "day":
                day = one.text
    return [day, gold]


def main() -> None:
    """Print the ratios, and the memory that the XML took beyond what was there before."""
    size = (int(sys.argv[1]) if len(sys.argv) > 1 else 50) << 20
    pieces = list(elements(size))
    chunks = [b"".join(pieces[at : at + 10_000]) for at in range(0, len(pieces), 10_000)]
    source = StreamPayload(lambda: chunks)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    places = ["/save/day", "/save/settler/[@id=500]/gold"]
    assert values_in("xml", source, places) == [[one] for one in by_hand(source)]
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10
    xml = timed(lambda: values_in("xml", source, places), lambda: by_hand(source), 2)
    print(f"two places of {size >> 20} MiB of XML: {xml:.2f} times ElementTree by hand, "
          f"and {more} MiB")  # fmt: skip
    pieces = list(lines(size))
    chunks = [b"".join(pieces[at : at + 10_000]) for at in range(0, len(pieces), 10_000)]
    blocks, places = Blocks(BlocksSpec()), ["/day", "/settler/500/gold"]
    assert values_in(blocks, source, places) == [[one] for one in by_lines(source)]
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for asked in (places[:1], places, ["/settler/[=500]/gold"]):
        ours = timed(lambda asked=asked: values_in(blocks, source, asked),  # type: ignore[misc]
                     lambda: by_lines(source), 2)  # fmt: skip
        more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10
        told = f"{', '.join(asked)} of {size >> 20} MiB of blocks"
        print(f"{told}: {ours:.2f} times reading by lines (at most 3 wanted), and {more} MiB")
    rows = [record(number) for number in range(size // 85)]
    raw = json.dumps({"rows": rows, "day": 31}).encode()
    del rows
    for place in ("/day", f"/rows/{size // 100}/name"):
        edit = timed(
            lambda place=place: sum(  # type: ignore[misc]
                map(len, changed("json", BytesPayload(raw), [Put(place, "new")]).chunks())
            ),
            lambda: json.loads(raw), 3,
        )  # fmt: skip
        print(f"{place} edited in {len(raw) >> 20} MiB of JSON: {edit:.2f} times json.loads "
              "(at most 2 wanted)")  # fmt: skip


if __name__ == "__main__":
    main()
