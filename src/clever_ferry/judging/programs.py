"""Programs of each system: where they are, how they are shut in, started, watched and ended."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

import psutil

from clever_ferry.errors import RefusedError

__all__ = [
    "MARK", "bare_environment", "end_all", "find_program", "memory_of", "sandbox", "start",
]  # fmt: skip

MARK = "CFERRY_SCRATCH"
"""The variable by which everything that a program has started is known."""
_FOLDERS = {
    "linux": ("/usr/games", "/usr/local/games", "/usr/local/bin", "/usr/bin", "/snap/bin",
              "/var/lib/flatpak/exports/bin", "~/.local/bin", "~/.local/share/flatpak/exports/bin"),
    "darwin": ("/usr/local/bin", "/opt/homebrew/bin", "/Applications/{name}.app/Contents/MacOS",
               "~/Applications/{name}.app/Contents/MacOS"),
    "win32": ("%ProgramFiles%/{name}", "%ProgramFiles(x86)%/{name}",
              "%LocalAppData%/Programs/{name}"),
}  # fmt: skip
"""Where games' programs are that no PATH names."""
_KEPT = {
    "win32": ("SystemRoot", "SystemDrive", "ComSpec", "PATHEXT", "NUMBER_OF_PROCESSORS",
              "ProgramFiles", "ProgramFiles(x86)", "ProgramData", "windir"),
}  # fmt: skip
_SHUT_IN = (
    "--die-with-parent", "--new-session", "--unshare-user", "--unshare-pid", "--unshare-net",
    "--unshare-ipc", "--uid", "1000", "--gid", "1000", "--ro-bind", "/", "/", "--dev", "/dev",
    "--proc", "/proc",
)  # fmt: skip
"""Of everything only reading, no network but the loopback, and an ordinary user."""
_ROUNDS = 20
"""So often what is left of a program is looked for and ended."""


def find_program(names: Sequence[str]) -> Path | None:
    """Return the first of some programs that is on this computer, by PATH and the usual folders."""
    for name in names:
        folders = [os.environ.get("PATH", ""), *(
            os.path.expandvars(Path(one.format(name=name)).expanduser())
            for one in _FOLDERS.get(sys.platform, ())
        )]  # fmt: skip
        if found := shutil.which(name, path=os.pathsep.join(folders)):
            return Path(found)
    return None


@cache
def sandbox() -> tuple[str, str]:
    """Return the program that shuts others in, and '', or '' and why there is none."""
    if sys.platform != "linux":
        return "", "this system has none that cferry knows"
    found = shutil.which("bwrap")
    if found is None:
        return "", "bubblewrap is not installed"
    done = subprocess.run(
        [found, *_SHUT_IN, "true"], stdin=subprocess.DEVNULL, capture_output=True, check=False,
        encoding="utf-8", errors="replace", timeout=60,
    )  # fmt: skip
    if done.returncode:
        return "", f"bubblewrap can't make one here ({done.stderr.strip()[:200]})"
    return found, ""


def bare_environment(scratch: Path, own: Mapping[str, str]) -> dict[str, str]:
    """Return all variables that a program gets: its home and data are in the scratch folder."""
    home = scratch / "home"
    (scratch / "tmp").mkdir(exist_ok=True)
    for name in ("", ".local/share", ".config", ".cache"):
        (home / name).mkdir(parents=True, exist_ok=True)
    kept = {name: os.environ[name] for name in _KEPT.get(sys.platform, ()) if name in os.environ}
    path = os.pathsep.join(filter(None, [os.environ.get("PATH"), *(
        one for one in _FOLDERS.get(sys.platform, ()) if "/games" in one)]))  # fmt: skip
    given = {
        "PATH": path, "HOME": home, "USERPROFILE": home, "APPDATA": home / ".config",
        "LOCALAPPDATA": home / ".local/share", "XDG_DATA_HOME": home / ".local/share",
        "XDG_CONFIG_HOME": home / ".config", "XDG_CACHE_HOME": home / ".cache",
        "TMPDIR": scratch / "tmp", "TEMP": scratch / "tmp", "TMP": scratch / "tmp",
        "LANG": "C.UTF-8", "PYTHONIOENCODING": "utf-8", "SDL_VIDEODRIVER": "dummy",
        "SDL_AUDIODRIVER": "dummy", MARK: scratch,
    }  # fmt: skip
    return {**kept, **{name: str(value) for name, value in given.items()}, **own}


