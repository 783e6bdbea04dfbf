"""The locker: contents kept once each by their digest, and manifests of how a folder stood.

An object is one file's bytes, compressed, named by the BLAKE2b digest of the bytes; it is
read back and compared before anything relies on it. A manifest is a JSON file that states,
for a set of paths of one folder, what was there: files with their data, and what was absent.
"""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass
from pathlib import Path

import zstandard

from clever_ferry.cargo import DigestedPayload, digest_of
from clever_ferry.errors import DamagedError
from clever_ferry.moving import FolderFiles, sync_folder
from clever_ferry.moving.system import replace_file
from clever_ferry.payload import CHUNK, Payload, StreamPayload

__all__ = ["KeptFile", "KeptFolder", "Locker", "Manifest"]


@dataclass(frozen=True)
class KeptFile:
    """One file as it stood: size in bytes, permission bits, stamp in ns, digest in hex."""

    path: str
    size: int
    mode: int
    stamp: int
    digest: str


@dataclass(frozen=True)
class KeptFolder:
    """One folder as it stood; '' is the root."""

    path: str
    stamp: int


@dataclass(frozen=True)
class Manifest:
    """How the named paths of one folder stood at one time."""

    id: str
    root: str
    made: int
    note: str
    files: tuple[KeptFile, ...]
    absent: tuple[str, ...]
    folders: tuple[KeptFolder, ...]
    absent_folders: tuple[str, ...]

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(file.size for file in self.files)


class Locker:
    """Backups below one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def keep(
        self,
        ident: str,
        files: FolderFiles,
        paths: Iterable[str],
        folders: Iterable[str],
        *,
        made: int,
        note: str,
        stamps: dict[str, int] | None = None,
        progress: Callable[[int], None] = lambda _: None,
    ) -> Manifest:
        """Keep how these paths and folders stand now, verified; `stamps` overrides folders' own.

        Raises DamagedError where a kept object does not read back as what was put in.
        """
        kept: list[KeptFile] = []
        absent: list[str] = []
        for path in dict.fromkeys(paths):
            real = files.find(path)
            if real is None or not real.is_file():
                absent.append(path)
                continue
            data = real.stat()
            payload = files.payload(path)
            digest = self._put(payload, progress)
            kept.append(
                KeptFile(path, payload.size, stat.S_IMODE(data.st_mode), data.st_mtime_ns, digest)
            )
        there: list[KeptFolder] = []
        missing: list[str] = []
        for folder in dict.fromkeys(folders):
            place = files.root / folder
            if place.is_dir():
                stamp = (stamps or {}).get(folder, place.stat().st_mtime_ns)
                there.append(KeptFolder(folder, stamp))
            else:
                missing.append(folder)
        manifest = Manifest(
            ident, str(files.root), made, note,
            tuple(kept), tuple(absent), tuple(there), tuple(missing),
        )  # fmt: skip
        self._write_manifest(manifest)
        return manifest

    def _write_manifest(self, manifest: Manifest) -> None:
        folder = self.folder / "manifests"
        folder.mkdir(parents=True, exist_ok=True)
        data = json.dumps({"manifest": 1, **asdict(manifest)}, indent=1).encode()
        _write_synced(folder / f"{manifest.id}.json", [data])

    def manifest(self, ident: str) -> Manifest:
        """Read a manifest; raises DamagedError where it is missing or can't be read."""
        path = self.folder / "manifests" / f"{ident}.json"
        try:
            raw = json.loads(path.read_bytes())
            return Manifest(
                raw["id"], raw["root"], raw["made"], raw["note"],
                tuple(KeptFile(**one) for one in raw["files"]), tuple(raw["absent"]),
                tuple(KeptFolder(**one) for one in raw["folders"]), tuple(raw["absent_folders"]),
            )  # fmt: skip
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise DamagedError(f"The backup {path} can't be read: {error}.") from None

    def payload(self, file: KeptFile) -> Payload:
        """Return a kept file's bytes; reading them to the end checks their digest."""
        return StreamPayload(lambda: self._read(file.digest), file.size)

    def _object(self, digest: str) -> Path:
        return self.folder / "objects" / digest[:2] / digest[2:]

    def _put(self, payload: Payload, progress: Callable[[int], None]) -> str:
        folder = self.folder / "objects"
        folder.mkdir(parents=True, exist_ok=True)
        source = DigestedPayload(payload)
        staged = folder / f".new-{os.getpid()}"

        def packed() -> Iterator[bytes]:
            packer = zstandard.ZstdCompressor(level=1).compressobj()
            for chunk in source.chunks():
                yield packer.compress(chunk)
                progress(len(chunk))
            yield packer.flush()

        try:
            _write_synced(staged, packed())
            digest = source.digest or ""
            place = self._object(digest)
            if not place.exists():
                place.parent.mkdir(exist_ok=True)
                replace_file(staged, place)
                sync_folder(place.parent)
        finally:
            staged.unlink(missing_ok=True)
        for _ in self._read(digest):
            pass
        return digest

    def _read(self, digest: str) -> Iterator[bytes]:
        def unpacked() -> Iterator[bytes]:
            try:
                with self._object(digest).open("rb") as file:
                    yield from zstandard.ZstdDecompressor().read_to_iter(
                        file, read_size=CHUNK, write_size=CHUNK
                    )
            except (zstandard.ZstdError, FileNotFoundError) as error:
                raise DamagedError(
                    f"The backup's object {digest} can't be read: {error}."
                ) from None

        payload = DigestedPayload(StreamPayload(unpacked))
        yield from payload.chunks()
        if payload.digest != digest:
            raise DamagedError(f"The backup's object {digest} is damaged.")

    def holds(self, file: KeptFile) -> bool:
        """Tell whether a kept file can still be read whole."""
        try:
            return digest_of(self.payload(file)) == file.digest
        except DamagedError:
            return False


def _write_synced(path: Path, chunks: Iterable[bytes]) -> None:
    staged = path.with_name(path.name + ".part")
    with staged.open("wb") as out:
        for chunk in chunks:
            out.write(chunk)
        out.flush()
        os.fsync(out.fileno())
    replace_file(staged, path)
    sync_folder(path.parent)
