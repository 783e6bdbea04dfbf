"""`unbox` and `box`: apart and together again, the same where nothing changed."""

from __future__ import annotations

import gzip
import io
import json
import lzma
import tarfile
import zipfile
from pathlib import Path

import pytest

from clever_ferry_demo.saltglass.tern import Crate
from tests.conftest import Den, state


def files_of(folder: Path) -> dict[str, bytes]:
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file()
    }


def test_a_crate_apart_and_together(den: Den, tmp_path: Path) -> None:
    before = state(den.top)
    listed = den.cferry("unbox", den.tern, "--list", "--json").data
    assert listed["opened_as"] == "box:tern-crate"
    assert [p["name"] for p in listed["pieces"]][:2] == ["isle1.level", "isle1.about"]
    den.cferry("unbox", den.tern, "-o", tmp_path / "apart")
    assert state(den.top) == before
    assert json.loads((tmp_path / "apart/pieces/isle2.about").read_text())["clock"]["day"] == 31
    den.cferry("box", tmp_path / "apart", "-o", tmp_path / "same")
    assert files_of(tmp_path / "same") == files_of(den.tern)
    (tmp_path / "apart/pieces/isle2.about").write_bytes(b"{}")
    (tmp_path / "apart/pieces/isle1.folk.Oona").unlink()
    (tmp_path / "apart/pieces/isle9.note").write_bytes(b"new")
    done = den.cferry("box", tmp_path / "apart", "-o", tmp_path / "other", "--json").data
    assert (done["changed"], done["added"], done["removed"]) == (
        ["isle2.about"], ["isle9.note"], ["isle1.folk.Oona"],
    )  # fmt: skip
    entries = {record.name: record.data for record in Crate.read(tmp_path / "other").records}
    assert entries["isle2.about"] == b"{}"
    assert entries["isle9.note"] == b"new"
    assert "isle1.folk.Oona" not in entries


def test_a_layer_by_its_recipe(den: Den, tmp_path: Path) -> None:
    world = next(den.depot.glob("voyage-02-*/world.sgw"))
    refused = den.cferry("unbox", world, "--list", code=5)
    assert "--as" in refused.err
    den.cferry("unbox", world, "--as", "saltglass:sealed", "-o", tmp_path / "apart")
    piece = next((tmp_path / "apart/pieces").iterdir())
    assert piece.read_bytes()[:4] == b"ISLE"
    den.cferry("box", tmp_path / "apart", "-o", tmp_path / "world.sgw")
    assert (tmp_path / "world.sgw").read_bytes() == world.read_bytes()
    piece.write_bytes(piece.read_bytes().replace(b"~", b"#"))
    den.cferry("box", tmp_path / "apart", "-o", tmp_path / "changed.sgw")
    world.write_bytes((tmp_path / "changed.sgw").read_bytes())
    assert den.loads("depot", 3).startswith("Heron Point")  # its checksums are right again


@pytest.mark.parametrize("name", ["one.gz", "one.xz.gz", "all.zip", "all.tar", "one.xz"])
def test_what_is_recognised_by_its_content(den: Den, tmp_path: Path, name: str) -> None:
    text = b"the isle of glass\n" * 400
    path = tmp_path / name
    out = io.BytesIO()
    if name == "all.zip":
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("a/b.txt", text)
            archive.writestr("../escape.txt", b"out")
            archive.writestr("aux", b"device")
    elif name == "all.tar":
        with tarfile.open(fileobj=out, mode="w") as archive:
            for member in ("a/b.txt", "/abs.txt"):
                info = tarfile.TarInfo(member)
                info.size = len(text)
                archive.addfile(info, io.BytesIO(text))
            link = tarfile.TarInfo("link")
            link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
            archive.addfile(link)
    else:
        packed = text
        for ending in name.split(".")[1:]:
            packed = gzip.compress(packed) if ending == "gz" else lzma.compress(packed)
        out.write(packed)
    path.write_bytes(out.getvalue())
    inside = tmp_path / "work"
    inside.mkdir()
    den.cferry("unbox", path, "-o", inside / "apart")
    pieces = files_of(inside / "apart/pieces")
    assert text in pieces.values()
    assert "link" not in pieces
    assert sorted(p.name for p in inside.iterdir()) == ["apart"]
    assert not (tmp_path / "escape.txt").exists()
    den.cferry("box", inside / "apart", "-o", tmp_path / "again")
    assert (tmp_path / "again").read_bytes() == path.read_bytes()


def test_wrong_input(den: Den, tmp_path: Path) -> None:
    (tmp_path / "note.txt").write_text("only text")
    assert "plain text already" in den.cferry("unbox", tmp_path / "note.txt", "--list", code=5).err
    den.cferry("unbox", tmp_path / "nowhere", "--list", code=3)
    assert "-o FOLDER" in den.cferry("unbox", den.tern, code=2).err
    assert "not empty" in den.cferry("unbox", den.tern, "-o", den.top, code=4).err
    assert (
        "no layer 'x'"
        in den.cferry("unbox", tmp_path / "note.txt", "--list", "--as", "saltglass:x", code=2).err
    )
    assert (
        "There are: tern-crate"
        in den.cferry("unbox", den.tern, "--list", "--as", "nosuch", code=2).err
    )
    den.cferry("unbox", den.depot, "--list", code=5)
    assert "unbox FILE" in den.cferry("box", den.depot, "-o", tmp_path / "x", code=3).err
    den.cferry("unbox", den.tern, "-o", tmp_path / "apart")
    assert "there already" in den.cferry("box", tmp_path / "apart", "-o", den.top, code=4).err
    sorted((den.tern / "stow").iterdir())[0].unlink()
    done = den.cferry("unbox", den.tern, "-o", tmp_path / "damaged", code=5)
    assert "is missing" in done.out


def test_a_folder_from_a_stranger_reads_nothing_outside(den: Den, tmp_path: Path) -> None:
    folder = tmp_path / "apart"
    (folder / "pieces").mkdir(parents=True)
    (tmp_path / "secret.gz").write_bytes(gzip.compress(b"mine"))
    told = {"parts": 1, "how": "content:gzip", "file": "../../secret.gz", "entries": []}
    (folder / "parts.json").write_text(json.dumps(told))
    assert "leaves its folder" in den.cferry("box", folder, "-o", tmp_path / "x", code=4).err
    assert not (tmp_path / "x").exists()


def test_the_schema_is_one_that_editors_take(den: Den) -> None:
    schema = json.loads(den.cferry("recipe", "schema").out)
    assert schema["properties"]["editions"]
    assert "from" in schema["$defs"]["FactInfo"]["properties"]
    assert json.loads(den.cferry("recipe", "schema", "--box").out)["properties"]["format"]