def start(
    command: Sequence[str], environment: Mapping[str, str], scratch: Path, *, speaks: bool,
    terminal: bool = False,
) -> subprocess.Popen[bytes]:  # fmt: skip
    """Start a program in the scratch folder, shut in where that can be; raises OSError.

    What it says on either stream comes out of its standard output. `speaks` keeps its standard
    input open. With `terminal`, all three are one; raises RefusedError where the system has none
    to give.
    """
    shut_in, _ = sandbox()
    within = [shut_in, *_SHUT_IN, "--bind", scratch, scratch, "--chdir", scratch, "--"]
    apart: Any = {"start_new_session": True}
    if sys.platform == "win32":
        apart = {"creationflags": subprocess.CREATE_NEW_PROCESS_GROUP}
    whole = [*map(str, within if shut_in else ()), *command]
    if terminal:
        return _at_terminal(whole, {"TERM": "xterm", **environment}, scratch)
    process: subprocess.Popen[bytes] = subprocess.Popen(
        whole, env=dict(environment), cwd=scratch, stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT, stdin=subprocess.PIPE if speaks else subprocess.DEVNULL,
        **apart,
    )  # fmt: skip
    return process


def _at_terminal(
    command: Sequence[str], environment: Mapping[str, str], scratch: Path
) -> subprocess.Popen[bytes]:
    if sys.platform == "win32":
        raise RefusedError("It needs a terminal of its own, which cferry can't give here.")
    import fcntl
    import pty
    import struct
    import termios

    ours, its = pty.openpty()
    try:
        fcntl.ioctl(its, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
        process = subprocess.Popen(
            command, env=dict(environment), cwd=scratch, stdin=its, stdout=its, stderr=its,
            start_new_session=True,
        )  # fmt: skip
    except BaseException:
        os.close(ours)
        raise
    finally:
        os.close(its)
    process.stdin = os.fdopen(os.dup(ours), "wb", 0)
    process.stdout = os.fdopen(ours, "rb")
    return process


def memory_of(process: subprocess.Popen[bytes]) -> int:
    """Return the bytes of memory that a program and all that it has started use."""
    found = 0
    for one in _family(process):
        with suppress(psutil.Error):
            found += one.memory_info().rss
    return found


def end_all(process: subprocess.Popen[bytes], scratch: Path, *, patience: float) -> None:
    """End a program with everything that it has started, whatever that did to get away.

    They are asked first where there is `patience` (seconds).
    """
    family = _family(process)
    if patience and process.poll() is None:
        leaves = [one for one in family if not _has_children(one)]
        for one in leaves:  # whatever has started them ends with them, and not before
            with suppress(psutil.Error):
                one.terminate()
        psutil.wait_procs(leaves, patience)
    for _ in range(_ROUNDS):  # one that is just being started shows the next time
        found = {one.pid: one for one in (*family, *_family(process), *_marked(scratch))}
        left = [one for one in found.values() if _is_alive(one)]
        if not left:
            break
        for one in left:
            with suppress(psutil.Error):
                one.kill()
        psutil.wait_procs(left, 2)  # free: it only makes for fewer rounds
        process.poll()


def _family(process: subprocess.Popen[bytes]) -> list[psutil.Process]:
    with suppress(psutil.Error):
        own = psutil.Process(process.pid)
        return [own, *own.children(recursive=True)]
    return []


def _is_alive(one: psutil.Process) -> bool:
    with suppress(psutil.Error):
        return bool(one.is_running() and one.status() != psutil.STATUS_ZOMBIE)
    return False  # free: else it only takes more rounds


def _has_children(one: psutil.Process) -> bool:
    with suppress(psutil.Error):
        return bool(one.children())
    return False


def _marked(scratch: Path) -> Iterator[psutil.Process]:
    """Yield what has left the family: it still has the variable that its first one was given."""
    for one in psutil.process_iter():
        with suppress(psutil.Error, OSError):
            if one.pid != os.getpid() and one.environ().get(MARK) == str(scratch):
                yield one
