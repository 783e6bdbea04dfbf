"""Known folders as each system gives them, on computers that a test describes."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from clever_ferry.cli.times import moment
from clever_ferry.errors import WrongUseError
from clever_ferry.finding.known_folders import LAYOUTS, Machine, known_folders, moved_documents
from clever_ferry.moving.system import mounted_disks

WINDOWS = Path("C:/Users/Zoë")
LOW = "{A520A1A4-1780-4FF6-BD18-167343C5AF16}"
DOCUMENTS = "{FDD39AD0-238F-46AF-ADB4-6C85480369C7}"


def test_windows_is_asked_and_its_answer_counts() -> None:
    moved = {DOCUMENTS: "D:/Eigene Dateien", LOW: "E:/Low"}
    found = known_folders(Machine("windows", WINDOWS, {}, moved.get))
    assert found["documents"] == Path("D:/Eigene Dateien")
    assert found["low-data"] == Path("E:/Low")
    assert found["saved-games"] == WINDOWS / "Saved Games"
    assert found["roaming-data"] == WINDOWS / "AppData/Roaming"
    assert found["home"] == WINDOWS


def test_linux_goes_by_its_variables_and_by_user_dirs(tmp_path: Path) -> None:
    home = tmp_path / "wren"
    config = home / "conf"
    config.mkdir(parents=True)
    (config / "user-dirs.dirs").write_text(
        '# made by a desktop\nXDG_DOCUMENTS_DIR="$HOME/Schriften und Stücke"\n'
        f'XDG_DOWNLOAD_DIR="{tmp_path}/all"\nnonsense\n'
    )
    variables = {"XDG_DATA_HOME": str(tmp_path / "data"), "XDG_CONFIG_HOME": str(config)}
    found = known_folders(Machine("linux", home, variables))
    assert found["xdg-data"] == tmp_path / "data"
    assert found["documents"] == home / "Schriften und Stücke"
    assert found["downloads"] == tmp_path / "all"
    assert found["sandboxes"] == home / ".var/app"
    plain = known_folders(Machine("linux", home, {"XDG_DATA_HOME": "not/absolute"}))
    assert plain["xdg-data"] == home / ".local/share"
    assert plain["documents"] == home / "Documents"
    assert moved_documents(config, home, tmp_path / "disk")["downloads"].is_relative_to(
        tmp_path / "disk"
    )


def test_macos_has_its_library() -> None:
    found = known_folders(Machine("macos", Path("/Users/isa")))
    assert found["app-support"] == Path("/Users/isa/Library/Application Support")
    assert set(LAYOUTS["macos"]) <= set(found)


@given(st.binary(max_size=300))
def test_any_settings_file_is_survived(
    tmp_path_factory: pytest.TempPathFactory, raw: bytes
) -> None:
    folder = tmp_path_factory.mktemp("config")
    (folder / "user-dirs.dirs").write_bytes(raw)
    assert all(place.parts for place in moved_documents(folder, folder).values())


def test_moments_as_people_type_them() -> None:
    now = 1_700_000_000.0
    assert moment("90s", now) == int(now - 90) * 10**9
    assert moment("2h", now) == int(now - 7200) * 10**9
    assert 0 <= now - moment("18:30", now) / 1e9 <= 86_400
    assert moment("2026-11-20 18:30") - moment("2026-11-20") == 66_600 * 10**9
    for nonsense in ("soon", "", "10", "25:00", "2026-13-01"):
        with pytest.raises(WrongUseError, match="no time"):
            moment(nonsense, now)


def test_the_disks_that_are_mounted_are_told_but_for_the_systems_own(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "disk").mkdir()
    places = [Path.home().anchor, "/boot/efi", str(tmp_path / "disk"), str(tmp_path / "gone")]
    parts = [SimpleNamespace(mountpoint=one) for one in places]
    monkeypatch.setattr("psutil.disk_partitions", lambda all: parts)
    assert mounted_disks() == [tmp_path / "disk"]
