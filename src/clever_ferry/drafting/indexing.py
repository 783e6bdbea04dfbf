"""Indexes over blobs with names that mean nothing: on their own, and on shelves."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import accumulate, islice
from typing import Any, NamedTuple

from clever_ferry.drafting.boxed import Boxed, Folder
from clever_ferry.drafting.tabling import (
    Bytes,
    Laid,
    Roles,
    front_fields,
    record_fields,
    tail_fields,
)
from clever_ferry.studying.names import NameKind
from clever_ferry.studying.rows import Marked, Rows, rows_around

__all__ = ["Indexes"]

_MOST_TRIED, _MOST_WAYS, _MOST_ASKED = 200, 60, 16
"""Files that may be an index, ways in which one may be built, names that are asked for first."""
_MOST_ROWS, _MOST_READ, _LARGEST_INDEX = 48, 64 << 20, 16 << 20
"""Entries of which the bytes are looked at, and how many these are together; bytes of an index."""


class _Ids(NamedTuple):
    """How names of files stand in an index: as which field, and the bytes of each."""

    spec: dict[str, Any]
    field: dict[str, Any]
    size: int
    raws: dict[str, bytes]


class _Table(NamedTuple):
    """An index file, what of others' names stands in it, and what each of these is."""

    raw: bytes
    names: tuple[str, ...]
    at: tuple[int, ...]


class Indexes(NamedTuple):
    """Ways in which a folder may be blobs behind an index."""

    folder: Folder

    # Indexes ------------------------------------------------------------------------------

    def indexed(self) -> Iterator[Boxed]:
        """Yield indexes over blobs that have no other name than an identifier."""
        for kind in self.folder.kinds[:20]:
            ident = _identifier(kind)
            if ident is None or len({*kind.fields} - {ident, "n1"}):
                continue
            blob, fields, parts = _blobs(kind, ident)
            for path in self._others(kind):
                raw = self.folder.raw(path)
                for ids in _spelled(kind.fields[ident]):
                    table = _table(raw, ids)
                    if table is not None:
                        spec = {"kind": "indexed", "index": path, "blob": blob, "fields": fields}
                        yield from self._index(spec, [table], ids, [parts], "")

    def suspected(self) -> str:
        """Return a file that names blobs as an index does; '' where there is none."""
        for kind in self.folder.kinds[:20]:
            ident = _identifier(kind)
            for path in self._others(kind) if ident is not None else ():
                raw = self.folder.raw(path)
                if any(_table(raw, ids) for ids in _spelled(kind.fields[ident or ""])):
                    return path
        return ""

    def _others(self, kind: NameKind) -> list[str]:
        """Return files that may be an index of others: they are of another kind, and small."""
        others = [one for other in self.folder.kinds if other is not kind for one in other.paths]
        every = [one for one in others if 16 <= self.folder.infos[one].size <= _LARGEST_INDEX]
        return sorted(every)[:_MOST_TRIED]

    def _index(
        self, spec: dict[str, Any], tables: Sequence[_Table], ids: _Ids,
        parts: Sequence[Mapping[str, Sequence[str]]], prefix: str,
    ) -> Iterator[Boxed]:  # fmt: skip
        """Yield how index files of one kind are built, each with the paths of its blobs by name."""
        sizes = [
            tuple(tuple(self.folder.infos[one].size for one in own[name]) for name in table.names)
            for table, own in zip(tables, parts, strict=True)
        ]
        cut = any(len(one) > 1 for own in sizes for one in own)
        samples = [
            Marked(table.raw, table.at, own if cut else ())
            for table, own in zip(tables, sizes, strict=True)
        ]
        every = [
            own[name] for table, own in zip(tables, parts, strict=True) for name in table.names
        ]
        each, pieces = self._read(every)
        totals = [sum(map(sum, own)) for own in sizes]
        newest: list[int] = []
        begin = 0
        for table in tables:
            newest.append(max(each.stamps[begin : begin + len(table.names)]))
            begin += len(table.names)
        order = _order(samples, sizes)
        for rows in rows_around(samples, ids.size, self.folder.budget, order=order):
            found = Boxed({}, {}, _case_doubt(ids))
            laid = self._layouts(
                found, prefix, [one.raw for one in tables], rows, ids.field, each, pieces,
                {"size": totals}, newest, order,
            )  # fmt: skip
            if laid is None:
                continue
            roles, front, inner = laid
            if not roles.name:
                continue
            made = {**spec, **self._record(found, prefix, laid, ids)}
            if roles.rows:
                longest = max(one for own in sizes for sized in own for one in sized)
                made["parts"] = {"at": f"{inner}/{roles.rows}", "most": longest}
                if roles.part_size:
                    made["parts"]["size"] = f"/{roles.part_size}"
                if roles.part_check[0]:
                    at, what = roles.part_check
                    made["parts"]["check"] = {"at": f"/{at}", "what": what}
            elif roles.check[0]:
                made["check"] = {"at": f"{inner}/{roles.check[0]}", "what": roles.check[1]}
            if "size" in front and (roles.size or roles.part_size):
                made["tallies"] = [{"at": f"/{front['size'][0]}", "what": "size"}]
            found.format = made
            yield found

    def _read(self, blobs: Sequence[Sequence[str]]) -> tuple[Bytes, Bytes]:
        """Return entries' bytes, as far as they are looked at, and those of all their parts."""
        infos = self.folder.infos
        sizes = [[infos[one].size for one in own] for own in blobs]
        stamps = [max(infos[one].stamp for one in own) for own in blobs]
        whole: dict[int, bytes] = {}
        single: dict[int, bytes] = {}
        firsts = [0, *accumulate(map(len, blobs))]
        left = _MOST_READ
        for row in range(0, len(blobs), -(-len(blobs) // _MOST_ROWS)):
            if (left := left - sum(sizes[row])) < 0:
                break
            raws = [self.folder.raw(one) for one in blobs[row]]
            whole[row] = b"".join(raws)
            single |= {firsts[row] + number: one for number, one in enumerate(raws)}
        flat = [one for own in sizes for one in own]
        every = [stamp for own, stamp in zip(blobs, stamps, strict=True) for _ in own]
        return Bytes([*map(sum, sizes)], stamps, whole), Bytes(flat, every, single)

    def _record(
        self, found: Boxed, prefix: str,
        laid: tuple[Roles, Mapping[str, tuple[str, str]], str], ids: _Ids,
    ) -> dict[str, Any]:  # fmt: skip
        """Return the keys of an index that say what is what in it."""
        roles, front, inner = laid
        base = f"{self.folder.own}{prefix}"
        made: dict[str, Any] = {
            "layout": f"{base}index", "record": f"{base}{'framed' if inner else 'row'}",
            "entries": "/rows", "name": f"{inner}/name", "identifier": f"{inner}/id",
            "identifier_size": ids.size,
        }  # fmt: skip
        if roles.size:
            made["size"] = f"{inner}/{roles.size}"
        if roles.stamp[0]:
            made["stamp"] = {"at": f"{inner}/{roles.stamp[0]}", "unit": roles.stamp[1]}
        if "written" in front:
            made["written"] = {"at": f"/{front['written'][0]}", "unit": front["written"][1]}
        return made

    def _layouts(
        self, found: Boxed, prefix: str, raws: Sequence[bytes], rows: Rows,
        known: dict[str, Any], each: Bytes, parts: Bytes,
        totals: Mapping[str, Sequence[int]], newest: Sequence[int], order: str = "",
    ) -> tuple[Roles, dict[str, tuple[str, str]], str] | None:  # fmt: skip
        """Describe an index file; return what is what in a record and in front, and its record's
        place in a row."""
        base = f"{self.folder.own}{prefix}"
        record, part, roles = record_fields(
            rows, raws, known, each, parts, {}, f"{base}part", self.folder.budget, order
        )
        bodies = [raw[begin:] for raw, begin in zip(raws, rows.begins, strict=True)]
        front = front_fields(
            raws, rows, totals, self.folder.texts, newest, self.folder.budget, bodies=bodies,
            order=record.order,
        )  # fmt: skip
        tail = tail_fields(raws, rows.ends)
        if front is None or tail is None:
            return None
        top, count, what = front
        of = f"{base}framed" if rows.frame is not None else f"{base}row"
        top.add({"type": "list", "name": "rows", "of": of, "count": count})
        top.append(tail)
        if "check" in what:
            name, span = what["check"]
            last = top.fields[-1]["name"]
            spec = next(one for one in top.fields if one.get("name") == name)
            within = {"from": "rows", "to": last} if last != "rows" else "rows"
            spec["computed"]["of"] = {"onward": "after", "inside": within}.get(span, span)
        found.layouts[f"{base}index"] = top
        if rows.frame is not None:
            framed = Laid()
            framed.add({"type": "layout", "name": "record", "of": f"{base}row",
                        "length": _length(rows.frame)})  # fmt: skip
            found.layouts[f"{base}framed"] = framed
        found.layouts[f"{base}row"] = record
        if roles.rows:
            found.layouts[f"{base}part"] = part
        found.doubt(record, top, tail)
        return roles, what, "/record" if rows.frame is not None else ""

    # Shelves ------------------------------------------------------------------------------

    def shelves(self) -> Iterator[Boxed]:
        """Yield folders with identifiers for names, each with an index over its own blobs."""
        for kind in self.folder.kinds[:20]:
            folder, slash, rest = kind.pattern.partition("/")
            inner = [name for name in kind.fields if f"{{{name}}}" in rest]
            outer = [name for name in kind.fields if folder == f"{{{name}}}"]
            if not slash or len(outer) != 1 or len(inner) != 1 or "/" in rest:
                continue
            if inner[0][0] not in "xi" or outer[0][0] not in "xi":
                continue
            yield from self._shelved(kind, outer[0], inner[0], rest)

    def _shelved(self, kind: NameKind, outer: str, inner: str, rest: str) -> Iterator[Boxed]:
        of: dict[str, dict[str, str]] = {}
        for at, path in enumerate(kind.paths):
            of.setdefault(kind.fields[outer][at], {})[kind.fields[inner][at]] = path
        for name in self._beside(of):
            shelf = self.folder.best(islice(self._shelf(of, name, inner, rest), _MOST_WAYS))
            if shelf is None:
                continue
            topped = self.folder.best(islice(self._topped(shelf, of), _MOST_WAYS))
            yield topped or shelf

    def _beside(self, of: Mapping[str, Mapping[str, str]]) -> list[str]:
        """Return the files that every shelf has beside its blobs."""
        blobs = {path for own in of.values() for path in own.values()}
        names = {
            path.partition("/")[2] for path in self.folder.infos
            if path.partition("/")[0] in of and path not in blobs
        }  # fmt: skip
        return sorted(
            name for name in names
            if "/" not in name and all(f"{one}/{name}" in self.folder.infos for one in of)
        )  # fmt: skip

    def _shelf(
        self, of: Mapping[str, Mapping[str, str]], name: str, inner: str, rest: str
    ) -> Iterator[Boxed]:
        """Yield shelves whose folders name them, with an index in each."""
        folders = next(iter(_spelled(list(of))))
        for ids in _spelled([one for own in of.values() for one in own]):
            tables = []
            for shelf, own in of.items():
                raws = {one: ids.raws[one] for one in own}
                raw = self.folder.raw(f"{shelf}/{name}")
                table = _table(raw, ids._replace(raws=raws), fewest=1)
                if table is not None:
                    tables.append(table)
            if len(tables) < len(of):
                continue
            blob = rest.replace(f"{{{inner}}}", "{id}")
            spec = {"index": name, "blob": blob, "fields": {"id": ids.spec}}
            parts = [{one: [path] for one, path in own.items()} for own in of.values()]
            for found in self._index(spec, tables, ids, parts, "shelf-"):
                found.format = {
                    "kind": "shelves", "folder": "{id}", "fields": {"id": folders.spec},
                    "shelf": found.format,
                }  # fmt: skip
                yield found

    def _topped(self, found: Boxed, of: Mapping[str, Mapping[str, str]]) -> Iterator[Boxed]:
        """Yield shelves with the index of them all."""
        infos = self.folder.infos
        sizes = {one: sum(infos[path].size for path in own.values()) for one, own in of.items()}
        stamps = {one: max(infos[path].stamp for path in own.values()) for one, own in of.items()}
        for path in [one for one in infos if "/" not in one]:
            raw = self.folder.raw(path)
            for ids in _spelled(list(of)):
                table = _table(raw, ids)
                if table is None:
                    continue
                # Of a whole shelf, only how large it is can stand there.
                each = Bytes([sizes[one] for one in table.names],
                             [stamps[one] for one in table.names])  # fmt: skip
                marked = Marked(raw, table.at)
                for rows in rows_around([marked], ids.size, self.folder.budget):
                    made = Boxed({}, dict(found.layouts), [*found.doubts, *_case_doubt(ids)])
                    laid = self._layouts(
                        made, "top-", [raw], rows, ids.field, each, Bytes(), {},
                        [max(stamps.values())],
                    )  # fmt: skip
                    if laid is not None and laid[0].name:
                        top = {"index": path, **self._record(made, "top-", laid, ids)}
                        top["shelves"] = top.pop("entries")
                        made.format = {**found.format, "top": top}
                        yield made


# Names that are identifiers ------------------------------------------------------------------


def _identifier(kind: NameKind) -> str | None:
    """Return which part of files' names is an identifier, where exactly one is."""
    found = [name for name in kind.fields if name[0] in "xi"]
    return found[0] if len(found) == 1 and len(set(kind.fields[found[0]])) > 1 else None


def _blobs(kind: NameKind, ident: str) -> tuple[str, dict[str, Any], dict[str, list[str]]]:
    """Return the pattern of blobs with its fields, and the paths of each identifier's parts."""
    blob = kind.pattern.replace(f"{{{ident}}}", "{id}").replace("{n1}", "{part}")
    spec = next(iter(_spelled(kind.fields[ident]))).spec
    fields: dict[str, Any] = {"id": spec}
    numbers = kind.fields.get("n1")
    by: dict[str, list[tuple[int, str]]] = {}
    for at, path in enumerate(kind.paths):
        number = int(numbers[at]) if numbers else 0
        by.setdefault(kind.fields[ident][at], []).append((number, path))
    if numbers:
        widths = {len(one) for one in numbers}
        padded = len(widths) == 1 and any(one.startswith("0") and len(one) > 1 for one in numbers)
        fields["part"] = {"type": "number", "first": min(map(int, numbers)),
                          **({"width": widths.pop()} if padded else {})}  # fmt: skip
    return blob, fields, {name: [path for _, path in sorted(own)] for name, own in by.items()}


def _spelled(names: Sequence[str]) -> Iterator[_Ids]:
    """Yield how identifiers may stand in an index: as their bytes, or as text."""
    every = sorted(set(names))
    lengths = {len(one) for one in every}
    if len(lengths) != 1:
        return
    plain = {one: one.replace("-", "") for one in every}
    size = len(next(iter(plain.values()))) // 2
    if size < 4 or any(len(one) != 2 * size for one in plain.values()):
        return
    upper = any(one != one.lower() for one in every)
    case = {"case": "upper"} if upper else {}
    straight = {one: bytes.fromhex(text) for one, text in plain.items()}
    if any("-" in one for one in every):
        spec: dict[str, Any] = {"type": "identifier", **case}
        mixed = {
            one: raw[3::-1] + raw[5:3:-1] + raw[7:5:-1] + raw[8:] for one, raw in straight.items()
        }
        yield _Ids(spec, {"type": "identifier", "name": "id", "order": "big"}, 16, straight)
        yield _Ids(spec, {"type": "identifier", "name": "id", "order": "mixed"}, 16, mixed)
    else:
        spec = {"type": "hex", "length": 2 * size, **case}
        yield _Ids(spec, {"type": "bytes", "name": "id", "size": size}, size, straight)
        if size == 16:
            mixed = {
                one: raw[3::-1] + raw[5:3:-1] + raw[7:5:-1] + raw[8:]
                for one, raw in straight.items()
            }
            told = {"type": "identifier", "name": "id", "order": "mixed"}
            yield _Ids(spec, told, 16, mixed)
    text = {one: one.encode() for one in every}
    length = lengths.pop()
    yield _Ids(spec, {"type": "text", "name": "id", "size": length}, size, text)


def _table(raw: bytes, ids: _Ids, fewest: int = 2) -> _Table | None:
    """Return where identifiers stand in an index, once each, in its order; None where few do.

    Blobs that no index names are left behind by many a store.
    """
    names = list(ids.raws)
    some = names[:: -(-len(names) // _MOST_ASKED)]
    if 2 * sum(ids.raws[one] in raw for one in some) < len(some):
        return None
    found: list[tuple[int, str]] = []
    for name, own in ids.raws.items():
        at = raw.find(own)
        if at >= 0:
            if raw.find(own, at + len(own)) >= 0:
                return None
            found.append((at, name))
    if len(found) < fewest or 4 * len(found) < 3 * len(names):
        return None
    found.sort()
    return _Table(raw, tuple(name for _, name in found), tuple(at for at, _ in found))


def _case_doubt(ids: _Ids) -> list[str]:
    """Say where no letter shows in which case identifiers are written."""
    if any(char.isalpha() for name in ids.raws for char in name):
        return []
    return ["no letter stands in the names that are identifiers: new ones get small letters"]


def _order(samples: Sequence[Marked], sizes: Sequence[Sequence[Sequence[int]]]) -> str:
    """Return in which order of bytes the sizes of blobs stand in an index; '' if it is open."""
    found = {"little": 0, "big": 0}
    for sample, own in zip(samples, sizes, strict=True):
        for one in {size for parts in own for size in parts if size > 255}:
            for order in ("little", "big"):
                found[order] += one.to_bytes(4, order) in sample.raw
    most, least = sorted(found, key=lambda order: -found[order])
    return most if found[most] and not found[least] else ""


def _length(frame: Mapping[str, Any]) -> Any:
    return frame["type"] if frame.get("order", "little") == "little" else dict(frame)
